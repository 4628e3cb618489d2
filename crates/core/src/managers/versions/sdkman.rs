//! SDKMAN (SDKMAN documentation, "Usage").
//!
//! Below `~/.sdkman` (`SDKMAN_DIR`): `candidates/TOOL/VERSION/`, and `candidates/TOOL/current`, the link to the
//! default, whose `bin` is on the search path. A `.sdkmanrc` (`java=21.0.4-tem`) counts after `sdk env`, or at once
//! where `etc/config` says `sdkman_auto_env=true`.
//!
//! Traps: a version that is a link is one that a person keeps elsewhere; `tmp/` and `archives/` are downloads;
//! vendors of java are part of the version, and their numbers mean nothing to one another.

use std::cmp::Ordering;

use super::nearest;
use crate::formats::settings;
use crate::managers::roster::{Item, Keeper, Record, Roster, folders_in, is_folder, link_target, of};
use crate::managers::{Holdings, Manager};
use crate::model::{Evidence, Installation, ManagerId};
use crate::root::{Kind, Limit};
use crate::scene::{Person, Scene};
use crate::text::{Text, path, shell_word};
use crate::version::tokens;

const ID: ManagerId = ManagerId("sdkman");

/// The manager.
#[derive(Debug)]
pub struct Sdkman;

struct SdkmanDir<'s>(&'s Person);

impl Manager for Sdkman {
    fn id(&self) -> ManagerId {
        ID
    }

    fn keeps_versions(&self) -> bool {
        true
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let of_person = |person: &'s Person| -> Option<Box<dyn Holdings + 's>> {
            let folder = scene.folder_of(person, "SDKMAN_DIR", ".sdkman");
            let is_there = is_folder(scene, &path::join(&folder, b"candidates"));
            is_there.then(|| Roster::boxed(scene, ID, of(person), folder, SdkmanDir(person)))
        };
        scene.people.iter().filter_map(of_person).collect()
    }
}

impl Keeper for SdkmanDir<'_> {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let config = scene.root.read(&path::join(&at.location, b"etc/config"), Limit::SMALL).unwrap_or_default();
        let at_once = settings::assignments(&config).any(|set| set.name == b"sdkman_auto_env" && set.value == b"true");
        let here = nearest(scene, &scene.folder_for(self.0), ".sdkmanrc");
        let candidates = path::join(&at.location, b"candidates");
        for (tool, _) in folders_in(scene, &candidates, false) {
            let folder = path::join(&candidates, &tool);
            let current = path::join(&folder, b"current");
            let default = link_target(scene, &current);
            let asked = here.as_ref().and_then(|(file, content)| {
                let set = settings::assignments(content).find(|set| set.name == &*tool)?;
                let when = if at_once { "counts in a shell that comes here" } else { "counts after `sdk env`" };
                Some((
                    Text::from(set.value),
                    Evidence::line(file.clone(), set.line, format!("{tool}={}: {when}", Text::from(set.value))),
                ))
            });
            for (version, kind) in
                folders_in(scene, &folder, true).into_iter().filter(|(name, _)| **name != *b"current")
            {
                let tree = path::join(&folder, &version);
                let mut item = Item::kept("toolchain", tool.clone(), version.clone());
                item.installed_at = scene.root.entry(&tree).ok().map(|meta| meta.modified);
                if kind == Kind::Link {
                    let target = scene.root.settle_folder(&tree);
                    item.evidence.push(Evidence::at(
                        tree.clone(),
                        "link",
                        format!("kept elsewhere by a person: {target}"),
                    ));
                    item.places.push((tree.clone(), item.evidence[0].clone()));
                } else {
                    item.evidence.push(Evidence::at(tree.clone(), "folder", format!("{tool} {version}")));
                    item.trees.push(tree.clone());
                }
                item.active = default.as_ref() == Some(&tree);
                if item.active {
                    item.evidence.push(Evidence::at(current.clone(), "link", format!("{version} is the default")));
                }
                if let Some((_, why)) = asked.as_ref().filter(|(wanted, _)| *wanted == version) {
                    item.evidence.push(why.clone());
                }
                let (tool, version) = (shell_word(&tool), shell_word(&version));
                record.items.push(
                    item.remedy("remove", format!("sdk uninstall {tool} {version}"))
                        .remedy("choose", format!("sdk default {tool} {version}")),
                );
            }
            if let Some(missing) = default.filter(|target| !is_folder(scene, target)) {
                record.notes.push(format!("{current}: leads to {missing}, which is not there: {tool} has no default"));
            }
        }
        let mut item = Item::new("program", "sdkman");
        let own = scene.root.read(&path::join(&at.location, b"var/version"), Limit::SMALL).ok();
        item.version = own.map(|version| version.trim_ascii().into()).filter(|version: &Text| !version.is_empty());
        item.evidence.push(Evidence::at(at.location.clone(), "folder", "SDKMAN itself: functions that a shell loads"));
        item.trees.push(at.location.clone());
        record.items.push(item);
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        tokens::compare(a, b)
    }

    fn program_folders(&self, scene: &Scene, at: &Installation) -> Vec<Text> {
        let candidates = path::join(&at.location, b"candidates");
        let tools = folders_in(scene, &candidates, false).into_iter();
        tools.map(|(tool, _)| path::join(&path::join(&candidates, &tool), b"current/bin")).collect()
    }
}
