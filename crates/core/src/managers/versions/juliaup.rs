//! juliaup, which keeps versions of Julia (documentation of juliaup, "Configuration").
//!
//! `~/.julia/juliaup/juliaup.json` (`JULIAUP_DEPOT_PATH`, `JULIA_DEPOT_PATH`) has `InstalledVersions` with the directory
//! of each, `InstalledChannels` with the version that each channel stands for, and the default channel. `julia` in
//! `~/.juliaup/bin` is a launcher that chooses.
//!
//! Traps: a directory in the file is relative to the file; a channel can be a command of the user's own instead of a
//! version; `julia +CHANNEL` and `JULIAUP_CHANNEL` choose another one.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::nowhere;
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, of_each_user, parsed};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, ExecDestination, ExecTarget, Location, Loss, ManagerId, ManagerKind, Profile, Status};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("juliaup");

/// The manager.
#[derive(Debug)]
pub struct Juliaup;

struct Depot {
    /// The directory of the launcher.
    bin: ByteString,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "PascalCase", default)]
struct Choice {
    default: Option<String>,
    installed_versions: BTreeMap<String, Version>,
    installed_channels: BTreeMap<String, Channel>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Version {
    path: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Channel {
    version: Option<String>,
}

impl Version {
    /// The directory, which the file gives from where it lies itself.
    fn tree(&self, host: &Host, at: &Location) -> ByteString {
        host.root.canonicalize_dir(&path::absolute(self.path.as_bytes(), &at.dir))
    }
}

impl Choice {
    /// The version that the default channel stands for.
    fn of_default(&self) -> Option<&str> {
        self.installed_channels.get(self.default.as_ref()?)?.version.as_deref()
    }
}

impl Manager for Juliaup {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let variables = ["JULIAUP_DEPOT_PATH", "JULIA_DEPOT_PATH"];
            let dirs = variables.map(|variable| path::join(&host.user_dir(user, variable, ".julia"), b"juliaup"));
            let dir = dirs.into_iter().find(|dir| host.root.entry(&path::join(dir, FILE)).is_ok())?;
            let bin = host.user_dir(user, "", ".juliaup/bin");
            Some((dir, Depot { bin }))
        })
    }
}

const FILE: &[u8] = b"juliaup.json";

fn choice(host: &Host, dir: &[u8]) -> (ByteString, Result<Choice, String>) {
    let file = path::join(dir, FILE);
    let read = parsed(host, &file, Limit::SMALL, |content| serde_json::from_slice(content));
    (file, read)
}

/// `1.10.4+0.x64.linux.gnu` → the version and what it runs on.
fn parts(version: &str) -> (&str, Option<&str>) {
    let (number, rest) = version.split_once('+').map_or((version, None), |(number, rest)| (number, Some(rest)));
    (number, rest.map(|rest| rest.split_once('.').map_or(rest, |(_, platform)| platform)))
}

impl SimpleBackend for Depot {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let (file, read) = choice(host, &at.dir);
        let choice = read.unwrap_or_else(|problem| {
            record.notes.push(Loss::because(problem, "the versions of Julia are unknown"));
            Choice::default()
        });
        for (version, kept) in &choice.installed_versions {
            let tree = kept.tree(host, at);
            let (number, platform) = parts(version);
            let mut item = InstalledPackage::kept("toolchain", "julia", number);
            item.arch = platform.map(ByteString::from);
            item.tail = Some(format!("julia/{version}").into());
            let stands_for = |(name, channel): (&String, &Channel)| {
                (channel.version.as_ref() == Some(version)).then(|| name.clone())
            };
            let channels: Vec<String> = choice.installed_channels.iter().filter_map(stands_for).collect();
            item.channel = (!channels.is_empty()).then(|| channels.join(", ").into());
            item.active = choice.of_default() == Some(version);
            item.evidence.push(Evidence::at(file.clone(), "InstalledVersions", format!("julia {number}")));
            if host.root.entry(&tree).is_err() {
                item.status = Status::Broken;
            }
            // A record claims nothing outside its own directory.
            if path::within(&tree, &at.dir) {
                item.trees.push(tree);
            }
            record.items.push(item);
        }
        let mut item = InstalledPackage::new("program", "juliaup");
        for name in ["julia", "juliaup", "julialauncher"] {
            let program = path::join(&self.bin, name.as_bytes());
            if host.root.entry(&program).is_ok() {
                let evidence = Evidence::directory(self.bin.clone(), "juliaup itself, and its launcher");
                item.bring(program, evidence);
            }
        }
        if !item.commands.is_empty() {
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
        let is_launcher = [&b"julia"[..], b"julialauncher"].contains(&path::name(canonical));
        if *path::parent(canonical) != *self.bin || !is_launcher {
            return None;
        }
        let (file, read) = choice(host, &at.dir);
        let choice = read.unwrap_or_default();
        let chosen = choice.of_default().and_then(|version| Some((version, choice.installed_versions.get(version)?)));
        let Some((version, kept)) = chosen else {
            return Some(nowhere(vec![Evidence::at(file, "Default", "no version of Julia is the default")]));
        };
        let tree = kept.tree(host, at);
        let why = vec![Evidence::at(file, "Default", format!("{version} is the default"))];
        Some(ExecTarget { to: ExecDestination::File(path::join(&tree, b"bin/julia")), is_shim: true, why })
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        vec![self.bin.clone()]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_name_a_platform() {
        assert_eq!(parts("1.10.4+0.x64.linux.gnu"), ("1.10.4", Some("x64.linux.gnu")));
        assert_eq!(parts("1.11.0-rc1"), ("1.11.0-rc1", None));
    }
}
