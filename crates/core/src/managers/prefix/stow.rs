//! Link farms: a directory for each package and version, whose files are linked into the prefix around the farm
//! (GNU Stow manual, "Terminology").
//!
//! The farm is a directory `stow` in the prefix (`/usr/local/stow`, `~/.local/stow`, or `STOW_DIR`); what lies in
//! `stow/barolog-2.1/bin` is linked from `bin`. A whole directory can be one link. There is no other record.

use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, SimpleInstallation, dirs_in, is_dir, link_target, links_into, scope_of,
};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{CommandLine, Evidence, Location, ManagerId, ManagerKind, Profile, RemedyKind};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("stow");

/// The manager.
#[derive(Debug)]
pub struct Stow;

struct Farm;

impl Manager for Stow {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Prefix)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut places: Vec<ByteString> = ["/usr/local/stow", "/opt/stow", "/usr/stow"].map(ByteString::from).to_vec();
        for user in &host.users {
            places.extend(host.variable(user, "STOW_DIR").cloned());
            places.extend([".local/stow", "stow", ".stow"].iter().map(|name| path::join(&user.home, name.as_bytes())));
        }
        let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
        let mut seen: Vec<ByteString> = Vec::new();
        for place in places {
            let farm = host.root.canonicalize_dir(&place);
            if is_dir(host, &farm) && !seen.contains(&farm) {
                seen.push(farm.clone());
                held.push(SimpleInstallation::boxed(host, ID, scope_of(host, &farm), farm, Farm));
            }
        }
        held
    }
}

/// `barolog-2.1` → `barolog` and `2.1`.
fn name_and_version(dir: &[u8]) -> (ByteString, Option<ByteString>) {
    let cut = memchr::memrchr_iter(b'-', dir).find(|&at| at > 0 && dir.get(at + 1).is_some_and(u8::is_ascii_digit));
    match cut {
        Some(at) => (dir[..at].into(), Some(dir[at + 1..].into())),
        None => (dir.into(), None),
    }
}

impl SimpleBackend for Farm {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let prefix = ByteString::from(path::parent(&at.dir));
        let bins = ["bin", "sbin"].map(|name| path::join(&prefix, name.as_bytes()));
        for (dir, _) in dirs_in(host, &at.dir, false) {
            let tree = path::join(&at.dir, &dir);
            let (name, version) = name_and_version(&dir);
            let mut item = InstalledPackage::new("package", name);
            item.version = version;
            item.tail = Some(dir.clone());
            item.installed_at = host.root.modified(&tree);
            item.evidence
                .push(Evidence::directory(tree.clone(), "a package of the link farm; only its name is recorded"));
            let links = bins.iter().flat_map(|bin| links_into(host, bin, &tree));
            item.commands = links.map(|(link, _)| link).collect();
            // A directory of programs that is one link as a whole counts too.
            for bin in &bins {
                if host.root.canonicalize_dir(bin) != *bin && path::within(&host.root.canonicalize_dir(bin), &tree) {
                    let names = host.root.names_in(bin);
                    item.commands.extend(names.into_iter().map(|(name, _)| path::join(bin, &name)));
                }
            }
            item.active = !item.commands.is_empty();
            item.trees.push(tree);
            let line = CommandLine::new("stow").arg([b"--dir=", &*at.dir].concat());
            let line = line.arg([b"--target=", &*prefix].concat()).words("--delete").operand(dir);
            record.items.push(item.remedy(RemedyKind::Remove, line));
        }
        record
    }

    /// Links can lie anywhere in the prefix.
    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::parent(&at.dir).into()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn linked(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ByteString> {
        link_target(host, canonical).filter(|target| path::within(target, &at.dir))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dir_names_package_and_version() {
        for (dir, name, version) in [
            ("barolog-2.1", "barolog", Some("2.1")),
            ("tide-gauge", "tide-gauge", None),
            ("a-1-2", "a-1", Some("2")),
            ("-1", "-1", None),
        ] {
            assert_eq!(name_and_version(dir.as_bytes()), (name.into(), version.map(ByteString::from)), "{dir}");
        }
    }
}
