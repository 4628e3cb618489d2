//! Stack, which keeps compilers of Haskell and what it built with each (Stack documentation, "Stack root").
//!
//! Below `~/.stack` (`STACK_ROOT`; where Stack follows the base directories, `~/.local/share/stack`):
//! `programs/PLATFORM/ghc-VERSION/` for each compiler, with a file `ghc-VERSION.installed` beside it, and
//! `snapshots/PLATFORM/HASH/VERSION/` for the packages that projects of one snapshot share.
//!
//! Traps: a directory without that file is what an installation that was cut short left; the name of a compiler can have
//! its variant in it (`ghc-tinfo6-9.4.7`); what `stack install` copies to `~/.local/bin` is in no record.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Evidence, Location, ManagerId, ManagerKind, Profile, Status};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("stack");
/// What is put behind the name of a program once it is there as a whole.
const MARK: &[u8] = b".installed";

/// The manager.
#[derive(Debug)]
pub struct Stack;

struct StackRoot;

impl Manager for Stack {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let data = host.user_dir(user, "XDG_DATA_HOME", ".local/share");
            let places = [host.user_dir(user, "STACK_ROOT", ".stack"), path::join(&data, b"stack")];
            let has_any = |dir: &ByteString| {
                ["programs", "snapshots"].iter().any(|name| is_dir(host, &path::join(dir, name.as_bytes())))
            };
            Some((places.into_iter().find(has_any)?, StackRoot))
        })
    }
}

/// What the name of a compiler's directory says.
#[derive(Debug, PartialEq, Eq)]
struct Named<'n> {
    tool: &'n [u8],
    variant: Option<&'n [u8]>,
    version: &'n [u8],
}

/// `ghc-tinfo6-9.4.7` → `ghc`, perhaps a variant, and the version.
fn parts(name: &[u8]) -> Option<Named<'_>> {
    let last = memchr::memrchr(b'-', name)?;
    let (start, version) = (&name[..last], &name[last + 1..]);
    let (tool, variant) = match memchr::memchr(b'-', start) {
        Some(at) => (&start[..at], Some(&start[at + 1..])),
        None => (start, None),
    };
    (!tool.is_empty() && version.first().is_some_and(u8::is_ascii_digit)).then_some(Named { tool, variant, version })
}

impl SimpleBackend for StackRoot {
    // Compilers do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let programs = path::join(&at.dir, b"programs");
        for dir in dirs_in(host, &programs, false).into_iter().map(|(platform, _)| path::join(&programs, &platform)) {
            for (name, _) in dirs_in(host, &dir, false) {
                let named = parts(&name).filter(|_| !name.ends_with(MARK));
                let Some(Named { tool, variant, version }) = named else { continue };
                let tree = path::join(&dir, &name);
                let mut item = InstalledPackage::kept("toolchain", tool, version);
                item.tail = Some(path::join(tool, &name[tool.len() + 1..]));
                item.channel = variant.map(ByteString::from);
                item.installed_at = host.root.modified(&tree);
                item.evidence.push(Evidence::directory(tree.clone(), item.with_version()));
                let mark = path::join(&dir, &[&name, MARK].concat());
                if host.root.entry(&mark).is_err() {
                    item.status = Status::Broken;
                    item.evidence.push(Evidence::at(mark, "lookup", "does not exist: it was not installed to the end"));
                }
                item.trees.push(tree);
                record.items.push(item);
            }
        }
        let snapshots = path::join(&at.dir, b"snapshots");
        for dir in dirs_in(host, &snapshots, false).into_iter().map(|(platform, _)| path::join(&snapshots, &platform)) {
            for (hash, _) in dirs_in(host, &dir, false) {
                for (version, _) in dirs_in(host, &path::join(&dir, &hash), false) {
                    let tree = path::join(&path::join(&dir, &hash), &version);
                    let mut item = InstalledPackage::kept("snapshot", hash.clone(), version.clone());
                    item.installed_at = host.root.modified(&tree);
                    let says = format!("packages of a snapshot, built with ghc {version}");
                    item.evidence.push(Evidence::directory(tree.clone(), says));
                    item.trees.push(tree);
                    record.items.push(item);
                }
            }
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_compilers_have_a_version_and_perhaps_a_variant() {
        for (name, expected) in [
            ("ghc-9.4.7", Some(("ghc", None, "9.4.7"))),
            ("ghc-tinfo6-9.4.7", Some(("ghc", Some("tinfo6"), "9.4.7"))),
            ("ghc-tinfo6-libc6-pre232-9.10.1", Some(("ghc", Some("tinfo6-libc6-pre232"), "9.10.1"))),
            ("ghc", None),
            ("-9", None),
            ("ghc-head", None),
        ] {
            let expected = expected.map(|(tool, variant, version)| Named {
                tool: tool.as_bytes(),
                variant: variant.map(str::as_bytes),
                version: version.as_bytes(),
            });
            assert_eq!(parts(name.as_bytes()), expected, "{name}");
        }
    }
}
