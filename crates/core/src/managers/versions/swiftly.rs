//! swiftly, which keeps toolchains of Swift (documentation of swiftly, "Configuration").
//!
//! `~/.local/share/swiftly/config.json` (`SWIFTLY_HOME_DIR`) lists the toolchains and says which is in use; each is a tree
//! `toolchains/VERSION`. `bin` (`SWIFTLY_BIN_DIR`) has a link for each program, to the toolchain in use or, in newer
//! releases, to swiftly itself, which chooses.
//!
//! Traps: a file `.swift-version` above the current directory chooses before the setting; a toolchain in the list can
//! have been deleted.

use serde::Deserialize;

use super::{nearest, nowhere};
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, link_target, links_into, of_each_user, parsed};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, ExecDestination, ExecTarget, Location, Loss, ManagerId, ManagerKind, Profile, Scope};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("swiftly");
const FILE: &[u8] = b"config.json";

/// The manager.
#[derive(Debug)]
pub struct Swiftly;

struct Toolchains {
    bin: ByteString,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "camelCase", default)]
struct Config {
    in_use: Option<String>,
    installed_toolchains: Vec<String>,
}

impl Manager for Swiftly {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let dir = host.user_dir(user, "SWIFTLY_HOME_DIR", ".local/share/swiftly");
            let bin = host.user_dir(user, "SWIFTLY_BIN_DIR", ".local/share/swiftly/bin");
            let is_there = host.root.entry(&path::join(&dir, FILE)).is_ok();
            is_there.then_some((dir, Toolchains { bin }))
        })
    }
}

fn config(host: &Host, at: &Location) -> (ByteString, Result<Config, String>) {
    let file = path::join(&at.dir, FILE);
    let read = parsed(host, &file, Limit::SMALL, |content| serde_json::from_slice(content));
    (file, read)
}

fn tree(at: &Location, version: &str) -> Option<ByteString> {
    let is_sound = !version.is_empty() && !version.contains('/') && !version.starts_with('.');
    is_sound.then(|| path::join(&path::join(&at.dir, b"toolchains"), version.as_bytes()))
}

impl SimpleBackend for Toolchains {
    // Toolchains do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let (file, read) = config(host, at);
        let config = read.unwrap_or_else(|problem| {
            record.notes.push(Loss::because(problem, "the toolchains are unknown"));
            Config::default()
        });
        for version in &config.installed_toolchains {
            let mut item = InstalledPackage::kept("toolchain", "swift", version.as_str());
            item.active = config.in_use.as_ref() == Some(version);
            item.evidence.push(Evidence::at(file.clone(), "installedToolchains", format!("swift {version}")));
            if let Some(tree) = tree(at, version) {
                item.look_at(host, &tree);
                for (link, _) in links_into(host, &self.bin, &tree) {
                    item.bring(link.clone(), Evidence::at(link, "link", format!("starts swift {version}")));
                }
                item.trees.push(tree);
            }
            record.items.push(item);
        }
        let own = path::join(&self.bin, b"swiftly");
        if host.root.entry(&own).is_ok() {
            let mut item = InstalledPackage::new("program", "swiftly");
            item.bring(own.clone(), Evidence::directory(self.bin.clone(), "swiftly itself"));
            for (link, _) in links_into(host, &self.bin, &own) {
                item.bring(link.clone(), Evidence::at(link, "link", "a link to swiftly, which chooses a toolchain"));
            }
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.dir.clone(), self.bin.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        let own = path::join(&self.bin, b"swiftly");
        let is_shim = *path::parent(canonical) == *self.bin && link_target(host, canonical) == Some(own);
        if !is_shim {
            return None;
        }
        let (file, read) = config(host, at);
        let user = host.users.iter().find(|user| matches!(&at.scope, Scope::User(name) if *name == user.name));
        let here = user.and_then(|user| nearest(host, &host.working_dir(user), ".swift-version"));
        let (version, why) = match here {
            Some((file, content)) => {
                let version = String::from_utf8_lossy(content.trim_ascii()).into_owned();
                let says = format!("asks for {version}");
                (Some(version), Evidence::line(file, 1, says))
            }
            None => {
                let version = read.ok().and_then(|config| config.in_use);
                let says =
                    version.as_ref().map_or("no toolchain is in use".to_owned(), |one| format!("{one} is in use"));
                (version, Evidence::at(file, "inUse", says))
            }
        };
        let Some(tree) = version.and_then(|version| tree(at, &version)) else { return Some(nowhere(vec![why])) };
        let program = path::join(&path::join(&tree, b"usr/bin"), path::name(canonical));
        Some(ExecTarget { to: ExecDestination::File(program), is_shim: true, why: vec![why] })
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        vec![self.bin.clone()]
    }
}
