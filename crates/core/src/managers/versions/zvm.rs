//! zvm, which keeps versions of Zig (documentation of zvm).
//!
//! Below `~/.zvm` (`ZVM_PATH`): a tree for each version, called by it, `master` for the newest that is built every night;
//! `bin` is a link to the tree that is in use, and `self` has zvm itself.
//!
//! Traps: `bin` is on the search path, so a program is found behind the link; other directories beside the versions are
//! the manager's own.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, link_target, of_each_user};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Evidence, Location, ManagerId, ManagerKind, Profile};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("zvm");
const PROGRAM: &[u8] = b"zig";

/// The manager.
#[derive(Debug)]
pub struct Zvm;

struct Versions;

impl Manager for Zvm {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let dir = host.user_dir(user, "ZVM_PATH", ".zvm");
            host.root.entry(&dir).is_ok().then_some((dir, Versions))
        })
    }
}

impl SimpleBackend for Versions {
    // Versions do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let bin = path::join(&at.dir, b"bin");
        let in_use = link_target(host, &bin);
        for (version, _) in dirs_in(host, &at.dir, false) {
            let tree = path::join(&at.dir, &version);
            if host.root.entry(&path::join(&tree, PROGRAM)).is_err() {
                continue;
            }
            let mut item = InstalledPackage::kept("toolchain", "zig", version.clone());
            item.installed_at = host.root.modified(&tree);
            item.evidence.push(Evidence::directory(tree.clone(), format!("zig {version}")));
            if in_use.as_ref() == Some(&tree) {
                item.active = true;
                item.evidence.push(Evidence::at(bin.clone(), "link", "this version is in use"));
                item.commands.push(path::join(&tree, PROGRAM));
            }
            item.trees.push(tree);
            record.items.push(item);
        }
        let own = path::join(&at.dir, b"self");
        let program = path::join(&own, b"zvm");
        if host.root.entry(&program).is_ok() {
            let mut item = InstalledPackage::new("program", "zvm");
            item.bring(program, Evidence::directory(own, "zvm itself"));
            record.items.push(item);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"bin")]
    }
}
