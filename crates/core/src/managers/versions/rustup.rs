//! rustup's toolchains, and which of them a proxy would start here (*The rustup book*, "Overrides").
//!
//! | file below `RUSTUP_HOME` (`~/.rustup`) | what it says |
//! |---|---|
//! | `settings.toml` | `default_toolchain`, `[overrides]` directory → toolchain |
//! | `toolchains/NAME/` | a toolchain; a link for one that is kept elsewhere |
//! | `toolchains/NAME/lib/rustlib/multirust-channel-manifest.toml` | versions (`[pkg.rustc]`) |
//! | `toolchains/NAME/lib/rustlib/components` | its components |
//!
//! `CARGO_HOME/bin` has rustup itself and its proxies, links or hard links to it. A proxy chooses by
//! `RUSTUP_TOOLCHAIN`, then directory by directory upwards an override or a `rust-toolchain[.toml]` file, then the
//! default.
//!
//! Traps: of both files in one directory, the one without an ending counts; `nightly` means the one for this
//! machine; a component that is missing makes its proxy fail, but `cargo` missing in a linked toolchain is
//! taken from another one.

use std::collections::BTreeMap;

use serde::Deserialize;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user};
use crate::backend::{CachePlace, Installation, Manager, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::{ENVIRONMENT, Host, User};
use crate::model::{
    CommandLine, Evidence, ExecDestination, ExecTarget, Location, Loss, ManagerId, ManagerKind, Profile, Reason,
    RemedyKind,
};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("rustup");

/// The manager.
#[derive(Debug)]
pub struct Rustup;

struct RustupHome<'s> {
    user: &'s User,
    bin: ByteString,
}

impl Manager for Rustup {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("rustup", &["update"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("downloads of rustup", "~/.rustup/downloads")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let home = host.user_dir(user, "RUSTUP_HOME", ".rustup");
            let bin = path::join(&host.user_dir(user, "CARGO_HOME", ".cargo"), b"bin");
            let is_there = is_dir(host, &path::join(&home, b"toolchains"));
            is_there.then_some((home, RustupHome { user, bin }))
        })
    }
}

#[derive(Deserialize, Default)]
struct Settings {
    default_toolchain: Option<String>,
    #[serde(default)]
    overrides: BTreeMap<String, String>,
}

#[derive(Deserialize)]
struct ToolchainFile {
    toolchain: ToolchainChoice,
}

#[derive(Deserialize)]
struct ToolchainChoice {
    channel: Option<String>,
    path: Option<String>,
}

/// The chosen toolchain, and the evidence for it.
struct Choice {
    name: String,
    why: Evidence,
}

fn settings(host: &Host, home: &ByteString) -> Result<Settings, String> {
    let file = path::join(home, b"settings.toml");
    match host.root.read(&file, Limit::SMALL) {
        Ok(content) => toml::from_slice(&content).map_err(|error| format!("{file}: {}", error.message())),
        Err(error) if error.is_missing() => Ok(Settings::default()),
        Err(error) => Err(error.to_string()),
    }
}

impl RustupHome<'_> {
    fn choose(&self, host: &Host, at: &Location) -> Option<Choice> {
        if let Some(name) = host.variable(self.user, "RUSTUP_TOOLCHAIN") {
            let why = Evidence::at(ENVIRONMENT, "RUSTUP_TOOLCHAIN", name.to_string());
            return Some(Choice { name: name.to_string(), why });
        }
        let file = path::join(&at.dir, b"settings.toml");
        let settings = settings(host, &at.dir).unwrap_or_default();
        let start = host.working_dir(self.user);
        let mut dir = &*start;
        loop {
            let fits = |(of, _): &(&String, &String)| of.as_bytes() == dir;
            if let Some((of, name)) = settings.overrides.iter().find(fits) {
                let says =
                    format!("{} is set below {}", ByteString::from(name.as_str()), ByteString::from(of.as_str()));
                return Some(Choice { name: name.clone(), why: Evidence::at(file, "overrides", says) });
            }
            if let Some(choice) = by_file(host, dir) {
                return Some(choice);
            }
            if dir.len() <= 1 {
                break;
            }
            dir = path::parent(dir);
        }
        let name = settings.default_toolchain?;
        let says = format!("{} is the default", ByteString::from(name.as_str()));
        Some(Choice { name, why: Evidence::at(file, "default_toolchain", says) })
    }
}

/// What a toolchain file in a directory asks for.
fn by_file(host: &Host, dir: &[u8]) -> Option<Choice> {
    for (name, only_toml) in [("rust-toolchain", false), ("rust-toolchain.toml", true)] {
        let file = path::join(dir, name.as_bytes());
        let Ok(content) = host.root.read(&file, Limit::SMALL) else { continue };
        let text = String::from_utf8_lossy(&content);
        let read =
            toml::from_str::<ToolchainFile>(&text).ok().and_then(|read| read.toolchain.channel.or(read.toolchain.path));
        // The old form is one line with the name.
        let line = (!only_toml && text.trim().lines().count() == 1).then(|| text.trim().to_owned());
        let name = read.or(line)?;
        let why = Evidence::at(file, "toolchain", format!("asks for {}", ByteString::from(name.as_str())));
        return Some(Choice { name, why });
    }
    None
}

/// The directory of the toolchain that a name means: the full name, or a channel for this machine.
fn user_dir(host: &Host, home: &ByteString, name: &str) -> Option<ByteString> {
    if name.starts_with('/') {
        return Some(host.root.canonicalize_dir(name.as_bytes())).filter(|dir| is_dir(host, dir));
    }
    let toolchains = path::join(home, b"toolchains");
    let names = dirs_in(host, &toolchains, true);
    let is_host = |rest: &[u8]| rest.iter().filter(|&&b| b == b'-').count() >= 2 && !rest[0].is_ascii_digit();
    let fits = |full: &ByteString| {
        **full == *name.as_bytes()
            || full
                .strip_prefix(name.as_bytes())
                .and_then(|rest| rest.strip_prefix(b"-"))
                .is_some_and(|rest| !rest.is_empty() && is_host(rest))
    };
    let found = names.into_iter().map(|(full, _)| full).find(fits)?;
    let dir = path::join(&toolchains, &found);
    is_dir(host, &dir).then_some(dir)
}

/// The version in a toolchain's manifest: a long file, of which one line is wanted.
fn version(host: &Host, dir: &ByteString) -> Result<Option<(ByteString, Evidence)>, Loss> {
    let file = path::join(dir, b"lib/rustlib/multirust-channel-manifest.toml");
    let hides = || format!("the version of {} is unknown", ByteString::from(path::name(dir)));
    let content = match host.root.read(&file, Limit::LIST) {
        Ok(content) => content,
        Err(error) if error.is_missing() => return Ok(None),
        Err(error) => return Err(Loss::unread(&error, hides())),
    };
    let Some(whole) = compiler(&content) else { return Err(Loss::damaged(file, "names no version of rustc", hides())) };
    let version = whole.split(|&b| b == b' ').next().unwrap_or_default().into();
    Ok(Some((version, Evidence::at(file, "pkg.rustc.version", whole.to_string()))))
}

/// The version of the compiler, with its commit and day.
fn compiler(manifest: &[u8]) -> Option<ByteString> {
    let start = memchr::memmem::find(manifest, b"\n[pkg.rustc]\n")?;
    let rest = &manifest[start + 13..];
    let rest = &rest[..memchr::memmem::find(rest, b"\n[").unwrap_or(rest.len())];
    let line = rest.split(|&b| b == b'\n').find_map(|line| line.strip_prefix(b"version = \""))?;
    let end = memchr::memchr(b'"', line)?;
    Some(line[..end].into())
}

impl SimpleBackend for RustupHome<'_> {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let settings = settings(host, &at.dir).unwrap_or_else(|problem| {
            record.notes.push(Loss::because(problem, "which toolchain is the default is not known"));
            Settings::default()
        });
        let toolchains = path::join(&at.dir, b"toolchains");
        let default = settings.default_toolchain.as_deref().and_then(|name| user_dir(host, &at.dir, name));
        let chosen = self.choose(host, at);
        let chosen_dir = chosen.as_ref().and_then(|choice| user_dir(host, &at.dir, &choice.name));
        for (name, kind) in dirs_in(host, &toolchains, true) {
            let dir = path::join(&toolchains, &name);
            let mut item = InstalledPackage::new("toolchain", name.clone());
            item.also.push("rust".into());
            match version(host, &dir) {
                Ok(Some((version, evidence))) => {
                    item.version = Some(version);
                    item.evidence.push(evidence);
                }
                Ok(None) => {
                    let says = "a toolchain without a manifest: its version is not known";
                    item.evidence.push(Evidence::directory(dir.clone(), says));
                }
                Err(lost) => record.notes.push(lost),
            }
            item.installed_at = host.root.modified(&dir);
            if kind == Kind::Link {
                let target = host.root.canonicalize_dir(&dir);
                let says = if path::within(&target, &toolchains) {
                    "another name for"
                } else {
                    "a link to a toolchain kept elsewhere:"
                };
                item.evidence.push(Evidence::at(dir.clone(), "link", format!("{says} {target}")));
                item.places.push((dir.clone(), item.evidence[0].clone()));
            } else {
                item.trees.push(dir.clone());
            }
            item.active = chosen_dir.as_ref().or(default.as_ref()) == Some(&dir);
            if let Some(choice) = chosen.as_ref().filter(|_| chosen_dir.as_ref() == Some(&dir)) {
                item.evidence.push(choice.why.clone());
            }
            let of_it = |verb: &str| CommandLine::new("rustup").words(verb).operand(name.clone());
            record.items.push(
                item.remedy(RemedyKind::Remove, of_it("toolchain uninstall"))
                    .remedy(RemedyKind::Upgrade, of_it("update"))
                    .remedy(RemedyKind::Choose, of_it("default")),
            );
        }
        let program = path::join(&self.bin, b"rustup");
        if let Ok(meta) = host.root.target(&program) {
            let mut item = InstalledPackage::new("program", "rustup");
            item.installed_at = Some(meta.modified);
            item.size = Some(meta.size);
            item.reason = Reason::Explicit;
            item.evidence.push(Evidence::at(program.clone(), "file", "rustup itself; its proxies are links to it"));
            let names = host.root.names_in(&self.bin);
            for (name, _) in names {
                let place = path::join(&self.bin, &name);
                if host.root.target(&place).is_ok_and(|other| other.identity == meta.identity) {
                    item.bring(place, Evidence::at(program.clone(), "file", "the same file as rustup's"));
                }
            }
            record.items.push(
                item.remedy(RemedyKind::Remove, CommandLine::new("rustup self uninstall"))
                    .remedy(RemedyKind::Upgrade, CommandLine::new("rustup self update")),
            );
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"toolchains"), self.bin.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        let name = path::name(canonical);
        if *path::parent(canonical) != *self.bin || matches!(name, b"rustup" | b"rustup-init") {
            return None;
        }
        let itself = host.root.target(&path::join(&self.bin, b"rustup")).ok()?;
        if host.root.target(canonical).ok()?.identity != itself.identity {
            return None;
        }
        let nowhere = |why: Vec<Evidence>| Some(ExecTarget { to: ExecDestination::Nowhere, is_shim: true, why });
        let Some(choice) = self.choose(host, at) else {
            let says = "no toolchain is chosen: the proxy would fail";
            return nowhere(vec![Evidence::at(path::join(&at.dir, b"settings.toml"), "default_toolchain", says)]);
        };
        let mut why = vec![choice.why];
        let Some(dir) = user_dir(host, &at.dir, &choice.name) else {
            let says = format!("{} is not installed: a start would fetch it, or fail", ByteString::from(choice.name));
            why.push(Evidence::at(path::join(&at.dir, b"toolchains"), "lookup", says));
            return nowhere(why);
        };
        let within = |dir: &ByteString| {
            Some(path::join(&path::join(dir, b"bin"), name)).filter(|file| host.root.target(file).is_ok())
        };
        let file = within(&dir).or_else(|| {
            // A toolchain that somebody linked may have no cargo; rustup then lends another one's.
            // The same for one that a file names by its path.
            let is_linked =
                choice.name.starts_with('/') || host.root.entry(&dir).is_ok_and(|meta| meta.kind == Kind::Link);
            let lenders = ["nightly", "beta", "stable"].into_iter().filter(|_| is_linked && name == b"cargo");
            lenders.filter_map(|lender| user_dir(host, &at.dir, lender)).find_map(|dir| within(&dir))
        });
        match file {
            Some(file) => Some(ExecTarget { to: ExecDestination::File(file), is_shim: true, why }),
            None => {
                let says = format!(
                    "{} has no {}: the proxy would fail",
                    ByteString::from(choice.name),
                    ByteString::from(name)
                );
                why.push(Evidence::at(path::join(&dir, b"bin"), "lookup", says));
                nowhere(why)
            }
        }
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        vec![self.bin.clone()]
    }
}
