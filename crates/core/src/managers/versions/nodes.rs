//! nvm and fnm, which put the chosen Node.js on the search path (their READMEs).
//!
//! | manager | versions | default |
//! |---|---|---|
//! | nvm | `~/.nvm/versions/node/vX/` (`NVM_DIR`) | `alias/default`, a word that can name another alias |
//! | fnm | `~/.local/share/fnm/node-versions/vX/installation/` (`FNM_DIR`) | link `aliases/default` |
//!
//! A `.nvmrc` in the current folder counts only after `nvm use` or `fnm use`: it is told, and decides nothing.
//!
//! Traps: nvm's `alias/lts/*` name versions that need not be installed; aliases can lead in a circle; fnm's
//! links for each open shell pile up and are no versions.

use std::cmp::Ordering;

use super::{highest, nearest};
use crate::managers::roster::{Item, Keeper, Record, Roster, folders_in, is_folder, link_target, of};
use crate::managers::{Holdings, Manager};
use crate::model::{Evidence, Installation, ManagerId};
use crate::root::Limit;
use crate::scene::{Person, Scene};
use crate::text::{Text, path, shell_word};
use crate::version::semver;

const NVM: ManagerId = ManagerId("nvm");
const FNM: ManagerId = ManagerId("fnm");

/// nvm.
#[derive(Debug)]
pub struct Nvm;

/// fnm.
#[derive(Debug)]
pub struct Fnm;

struct NvmDir<'s>(&'s Person);
struct FnmDir<'s>(&'s Person);

impl Manager for Nvm {
    fn id(&self) -> ManagerId {
        NVM
    }

    fn keeps_versions(&self) -> bool {
        true
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let of_person = |person: &'s Person| -> Option<Box<dyn Holdings + 's>> {
            let folder = scene.folder_of(person, "NVM_DIR", ".nvm");
            let is_there = is_folder(scene, &path::join(&folder, b"versions"))
                || scene.root.entry(&path::join(&folder, b"nvm.sh")).is_ok();
            is_there.then(|| Roster::boxed(scene, NVM, of(person), folder, NvmDir(person)))
        };
        scene.people.iter().filter_map(of_person).collect()
    }
}

impl Manager for Fnm {
    fn id(&self) -> ManagerId {
        FNM
    }

    fn keeps_versions(&self) -> bool {
        true
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let of_person = |person: &'s Person| -> Option<Box<dyn Holdings + 's>> {
            let folder = scene.folder_of(person, "FNM_DIR", ".local/share/fnm");
            let is_there = is_folder(scene, &path::join(&folder, b"node-versions"));
            is_there.then(|| Roster::boxed(scene, FNM, of(person), folder, FnmDir(person)))
        };
        scene.people.iter().filter_map(of_person).collect()
    }
}

/// What a version file in the current folder asks for: it counts once the manager is told to use it.
fn asked_here(scene: &Scene, person: &Person, files: &[&str], kept: &[Text], how: &str) -> Option<(Text, Evidence)> {
    let start = scene.folder_for(person);
    let (file, content) = files.iter().find_map(|name| nearest(scene, &start, name))?;
    let word = Text::from(content.split(u8::is_ascii_whitespace).find(|word| !word.is_empty())?);
    let version = highest(kept, word.strip_prefix(b"v").unwrap_or(&word), semver::compare)?.clone();
    Some((version, Evidence::line(file, 1, format!("{word} is asked for here; it counts after `{how}`"))))
}

/// As many aliases may name one another.
const MOST_ALIASES: usize = 10;

/// The version that nvm's default names, alias by alias.
fn nvm_default(scene: &Scene, at: &Installation, kept: &[Text]) -> Option<(Text, Evidence)> {
    let first = path::join(&at.location, b"alias/default");
    let mut word = Text::from("default");
    for _ in 0..MOST_ALIASES {
        let file = path::join(&path::join(&at.location, b"alias"), &word);
        let Ok(content) = scene.root.read(&file, Limit::SMALL) else { break };
        word = content.trim_ascii().into();
    }
    let version = match &*word {
        b"node" | b"stable" => kept.iter().max_by(|a, b| semver::compare(a, b))?,
        other => highest(kept, other.strip_prefix(b"v").unwrap_or(other), semver::compare)?,
    };
    Some((version.clone(), Evidence::line(first, 1, format!("a new shell gets {version}"))))
}

impl Keeper for NvmDir<'_> {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let versions = path::join(&at.location, b"versions/node");
        let kept: Vec<Text> = folders_in(scene, &versions, false).into_iter().map(|(name, _)| name).collect();
        let default = nvm_default(scene, at, &kept);
        let here = asked_here(scene, self.0, &[".nvmrc"], &kept, "nvm use");
        for version in &kept {
            let tree = path::join(&versions, version);
            let mut item = kept_node(scene, version, tree, default.as_ref(), here.as_ref());
            let word = shell_word(version);
            item = item
                .remedy("remove", format!("nvm uninstall {word}"))
                .remedy("choose", format!("nvm alias default {word}"));
            record.items.push(item);
        }
        let mut item = Item::new("program", "nvm");
        item.evidence.push(Evidence::at(at.location.clone(), "folder", "nvm itself: functions that a shell loads"));
        item.trees.push(at.location.clone());
        record.items.push(item);
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }
}

fn kept_node(
    scene: &Scene,
    version: &Text,
    tree: Text,
    default: Option<&(Text, Evidence)>,
    here: Option<&(Text, Evidence)>,
) -> Item {
    let mut item = Item::kept("toolchain", "node", version.clone());
    // The folder has the version with a `v`, which is no part of it.
    item.version = Some(version.strip_prefix(b"v").unwrap_or(version).into());
    item.tail = Some(path::join(b"node", version.strip_prefix(b"v").unwrap_or(version)));
    item.installed_at = scene.root.entry(&tree).ok().map(|meta| meta.modified);
    item.evidence.push(Evidence::at(tree.clone(), "folder", format!("node {version}")));
    item.active = default.is_some_and(|(chosen, _)| chosen == version);
    let says = [default, here].into_iter().flatten().filter(|(chosen, _)| chosen == version);
    item.evidence.extend(says.map(|(_, why)| why.clone()));
    item.trees.push(tree);
    item
}

impl Keeper for FnmDir<'_> {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let versions = path::join(&at.location, b"node-versions");
        let kept: Vec<Text> = folders_in(scene, &versions, false).into_iter().map(|(name, _)| name).collect();
        let alias = path::join(&at.location, b"aliases/default");
        let default = link_target(scene, &alias).and_then(|target| {
            let version = Text::from(path::name(path::folder(&target)));
            kept.contains(&version)
                .then(|| (version.clone(), Evidence::at(alias, "link", format!("a new shell gets {version}"))))
        });
        let here = asked_here(scene, self.0, &[".nvmrc", ".node-version"], &kept, "fnm use");
        for version in &kept {
            let tree = path::join(&versions, version);
            let item = kept_node(scene, version, tree, default.as_ref(), here.as_ref());
            let word = shell_word(version);
            record.items.push(
                item.remedy("remove", format!("fnm uninstall {word}")).remedy("choose", format!("fnm default {word}")),
            );
        }
        record
    }

    fn domain(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        vec![path::join(&at.location, b"node-versions")]
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }
}
