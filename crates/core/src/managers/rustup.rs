//! rustup's toolchains, and which of them a proxy would start here (*The rustup book*, "Overrides").
//!
//! | file below `RUSTUP_HOME` (`~/.rustup`) | what it says |
//! |---|---|
//! | `settings.toml` | `default_toolchain`, `[overrides]` folder → toolchain |
//! | `toolchains/NAME/` | a toolchain; a link for one that is kept elsewhere |
//! | `toolchains/NAME/lib/rustlib/multirust-channel-manifest.toml` | versions (`[pkg.rustc]`) |
//! | `toolchains/NAME/lib/rustlib/components` | its components |
//!
//! `CARGO_HOME/bin` has rustup itself and its proxies, links or hard links to it. A proxy chooses by
//! `RUSTUP_TOOLCHAIN`, then folder by folder upwards an override or a `rust-toolchain[.toml]` file, then the
//! default.
//!
//! Traps: of both files in one folder, the one without an ending counts; `nightly` means the one for this
//! machine; a component that is missing makes its proxy fail, but `cargo` missing in a linked toolchain is
//! taken from another one.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use serde::Deserialize;

use super::roster::{Item, Keeper, Record, Roster, folders_in, is_folder, of};
use super::{Holdings, Manager};
use crate::model::{Evidence, Installation, Lead, LeadTo, ManagerId, Reason};
use crate::root::{Kind, Limit};
use crate::scene::{Person, Scene};
use crate::text::{Text, path, shell_word};
use crate::version::semver;

const ID: ManagerId = ManagerId("rustup");

/// The manager.
#[derive(Debug)]
pub struct Rustup;

struct RustupHome<'s> {
    person: &'s Person,
    bin: Text,
}

impl Manager for Rustup {
    fn id(&self) -> ManagerId {
        ID
    }

    fn keeps_versions(&self) -> bool {
        true
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let of_person = |person: &'s Person| -> Option<Box<dyn Holdings + 's>> {
            let home = scene.folder_of(person, "RUSTUP_HOME", ".rustup");
            let bin = path::join(&scene.folder_of(person, "CARGO_HOME", ".cargo"), b"bin");
            let is_there = is_folder(scene, &path::join(&home, b"toolchains"));
            is_there.then(|| Roster::boxed(scene, ID, of(person), home, RustupHome { person, bin }))
        };
        scene.people.iter().filter_map(of_person).collect()
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

/// What was chosen, and what says so.
struct Choice {
    name: String,
    why: Evidence,
}

fn settings(scene: &Scene, home: &Text) -> Result<Settings, String> {
    let file = path::join(home, b"settings.toml");
    match scene.root.read(&file, Limit::SMALL) {
        Ok(content) => toml::from_slice(&content).map_err(|error| format!("{file}: {}", error.message())),
        Err(error) if error.is_missing() => Ok(Settings::default()),
        Err(error) => Err(error.to_string()),
    }
}

impl RustupHome<'_> {
    fn choose(&self, scene: &Scene, at: &Installation) -> Option<Choice> {
        if let Some(name) = scene.variable(self.person, "RUSTUP_TOOLCHAIN") {
            let why = Evidence::at("environment of this process", "RUSTUP_TOOLCHAIN", name.to_string());
            return Some(Choice { name: name.to_string(), why });
        }
        let file = path::join(&at.location, b"settings.toml");
        let settings = settings(scene, &at.location).unwrap_or_default();
        let start = scene.folder_for(self.person);
        let mut folder = &*start;
        loop {
            let fits = |(of, _): &(&String, &String)| of.as_bytes() == folder;
            if let Some((of, name)) = settings.overrides.iter().find(fits) {
                let says = format!("{} is chosen below {}", Text::from(name.as_str()), Text::from(of.as_str()));
                return Some(Choice { name: name.clone(), why: Evidence::at(file, "overrides", says) });
            }
            if let Some(choice) = by_file(scene, folder) {
                return Some(choice);
            }
            if folder.len() <= 1 {
                break;
            }
            folder = path::folder(folder);
        }
        let name = settings.default_toolchain?;
        let says = format!("{} is the default", Text::from(name.as_str()));
        Some(Choice { name, why: Evidence::at(file, "default_toolchain", says) })
    }
}

/// What a toolchain file in a folder asks for.
fn by_file(scene: &Scene, folder: &[u8]) -> Option<Choice> {
    for (name, only_toml) in [("rust-toolchain", false), ("rust-toolchain.toml", true)] {
        let file = path::join(folder, name.as_bytes());
        let Ok(content) = scene.root.read(&file, Limit::SMALL) else { continue };
        let text = String::from_utf8_lossy(&content);
        let read =
            toml::from_str::<ToolchainFile>(&text).ok().and_then(|read| read.toolchain.channel.or(read.toolchain.path));
        // The old form is one line with the name.
        let line = (!only_toml && text.trim().lines().count() == 1).then(|| text.trim().to_owned());
        let name = read.or(line)?;
        let why = Evidence::at(file, "toolchain", format!("asks for {}", Text::from(name.as_str())));
        return Some(Choice { name, why });
    }
    None
}

/// The folder of the toolchain that a name means: the full name, or a channel for this machine.
fn folder_of(scene: &Scene, home: &Text, name: &str) -> Option<Text> {
    if name.starts_with('/') {
        return Some(scene.root.settle_folder(name.as_bytes())).filter(|folder| is_folder(scene, folder));
    }
    let toolchains = path::join(home, b"toolchains");
    let names = folders_in(scene, &toolchains, true);
    let is_host = |rest: &[u8]| rest.iter().filter(|&&b| b == b'-').count() >= 2 && !rest[0].is_ascii_digit();
    let fits = |full: &Text| {
        **full == *name.as_bytes()
            || full
                .strip_prefix(name.as_bytes())
                .and_then(|rest| rest.strip_prefix(b"-"))
                .is_some_and(|rest| !rest.is_empty() && is_host(rest))
    };
    let found = names.into_iter().map(|(full, _)| full).find(fits)?;
    let folder = path::join(&toolchains, &found);
    is_folder(scene, &folder).then_some(folder)
}

/// The version in a toolchain's manifest: a long file, of which one line is wanted.
fn version(scene: &Scene, folder: &Text) -> Option<(Text, Evidence)> {
    let file = path::join(folder, b"lib/rustlib/multirust-channel-manifest.toml");
    let content = scene.root.read(&file, Limit::LIST).ok()?;
    let start = memchr::memmem::find(&content, b"\n[pkg.rustc]\n")?;
    let rest = &content[start + 13..];
    let rest = &rest[..memchr::memmem::find(rest, b"\n[").unwrap_or(rest.len())];
    let line = rest.split(|&b| b == b'\n').find_map(|line| line.strip_prefix(b"version = \""))?;
    let whole = Text::from(line.split(|&b| b == b'"').next()?);
    let version = whole.split(|&b| b == b' ').next()?.into();
    Some((version, Evidence::at(file, "pkg.rustc.version", whole.to_string())))
}

impl Keeper for RustupHome<'_> {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let settings = settings(scene, &at.location).unwrap_or_else(|problem| {
            record.notes.push(format!("{problem}: which toolchain is the default is not known"));
            Settings::default()
        });
        let toolchains = path::join(&at.location, b"toolchains");
        let default = settings.default_toolchain.as_deref().and_then(|name| folder_of(scene, &at.location, name));
        let chosen = self.choose(scene, at);
        let chosen_folder = chosen.as_ref().and_then(|choice| folder_of(scene, &at.location, &choice.name));
        for (name, kind) in folders_in(scene, &toolchains, true) {
            let folder = path::join(&toolchains, &name);
            let mut item = Item::new("toolchain", name.clone());
            item.also.push("rust".into());
            if let Some((version, evidence)) = version(scene, &folder) {
                item.version = Some(version);
                item.evidence.push(evidence);
            } else {
                item.evidence.push(Evidence::at(
                    folder.clone(),
                    "folder",
                    "a toolchain without a manifest: its version is not known",
                ));
            }
            item.installed_at = scene.root.entry(&folder).ok().map(|meta| meta.modified);
            if kind == Kind::Link {
                let target = scene.root.settle_folder(&folder);
                let says = if path::within(&target, &toolchains) {
                    "another name for"
                } else {
                    "a link to a toolchain kept elsewhere:"
                };
                item.evidence.push(Evidence::at(folder.clone(), "link", format!("{says} {target}")));
                item.places.push((folder.clone(), item.evidence[0].clone()));
            } else {
                item.trees.push(folder.clone());
            }
            item.active = chosen_folder.as_ref().or(default.as_ref()) == Some(&folder);
            if let Some(choice) = chosen.as_ref().filter(|_| chosen_folder.as_ref() == Some(&folder)) {
                item.evidence.push(choice.why.clone());
            }
            let name = shell_word(&name);
            record.items.push(
                item.remedy("remove", format!("rustup toolchain uninstall {name}"))
                    .remedy("upgrade", format!("rustup update {name}"))
                    .remedy("choose", format!("rustup default {name}")),
            );
        }
        let program = path::join(&self.bin, b"rustup");
        if let Ok(meta) = scene.root.target(&program) {
            let mut item = Item::new("program", "rustup");
            item.installed_at = Some(meta.modified);
            item.size = Some(meta.size);
            item.reason = Reason::Explicit;
            item.evidence.push(Evidence::at(program.clone(), "file", "rustup itself; its proxies are links to it"));
            let names = scene.root.folder(&self.bin).and_then(|folder| folder.list()).unwrap_or_default();
            for (name, _) in names {
                let place = path::join(&self.bin, &name);
                if scene.root.target(&place).is_ok_and(|other| other.identity == meta.identity) {
                    item.commands.push(place.clone());
                    item.places.push((place, Evidence::at(program.clone(), "file", "the same file as rustup's")));
                }
            }
            record.items.push(item.remedy("remove", "rustup self uninstall").remedy("upgrade", "rustup self update"));
        }
        record
    }

    fn domain(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        vec![path::join(&at.location, b"toolchains"), self.bin.clone()]
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }

    fn lead(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Lead> {
        let name = path::name(settled);
        if *path::folder(settled) != *self.bin || matches!(name, b"rustup" | b"rustup-init") {
            return None;
        }
        let itself = scene.root.target(&path::join(&self.bin, b"rustup")).ok()?;
        if scene.root.target(settled).ok()?.identity != itself.identity {
            return None;
        }
        let nowhere = |why: Vec<Evidence>| Some(Lead { to: LeadTo::Nowhere, is_shim: true, why });
        let Some(choice) = self.choose(scene, at) else {
            let says = "no toolchain is chosen: the proxy would fail";
            return nowhere(vec![Evidence::at(path::join(&at.location, b"settings.toml"), "default_toolchain", says)]);
        };
        let mut why = vec![choice.why];
        let Some(folder) = folder_of(scene, &at.location, &choice.name) else {
            let says = format!("{} is not installed: a start would fetch it, or fail", Text::from(choice.name));
            why.push(Evidence::at(path::join(&at.location, b"toolchains"), "look-up", says));
            return nowhere(why);
        };
        let within = |folder: &Text| {
            Some(path::join(&path::join(folder, b"bin"), name)).filter(|file| scene.root.target(file).is_ok())
        };
        let file = within(&folder).or_else(|| {
            // A toolchain that somebody linked may have no cargo; rustup then lends another one's.
            // The same for one that a file names by its path.
            let is_linked =
                choice.name.starts_with('/') || scene.root.entry(&folder).is_ok_and(|meta| meta.kind == Kind::Link);
            let lenders = ["nightly", "beta", "stable"].into_iter().filter(|_| is_linked && name == b"cargo");
            lenders.filter_map(|lender| folder_of(scene, &at.location, lender)).find_map(|folder| within(&folder))
        });
        match file {
            Some(file) => Some(Lead { to: LeadTo::File(file), is_shim: true, why }),
            None => {
                let says = format!("{} has no {}: the proxy would fail", Text::from(choice.name), Text::from(name));
                why.push(Evidence::at(path::join(&folder, b"bin"), "look-up", says));
                nowhere(why)
            }
        }
    }

    fn program_folders(&self, _: &Scene, _: &Installation) -> Vec<Text> {
        vec![self.bin.clone()]
    }
}
