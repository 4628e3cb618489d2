//! Volta (Volta documentation, "Understanding Volta").
//!
//! Below `~/.volta` (`VOLTA_HOME`): `tools/image/{node,npm,yarn,pnpm}/V/`, `tools/image/packages/NAME/`,
//! `tools/user/platform.json` (the default), `tools/user/bins/CMD.json` (a package's command), and `bin/CMD`, links
//! to one program that chooses. A project chooses by the key `volta` of the nearest `package.json`, which can name
//! another file that it extends.

use std::cmp::Ordering;

use serde::Deserialize;

use super::{nowhere, upwards};
use crate::managers::roster::{Item, Keeper, Record, Roster, folders_in, is_folder, of};
use crate::managers::{Holdings, Manager};
use crate::model::{Evidence, Installation, Lead, LeadTo, ManagerId};
use crate::root::{Kind, Limit};
use crate::scene::{Person, Scene};
use crate::text::{Text, path, shell_word};
use crate::version::semver;

const ID: ManagerId = ManagerId("volta");
const TOOLS: [&str; 4] = ["node", "npm", "yarn", "pnpm"];

/// The manager.
#[derive(Debug)]
pub struct Volta;

struct VoltaHome<'s> {
    person: &'s Person,
}

impl Manager for Volta {
    fn id(&self) -> ManagerId {
        ID
    }

    fn keeps_versions(&self) -> bool {
        true
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let of_person = |person: &'s Person| -> Option<Box<dyn Holdings + 's>> {
            let home = scene.folder_of(person, "VOLTA_HOME", ".volta");
            let is_there = is_folder(scene, &path::join(&home, b"tools/image"));
            is_there.then(|| Roster::boxed(scene, ID, of(person), home, VoltaHome { person }))
        };
        scene.people.iter().filter_map(of_person).collect()
    }
}

#[derive(Deserialize, Default)]
struct Platform {
    node: Option<NodeChoice>,
    npm: Option<String>,
    yarn: Option<String>,
    pnpm: Option<String>,
}

#[derive(Deserialize)]
struct NodeChoice {
    runtime: String,
    npm: Option<String>,
}

#[derive(Deserialize)]
struct Project {
    volta: Option<Pins>,
}

#[derive(Deserialize, Default, Clone)]
struct Pins {
    node: Option<String>,
    npm: Option<String>,
    yarn: Option<String>,
    pnpm: Option<String>,
    extends: Option<String>,
}

impl Pins {
    fn of(&self, tool: &str) -> Option<&String> {
        match tool {
            "node" => self.node.as_ref(),
            "npm" => self.npm.as_ref(),
            "yarn" => self.yarn.as_ref(),
            _ => self.pnpm.as_ref(),
        }
    }
}

#[derive(Deserialize)]
struct Command {
    package: String,
    version: Option<String>,
}

/// As many files may extend one another.
const MOST_EXTENDED: usize = 8;

impl VoltaHome<'_> {
    fn choose(&self, scene: &Scene, at: &Installation, tool: &str) -> Option<(Text, Evidence)> {
        let start = scene.folder_for(self.person);
        let project = upwards(&start)
            .map(|folder| path::join(folder, b"package.json"))
            .find(|file| scene.root.entry(file).is_ok());
        let mut file = project;
        for _ in 0..MOST_EXTENDED {
            let Some(at) = file.take() else { break };
            let content = scene.root.read(&at, Limit::SMALL).unwrap_or_default();
            let Some(pins) = serde_json::from_slice::<Project>(&content).ok().and_then(|project| project.volta) else {
                break;
            };
            if let Some(version) = pins.of(tool) {
                return Some((
                    version.as_str().into(),
                    Evidence::at(at, format!("volta.{tool}"), Text::from(version.as_str()).to_string()),
                ));
            }
            file = pins.extends.map(|other| path::absolute(other.as_bytes(), path::folder(&at)));
        }
        let file = path::join(&at.location, b"tools/user/platform.json");
        let platform: Platform = serde_json::from_slice(&scene.root.read(&file, Limit::SMALL).ok()?).ok()?;
        let version = match tool {
            "node" => platform.node?.runtime,
            "npm" => platform.npm.or(platform.node.and_then(|node| node.npm))?,
            "yarn" => platform.yarn?,
            _ => platform.pnpm?,
        };
        let why = Evidence::at(file, tool, format!("{} is the default", Text::from(version.as_str())));
        Some((version.into(), why))
    }
}

impl Keeper for VoltaHome<'_> {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let image = path::join(&at.location, b"tools/image");
        for tool in TOOLS {
            let choice = self.choose(scene, at, tool);
            let folder = path::join(&image, tool.as_bytes());
            for (version, _) in folders_in(scene, &folder, false) {
                let tree = path::join(&folder, &version);
                let mut item = Item::kept("toolchain", tool, version.clone());
                item.installed_at = scene.root.entry(&tree).ok().map(|meta| meta.modified);
                item.evidence.push(Evidence::at(tree.clone(), "folder", format!("{tool} {version}")));
                let chosen = choice.as_ref().filter(|(chosen, _)| *chosen == version);
                item.active = chosen.is_some();
                item.evidence.extend(chosen.map(|(_, why)| why.clone()));
                item.trees.push(tree);
                let word = shell_word(&version);
                record.items.push(item.remedy("remove", format!("volta uninstall {tool}@{word}")));
            }
        }
        let bins = path::join(&at.location, b"tools/user/bins");
        let names = scene.root.folder(&bins).and_then(|folder| folder.list()).unwrap_or_default();
        for (name, _) in names.iter().filter(|(name, _)| name.ends_with(b".json")) {
            let file = path::join(&bins, name);
            let read = scene
                .root
                .read(&file, Limit::SMALL)
                .ok()
                .and_then(|content| serde_json::from_slice::<Command>(&content).ok());
            let Some(command) = read else {
                record.notes.push(format!("{file}: damaged: whose command it is is not known"));
                continue;
            };
            let package = Text::from(command.package.as_str());
            let tree = path::join(&path::join(&image, b"packages"), &package);
            let program = path::join(&path::join(&at.location, b"bin"), name.strip_suffix(b".json").unwrap_or(name));
            let evidence = Evidence::at(file, "package", package.to_string());
            match record.items.iter_mut().find(|item| item.name == package && item.kind == "package") {
                Some(item) => {
                    item.commands.push(program.clone());
                    item.places.push((program, evidence));
                }
                None => {
                    let mut item = Item::new("package", package.clone());
                    item.version = command.version.map(Text::from);
                    item.evidence.push(evidence.clone());
                    item.trees.push(tree);
                    item.commands.push(program.clone());
                    item.places.push((program, evidence));
                    record.items.push(item.remedy("remove", format!("volta uninstall {}", shell_word(&package))));
                }
            }
        }
        let mut item = Item::new("program", "volta");
        item.evidence.push(Evidence::at(at.location.clone(), "folder", "Volta itself, and its shims"));
        item.trees.push(at.location.clone());
        record.items.push(item);
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }

    fn lead(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Lead> {
        let bin = path::join(&at.location, b"bin");
        let name = path::name(settled);
        if *path::folder(settled) != *bin
            || scene.root.entry(settled).ok()?.kind != Kind::Link
            || name.starts_with(b"volta")
        {
            return None;
        }
        let image = path::join(&at.location, b"tools/image");
        let (tool, command) = match name {
            b"npx" => ("npm", "npx"),
            b"yarnpkg" => ("yarn", "yarnpkg"),
            _ => TOOLS.iter().find(|tool| tool.as_bytes() == name).map_or(("", ""), |tool| (*tool, *tool)),
        };
        if tool.is_empty() {
            let file = path::join(&at.location, &[b"tools/user/bins/", name, b".json"].concat());
            let command: Command = serde_json::from_slice(&scene.root.read(&file, Limit::SMALL).ok()?).ok()?;
            let package = path::join(&path::join(&image, b"packages"), command.package.as_bytes());
            let why = vec![Evidence::at(file, "package", Text::from(command.package).to_string())];
            return Some(Lead {
                to: LeadTo::File(path::join(&path::join(&package, b"bin"), name)),
                is_shim: true,
                why,
            });
        }
        // Without an npm of its own choice, the chosen node's is taken.
        let (tool, choice) = match self.choose(scene, at, tool) {
            None if tool == "npm" => ("node", self.choose(scene, at, "node")),
            choice => (tool, choice),
        };
        let Some((version, because)) = choice else {
            let file = path::join(&at.location, b"tools/user/platform.json");
            return Some(nowhere(vec![Evidence::at(
                file,
                "look-up",
                format!("no {tool} is chosen: the shim would fail"),
            )]));
        };
        let folder = path::join(&path::join(&image, tool.as_bytes()), &version);
        let program = path::join(&path::join(&folder, b"bin"), command.as_bytes());
        let mut why = vec![because];
        if scene.root.target(&program).is_ok() {
            return Some(Lead { to: LeadTo::File(program), is_shim: true, why });
        }
        why.push(Evidence::at(
            folder,
            "look-up",
            format!("{tool} {version} is not installed: the shim would fetch it"),
        ));
        Some(nowhere(why))
    }

    fn program_folders(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        vec![path::join(&at.location, b"bin")]
    }
}
