//! The channels of conda: `channels` in `.condarc` (*conda documentation*, "Using the .condarc conda configuration file").
//!
//! Trap: with `channel_priority: disabled` the highest version of any channel is taken; else the first channel that has
//! the package counts.

use crate::backend::index_settings::{self, line_of, named, scope};
use crate::bytes::path;
use crate::host::Host;
use crate::model::{Evidence, Loss, ManagerId, Scope, Source};
use whodunit_formats::yaml::Node;

/// The channels that are configured.
pub(super) fn configured(host: &Host, manager: ManagerId, notes: &mut Vec<Loss>) -> Vec<Source> {
    let own = host.users.iter().flat_map(|user| {
        let names = [&b".condarc"[..], b".config/conda/.condarc", b".conda/.condarc", b".mambarc"];
        names.map(|name| (scope(user), path::join(&user.home, name)))
    });
    let of_system = ["/etc/conda/.condarc", "/etc/conda/condarc"].map(|file| (Scope::System, file.into()));
    let mut found = Vec::new();
    for file in index_settings::read(host, of_system.into_iter().chain(own), notes) {
        let node = match Node::parse(&String::from_utf8_lossy(&file.content)) {
            Ok(node) => node,
            Err(problem) => {
                notes.push(Loss::damaged(file.path.clone(), problem, "which channels it names is unknown"));
                continue;
            }
        };
        let is_merged = matches!(node.text_at("channel_priority"), Some("disabled" | "false"));
        let Some(Node::List(list)) = node.get("channels") else { continue };
        for channel in list.iter().filter_map(Node::text) {
            let name = channel.trim_end_matches('/').rsplit('/').next().unwrap_or(channel);
            let mut source = named(manager, &file, name.as_bytes(), "channel", channel, "channel");
            // A bare name stands for an address that only the settings of the server tell.
            if !channel.contains("://") {
                let line = line_of(&file.content, channel.as_bytes());
                source.evidence = vec![Evidence::line(file.path.clone(), line, format!("channel {channel}"))];
                source.url = None;
            }
            found.push(Source { is_merged, origins: vec![name.into()], ..source });
        }
    }
    found
}
