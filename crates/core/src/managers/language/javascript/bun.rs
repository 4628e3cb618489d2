//! bun: packages in its global directory, and the links that lead into it (Bun documentation, "bun install").
//!
//! `~/.bun/install/global` (`BUN_INSTALL`, `BUN_INSTALL_GLOBAL_DIR`) has a `package.json` with what was asked for and
//! `node_modules` with everything; `~/.bun/bin` (`BUN_INSTALL_BIN`) has links to the commands, and the program `bun`
//! where its own installer put it.

use super::{add_links, asked_for, inner, needs_beside, note_request, package, packages_in};
use crate::backend::dependency_graph::Node;
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, is_dir, link_target, links_into, of_each_user};
use crate::backend::{CachePlace, Inner, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::Host;
use crate::model::{Affix, CommandLine, Evidence, Location, ManagerId, Profile, Reason, RemedyKind};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("bun");

/// bun.
#[derive(Debug)]
pub struct Bun;

/// Its global directory, and where it puts commands.
struct BunHome {
    global: ByteString,
    bin: ByteString,
}

impl Manager for Bun {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::language(crate::model::Language::JavaScript, Affix::Scope)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::cleared_by("packages that bun downloaded", "~/.bun/install/cache", "bun pm cache rm")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let home = host.user_dir(user, "BUN_INSTALL", ".bun");
            let usual = |below: &[u8]| host.root.canonicalize_dir(&path::join(&home, below));
            let moved = |variable: &str, below| host.named_dir(user, variable).unwrap_or_else(|| usual(below));
            let global = moved("BUN_INSTALL_GLOBAL_DIR", b"install/global");
            let bin = moved("BUN_INSTALL_BIN", b"bin");
            let is_there = is_dir(host, &global) || host.root.entry(&path::join(&bin, b"bun")).is_ok();
            is_there.then_some((home, BunHome { global, bin }))
        })
    }
}

impl BunHome {
    /// The program itself, and its other name.
    fn itself(&self, host: &Host) -> Option<InstalledPackage> {
        let file = path::join(&self.bin, b"bun");
        let meta = host.root.entry(&file).ok().filter(|meta| meta.kind == Kind::File)?;
        let mut item = InstalledPackage::new("program", "bun");
        item.installed_at = Some(meta.modified);
        item.evidence.push(Evidence::whole(file.clone(), "bun itself, by its own installer"));
        let other = path::join(&self.bin, b"bunx");
        let same = link_target(host, &other).filter(|target| *target == file).map(|_| other);
        for path in std::iter::once(file).chain(same) {
            let evidence = item.evidence[0].clone();
            item.bring(path, evidence);
        }
        Some(item)
    }
}

impl SimpleBackend for BunHome {
    fn nodes(&self, host: &Host, items: &[InstalledPackage]) -> Option<Vec<Node>> {
        Some(needs_beside(host, items))
    }

    fn inner(&self, host: &Host, items: &[InstalledPackage], name: &[u8]) -> Vec<Inner> {
        inner(host, items, name)
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        record.items.extend(self.itself(host));
        if !is_dir(host, &self.global) {
            return record;
        }
        let modules = path::join(&self.global, b"node_modules");
        let file = path::join(&self.global, b"package.json");
        let asked = asked_for(host, &file, &mut record);
        let links = links_into(host, &self.bin, &modules);
        for (name, _) in packages_in(host, &modules) {
            let (mut item, _) = package(host, &modules, &name, &mut record);
            let dir = path::join(&modules, &name);
            note_request(&mut item, &asked, &file);
            add_links(&mut item, &links, &dir, ID);
            if item.reason == Reason::Explicit {
                let home = [b"BUN_INSTALL=", &*at.dir].concat();
                let line = CommandLine::new("env").arg(home).words("bun remove --global").operand(name.clone());
                item = item.remedy(RemedyKind::Remove, line);
            }
            item.trees.push(dir);
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        vec![self.global.clone(), self.bin.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        vec![self.bin.clone()]
    }
}
