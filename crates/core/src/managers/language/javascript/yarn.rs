//! yarn 1: packages in its global directory, and the links that lead into it.

use super::{YARN, add_links, asked_for, inner, needs_beside, note_request, package, packages_in, registries};
use crate::backend::dependency_graph::Node;
use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, SimpleInstallation, is_dir, link_target, links_into, of,
};
use crate::backend::{CachePlace, Inner, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Affix, CommandLine, Location, Loss, ManagerId, Profile, Reason, RemedyKind, Scope, Source};
use crate::version::Scheme;

/// yarn 1.
#[derive(Debug)]
pub struct Yarn;

struct YarnGlobal {
    bins: Vec<ByteString>,
}

impl Manager for Yarn {
    fn id(&self) -> ManagerId {
        YARN
    }

    fn profile(&self) -> Profile {
        Profile::language(crate::model::Language::JavaScript, Affix::Scope)
    }

    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        registries::of_yarn(host, YARN, notes)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::cleared_by("packages that yarn downloaded", "~/.cache/yarn", "yarn cache clean")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
        let mut add = |scope: Scope, dir: ByteString, bins: Vec<ByteString>| {
            if is_dir(host, &path::join(&dir, b"node_modules")) {
                held.push(SimpleInstallation::boxed(host, YARN, scope, dir, YarnGlobal { bins }));
            }
        };
        let shared = host.root.canonicalize_dir(b"/usr/local/bin");
        for user in &host.users {
            let below = |name: &str| host.user_dir(user, "", name);
            add(of(user), below(".config/yarn/global"), vec![below(".yarn/bin"), below(".local/bin"), shared.clone()]);
        }
        add(Scope::System, host.root.canonicalize_dir(b"/usr/local/share/.config/yarn/global"), vec![shared]);
        held
    }
}

impl SimpleBackend for YarnGlobal {
    fn nodes(&self, host: &Host, items: &[InstalledPackage]) -> Option<Vec<Node>> {
        Some(needs_beside(host, items))
    }

    fn inner(&self, host: &Host, items: &[InstalledPackage], name: &[u8]) -> Vec<Inner> {
        inner(host, items, name)
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let modules = path::join(&at.dir, b"node_modules");
        let file = path::join(&at.dir, b"package.json");
        let asked = asked_for(host, &file, &mut record);
        // The links lead to `node_modules/.bin`, where others lead on.
        let links: Vec<(ByteString, ByteString)> = self
            .bins
            .iter()
            .flat_map(|bin| links_into(host, bin, &modules))
            .map(|(link, target)| (link, host.root.canonicalize_dir(&target)))
            .collect();
        for (name, _) in packages_in(host, &modules) {
            let (mut item, _) = package(host, &modules, &name, &mut record);
            let dir = path::join(&modules, &name);
            note_request(&mut item, &asked, &file);
            add_links(&mut item, &links, &dir, YARN);
            item.trees.push(dir);
            if item.reason != Reason::Dependency {
                let of_it = |verb: &str| {
                    // yarn reads the current directory, which another user's need not be able to.
                    let home = host.home_owner(&at.dir).map_or_else(|| at.dir.clone(), |user| user.home.clone());
                    CommandLine::new("env -C").arg(home).words("yarn global").words(verb).operand(name.clone())
                };
                let is_of_index = item.origin.as_ref().is_some_and(|origin| origin.kind == "index");
                let (remove, upgrade) = (of_it("remove"), of_it("upgrade"));
                item = item.remedy(RemedyKind::Remove, remove);
                if is_of_index {
                    item = item.remedy(RemedyKind::Upgrade, upgrade);
                }
            }
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        [vec![at.dir.clone()], self.bins.clone()].concat()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn linked(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ByteString> {
        // The middle one of the links, in `.bin`.
        let bin = path::join(&at.dir, b"node_modules/.bin");
        (*path::parent(canonical) == *bin).then(|| link_target(host, canonical)).flatten()
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        self.bins.iter().take(1).cloned().collect()
    }
}
