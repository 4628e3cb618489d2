//! Homebrew, the prefix manager (Homebrew documentation, "Formula Cookbook", "Terminology").
//!
//! | below the prefix | what |
//! |---|---|
//! | `Cellar/NAME/VERSION/` | a keg: one version with its own `bin`, `lib`, `share` |
//! | `Cellar/NAME/VERSION/INSTALL_RECEIPT.json` | how and why it was installed, and from which tap |
//! | `opt/NAME` | link to the keg in use |
//! | `var/homebrew/linked/NAME`, `var/homebrew/pinned/NAME` | the keg whose files are linked; held back |
//! | `bin`, `sbin`, `lib`, `share` … | links into kegs |
//! | `Caskroom/TOKEN/VERSION/` | a cask; its app may lie elsewhere |
//!
//! What its repositories offer lies in the cache of a person (`offers.rs`).
//!
//! Prefixes: `/home/linuxbrew/.linuxbrew`, `/opt/homebrew`, `/usr/local` (shared with others: only links into
//! the Cellar or the Caskroom are Homebrew's), a folder in a home, `HOMEBREW_PREFIX`.
//!
//! Traps: several kegs of one formula are the rule after an upgrade, and the one in use need not be the
//! highest; `name@2` is a formula of its own; a keg without links can be keg-only or unlinked; receipts may
//! be missing or damaged, the keg counts all the same.

mod offers;

use std::cmp::Ordering;

use serde::Deserialize;

use crate::managers::roster::{Item, Keeper, Record, Roster, folders_in, is_folder, link_target, scope_of};
use crate::managers::{Holdings, Manager};
use crate::model::{Asked, Evidence, Installation, ManagerId, Offer, Origin, Reason, Scope, Status};
use crate::root::{Kind, Limit};
use crate::scene::Scene;
use crate::text::{Text, path, shell_word};
use crate::version::tokens;

const ID: ManagerId = ManagerId("homebrew");

const SYSTEM: [&str; 3] = ["/home/linuxbrew/.linuxbrew", "/opt/homebrew", "/usr/local"];
const PERSONAL: [&str; 3] = [".linuxbrew", "homebrew", ".homebrew"];

/// The manager.
#[derive(Debug)]
pub struct Homebrew;

struct Prefix;

impl Manager for Homebrew {
    fn id(&self) -> ManagerId {
        ID
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let mut found: Vec<(Text, Scope)> = SYSTEM.iter().map(|place| (Text::from(*place), Scope::System)).collect();
        for person in &scene.people {
            let own = PERSONAL.iter().map(|name| path::join(&person.home, name.as_bytes()));
            for place in scene.variable(person, "HOMEBREW_PREFIX").cloned().into_iter().chain(own) {
                let scope = scope_of(scene, &place);
                found.push((place, scope));
            }
        }
        let mut held: Vec<Box<dyn Holdings + 's>> = Vec::new();
        let mut seen: Vec<Text> = Vec::new();
        for (place, scope) in found {
            let prefix = scene.root.settle_folder(&place);
            let is_one = [&b"Cellar"[..], b"Caskroom"].iter().any(|name| is_folder(scene, &path::join(&prefix, name)));
            if is_one && !seen.contains(&prefix) {
                seen.push(prefix.clone());
                held.push(Roster::boxed(scene, ID, scope, prefix, Prefix));
            }
        }
        held
    }
}

#[derive(Deserialize, Default)]
struct Receipt {
    installed_on_request: Option<bool>,
    installed_as_dependency: Option<bool>,
    poured_from_bottle: Option<bool>,
    time: Option<f64>,
    arch: Option<String>,
    source: Option<Source>,
}

#[derive(Deserialize)]
struct Source {
    tap: Option<String>,
    path: Option<String>,
    spec: Option<String>,
}

impl Receipt {
    fn reason(&self) -> Reason {
        match (self.installed_on_request, self.installed_as_dependency) {
            (Some(true), _) => Reason::Explicit,
            (_, Some(true)) => Reason::Dependency,
            _ => Reason::Unknown,
        }
    }

    fn origin(&self) -> Option<Origin> {
        let source = self.source.as_ref()?;
        let (name, kind, trust) = match &source.tap {
            Some(tap) if tap.starts_with("homebrew/") => (tap.as_str(), "repository", None),
            Some(tap) => (tap.as_str(), "repository", Some("third-party")),
            None => ("a formula given by its path", "file", Some("local")),
        };
        let url = if source.tap.is_some() { None } else { source.path.as_deref().map(Text::from) };
        Some(Origin { name: name.into(), kind: kind.to_owned(), url, trust: trust.map(str::to_owned) })
    }
}

/// Folders below the prefix in which links into kegs lie.
const LINKED: [&str; 9] = ["bin", "sbin", "lib", "share", "include", "etc", "opt", "Frameworks", "libexec"];

impl Prefix {
    fn kegs(scene: &Scene, at: &Installation, record: &mut Record) {
        let prefix = &at.location;
        let cellar = path::join(prefix, b"Cellar");
        for (name, kind) in folders_in(scene, &cellar, true) {
            // An old name can be a link to the new one's folder.
            if kind == Kind::Link {
                continue;
            }
            let below = |folder: &str| link_target(scene, &path::join(&path::join(prefix, folder.as_bytes()), &name));
            let (in_use, linked) = (below("opt"), below("var/homebrew/linked"));
            let pinned = below("var/homebrew/pinned");
            let rack = path::join(&cellar, &name);
            for (version, _) in folders_in(scene, &rack, false) {
                let keg = path::join(&rack, &version);
                let is = |link: &Option<Text>| link.as_ref() == Some(&keg);
                let mut item = Item::kept("formula", name.clone(), version.clone());
                item.purl = Some("brew");
                let file = path::join(&keg, b"INSTALL_RECEIPT.json");
                let receipt = match scene.root.read(&file, Limit::LIST) {
                    Ok(content) => serde_json::from_slice(&content).unwrap_or_else(|error| {
                        record
                            .notes
                            .push(format!("{file}: {error}: origin and reason of {name} {version} are not known"));
                        Receipt::default()
                    }),
                    Err(error) => {
                        record.notes.push(format!("{error}: origin and reason of {name} {version} are not known"));
                        Receipt::default()
                    }
                };
                item.reason = receipt.reason();
                item.origin = receipt.origin();
                item.channel = receipt.source.as_ref().and_then(|source| source.spec.as_deref()).map(Text::from);
                item.arch = receipt.arch.as_deref().map(Text::from);
                #[expect(clippy::cast_possible_truncation, reason = "seconds since 1970")]
                let noted = receipt.time.map(|time| time as i64);
                item.installed_at = noted.or_else(|| scene.root.entry(&keg).ok().map(|meta| meta.modified));
                item.held = is(&pinned);
                item.active = is(&in_use) || is(&linked);
                item.trees.push(keg.clone());
                item.evidence.push(Evidence::at(keg.clone(), "keg", format!("{name} {version}")));
                if let Some(on_request) = receipt.installed_on_request {
                    item.evidence.push(Evidence::at(file.clone(), "installed_on_request", on_request.to_string()));
                }
                if receipt.poured_from_bottle == Some(false) {
                    item.evidence.push(Evidence::at(
                        file.clone(),
                        "poured_from_bottle",
                        "false: compiled on this machine",
                    ));
                }
                if is(&in_use) && !is(&linked) {
                    let says = "in use, but not linked: keg-only, or unlinked by hand";
                    item.evidence.push(Evidence::at(path::join(prefix, b"var/homebrew/linked"), "look-up", says));
                }
                item.commands = Self::commands(scene, prefix, &keg);
                let word = shell_word(&name);
                record.items.push(
                    item.remedy("remove", format!("brew uninstall {word}"))
                        .remedy("upgrade", format!("brew upgrade {word}")),
                );
            }
        }
    }

    fn commands(scene: &Scene, prefix: &Text, keg: &Text) -> Vec<Text> {
        let folders = ["bin", "sbin"].map(|name| path::join(prefix, name.as_bytes()));
        let links = folders.iter().flat_map(|folder| super::roster::links_into(scene, folder, keg));
        links.map(|(link, _)| link).collect()
    }

    fn casks(scene: &Scene, at: &Installation, record: &mut Record) {
        let room = path::join(&at.location, b"Caskroom");
        for (token, _) in folders_in(scene, &room, false) {
            let folder = path::join(&room, &token);
            let metadata = path::join(&folder, b".metadata");
            for (version, _) in folders_in(scene, &folder, false) {
                let tree = path::join(&folder, &version);
                let mut item = Item::kept("cask", token.clone(), version.clone());
                let is_recorded = is_folder(scene, &path::join(&metadata, &version));
                item.installed_at = scene.root.entry(&tree).ok().map(|meta| meta.modified);
                item.evidence.push(Evidence::at(tree.clone(), "folder", format!("{token} {version}")));
                if !is_recorded {
                    item.status = Status::Broken;
                    item.evidence.push(Evidence::at(metadata.clone(), "look-up", "has no record of this version"));
                }
                // The app is moved to where apps are, and a link to it left in its place.
                for (name, kind) in scene.root.folder(&tree).and_then(|folder| folder.list()).unwrap_or_default() {
                    let link = path::join(&tree, &name);
                    if kind == Kind::Link
                        && let Some(app) = link_target(scene, &link)
                    {
                        item.trees.push(app);
                    }
                }
                item.commands = Self::commands(scene, &at.location, &tree);
                item.trees.push(tree);
                let word = shell_word(&token);
                record.items.push(
                    item.remedy("remove", format!("brew uninstall --cask {word}"))
                        .remedy("upgrade", format!("brew upgrade --cask {word}")),
                );
            }
        }
    }

    fn itself(scene: &Scene, at: &Installation, record: &mut Record) {
        let program = path::join(&at.location, b"bin/brew");
        if scene.root.target(&program).is_err() {
            return;
        }
        let mut item = Item::new("program", "brew");
        let evidence = Evidence::at(program.clone(), "file", "Homebrew itself");
        item.evidence.push(evidence.clone());
        item.places.push((program.clone(), evidence));
        item.commands.push(program);
        item.trees = [&b"Homebrew"[..], b"Library"].iter().map(|name| path::join(&at.location, name)).collect();
        record.items.push(item.remedy("upgrade", "brew update"));
    }
}

impl Keeper for Prefix {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        Self::kegs(scene, at, &mut record);
        Self::casks(scene, at, &mut record);
        Self::itself(scene, at, &mut record);
        record
    }

    fn offers(
        &self,
        scene: &Scene,
        at: &Installation,
        items: &[Item],
        asked: &Asked,
        notes: &mut Vec<String>,
    ) -> Vec<Offer> {
        offers::offers(scene, at, items, asked, notes)
    }

    fn take(&self, offer: &Offer) -> Option<String> {
        // Only the newest can be had.
        let name = offer.candidate.then(|| shell_word(&offer.name))?;
        Some(format!("brew install {name}"))
    }

    fn domain(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        let below = ["Cellar", "Caskroom", "Homebrew", "Library"].iter().chain(&LINKED);
        let mut domain: Vec<Text> = below.map(|name| path::join(&at.location, name.as_bytes())).collect();
        domain.push("/Applications".into());
        domain
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        tokens::compare(a, b)
    }

    fn linked(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Text> {
        let target = link_target(scene, settled)?;
        let own = [&b"Cellar"[..], b"Caskroom"].map(|name| path::join(&at.location, name));
        own.iter().any(|folder| path::within(&target, folder)).then_some(target)
    }

    fn program_folders(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        ["bin", "sbin"].iter().map(|name| path::join(&at.location, name.as_bytes())).collect()
    }
}
