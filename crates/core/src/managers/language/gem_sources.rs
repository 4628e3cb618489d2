//! The sources of RubyGems: `:sources:` in `/etc/gemrc` and `~/.gemrc` (*RubyGems Guides*, "gem environment").

use crate::backend::index_settings::{self, called, named, scope};
use crate::bytes::path;
use crate::host::Host;
use crate::model::{Loss, ManagerId, Scope, Source};
use whodunit_formats::yaml::Node;

/// The sources that are configured. All are asked, and the highest version is taken.
pub(super) fn configured(host: &Host, manager: ManagerId, notes: &mut Vec<Loss>) -> Vec<Source> {
    let own = host.users.iter().flat_map(|user| {
        [&b".gemrc"[..], b".config/gem/gemrc"].map(|name| (scope(user), path::join(&user.home, name)))
    });
    let files = std::iter::once((Scope::System, "/etc/gemrc".into())).chain(own);
    let mut found = Vec::new();
    for file in index_settings::read(host, files, notes) {
        match Node::parse(&String::from_utf8_lossy(&file.content)) {
            Ok(node) => {
                let Some(Node::List(list)) = node.get(":sources").or_else(|| node.get("sources")) else { continue };
                for url in list.iter().filter_map(Node::text) {
                    let source = named(manager, &file, &called(url), "index", url, "source");
                    found.push(Source { is_merged: true, ..source });
                }
            }
            Err(problem) => notes.push(Loss::damaged(file.path.clone(), problem, "which sources it names is unknown")),
        }
    }
    found
}
