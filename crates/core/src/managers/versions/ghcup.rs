//! GHCup, which keeps versions of the tools of Haskell (GHCup documentation, "Filesystem layout").
//!
//! Below `~/.ghcup` (`GHCUP_INSTALL_BASE_PREFIX` moves it): `ghc/VERSION/` and `hls/VERSION/` for what has a tree of its
//! own, one file `bin/TOOL-VERSION` for each cabal and stack, and links in `bin` to the version that is set.
//!
//! Traps: `bin/ghc-9.4` is a link too, and does not tell what is set; without a link `bin/ghc` none is.

use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, link_target, links_into, of_each_user,
};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::Host;
use crate::model::{Evidence, Location, ManagerId, ManagerKind, Profile};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("ghcup");
/// Tools that have a tree for each version, and the link that says which is set.
const TREES: [(&str, &str); 2] = [("ghc", "ghc"), ("hls", "haskell-language-server-wrapper")];
/// Tools that are one file for each version.
const FILES: [&str; 2] = ["cabal", "stack"];

/// The manager.
#[derive(Debug)]
pub struct Ghcup;

struct GhcupDir;

impl Manager for Ghcup {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("archives that GHCup downloaded", "~/.ghcup/cache")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let base = host.user_dir(user, "GHCUP_INSTALL_BASE_PREFIX", "");
            let dir = path::join(&base, b".ghcup");
            let is_there = is_dir(host, &path::join(&dir, b"bin"));
            is_there.then_some((dir, GhcupDir))
        })
    }
}

impl SimpleBackend for GhcupDir {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let bin = path::join(&at.dir, b"bin");
        let set = |link: &str, tree: &ByteString| {
            let link = path::join(&bin, link.as_bytes());
            let target = link_target(host, &link)?;
            path::within(&target, tree).then(|| Evidence::at(link, "link", "this version is set"))
        };
        for (tool, link) in TREES {
            let dir = path::join(&at.dir, tool.as_bytes());
            for (version, _) in dirs_in(host, &dir, false) {
                let tree = path::join(&dir, &version);
                let mut item = kept(host, tool, &version, tree.clone(), set(link, &tree));
                for (link, _) in links_into(host, &bin, &tree) {
                    item.bring(link.clone(), Evidence::at(link, "link", format!("starts {tool} {version}")));
                }
                record.items.push(item);
            }
        }
        for (name, kind) in host.root.names_in(&bin) {
            let file = path::join(&bin, &name);
            let version = |tool: &&str| name.strip_prefix(tool.as_bytes())?.strip_prefix(b"-").map(ByteString::from);
            match FILES.iter().find_map(|tool| Some((tool, version(tool)?))) {
                Some((tool, version)) if kind == Kind::File => {
                    let mut item = kept(host, tool, &version, file.clone(), set(tool, &file));
                    item.commands.push(file.clone());
                    for (link, _) in links_into(host, &bin, &file) {
                        item.bring(link.clone(), Evidence::at(link, "link", format!("starts {tool} {version}")));
                    }
                    record.items.push(item);
                }
                _ if *name == *b"ghcup" => {
                    let mut item = InstalledPackage::new("program", "ghcup");
                    item.bring(file.clone(), Evidence::whole(file, "GHCup itself"));
                    record.items.push(item);
                }
                _ => {}
            }
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"bin")]
    }
}

fn kept(host: &Host, tool: &str, version: &ByteString, tree: ByteString, set: Option<Evidence>) -> InstalledPackage {
    let mut item = InstalledPackage::kept("toolchain", tool, version.clone());
    item.installed_at = host.root.modified(&tree);
    item.evidence.push(Evidence::directory(tree.clone(), format!("{tool} {version}")));
    item.active = set.is_some();
    item.evidence.extend(set);
    item.trees.push(tree);
    item
}
