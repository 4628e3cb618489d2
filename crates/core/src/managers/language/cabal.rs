//! Programs that `cabal install` put into a home (Cabal user guide, "cabal install", "Nix-style local builds").
//!
//! What is built lies in a store, `~/.cabal/store/ghc-VERSION/UNIT` or `~/.local/state/cabal/store/ghc-VERSION/UNIT`
//! (`CABAL_DIR`), and `cabal` places links to the programs in `~/.cabal/bin` or `~/.local/bin`. A unit is called
//! `NAME-VERSION-DIGEST`, or `NAME-VERSION-e-PROGRAM-DIGEST` where it is one program of a package.
//!
//! Traps: names have hyphens, and digits in their parts; a program can be copied instead of linked, and nothing records
//! that; a unit that no link leads to any more stays in the store; libraries there are not told.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, links_into, of_each_user};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Evidence, Location, ManagerId, ManagerKind, Profile, Reason};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("cabal");

/// The manager.
#[derive(Debug)]
pub struct Cabal;

struct Store {
    /// Where links to programs are placed.
    bins: Vec<ByteString>,
}

impl Manager for Cabal {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile { keeps_versions: true, ..Profile::of(ManagerKind::Language) }
    }

    fn caches(&self) -> &'static [CachePlace] {
        const {
            &[
                CachePlace::without_command("packages that cabal downloaded", "~/.cabal/packages"),
                CachePlace::without_command("packages that cabal downloaded", "~/.cache/cabal/packages"),
            ]
        }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let own = host.user_dir(user, "CABAL_DIR", ".cabal");
            let state = host.user_dir(user, "XDG_STATE_HOME", ".local/state");
            let stores = [path::join(&own, b"store"), path::join(&state, b"cabal/store")];
            let store = stores.into_iter().find(|store| is_dir(host, store))?;
            let bins =
                vec![host.root.canonicalize_dir(&path::join(&own, b"bin")), host.user_dir(user, "", ".local/bin")];
            Some((store, Store { bins }))
        })
    }
}

/// The name and the version in a unit's name; the version is the first part of numbers alone that something follows.
fn parts(unit: &str) -> Option<(&str, &str)> {
    let is_number = |part: &str| {
        part.starts_with(|c: char| c.is_ascii_digit()) && part.bytes().all(|b| b == b'.' || b.is_ascii_digit())
    };
    unit.match_indices('-').skip_while(|(at, _)| *at == 0).find_map(|(at, _)| {
        let version = unit[at + 1..].split_once('-')?.0;
        is_number(version).then_some((&unit[..at], version))
    })
}

impl SimpleBackend for Store {
    // What a program needs is linked into it.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        for (compiler, _) in dirs_in(host, &at.dir, false) {
            let units = path::join(&at.dir, &compiler);
            for (unit, _) in dirs_in(host, &units, false) {
                let tree = path::join(&units, &unit);
                if !is_dir(host, &path::join(&tree, b"bin")) {
                    continue;
                }
                let text = String::from_utf8_lossy(&unit);
                let Some((name, version)) = parts(&text) else { continue };
                let mut item = InstalledPackage::new("program", name);
                item.version = Some(version.into());
                item.tail = Some(path::join(&compiler, &unit));
                item.purl = Some("hackage");
                item.installed_at = host.root.modified(&tree);
                item.reason = Reason::Unknown;
                item.evidence.push(Evidence::directory(tree.clone(), item.with_version()));
                for bin in &self.bins {
                    for (link, _) in links_into(host, bin, &tree) {
                        item.reason = Reason::Explicit;
                        item.active = true;
                        item.bring(link.clone(), Evidence::at(link, "link", format!("starts {name}")));
                    }
                }
                item.trees.push(tree);
                record.items.push(item);
            }
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        std::iter::once(&at.dir).chain(&self.bins).cloned().collect()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_unit_names_a_package_and_its_version() {
        for (unit, expected) in [
            ("tide-1.2.0-0a1b2c", Some(("tide", "1.2.0"))),
            ("tide-2d-gauge-0.3-e-tide-0a1b", Some(("tide-2d-gauge", "0.3"))),
            ("rope-4-0a1b", Some(("rope", "4"))),
            ("package.db", None),
            ("incoming", None),
            ("-1-2", None),
            ("tide-1.2", None),
        ] {
            assert_eq!(parts(unit), expected, "{unit}");
        }
    }
}
