//! mise (mise documentation, "Configuration", "Shims").
//!
//! Below `~/.local/share/mise` (`MISE_DATA_DIR`): `installs/TOOL/V/`, and `shims/NAME`, links to mise itself. A
//! tool's version is looked for in `MISE_TOOL_VERSION`; then from the current folder upwards in `mise.local.toml`,
//! `.mise.toml`, `mise.toml`, `.config/mise/config.toml` and `.tool-versions`; then in `~/.config/mise/config.toml`;
//! last in `~/.tool-versions`.
//!
//! Traps: relative links in `installs/TOOL` (`4`, `latest`) stand for partial versions and are none; an absolute one
//! is a version linked by hand; a shim whose version is missing installs it.

use std::cmp::Ordering;

use super::{asdf, highest, nowhere, upwards};
use crate::managers::roster::{Item, Keeper, Record, Roster, folders_in, is_folder, of};
use crate::managers::{Holdings, Manager};
use crate::model::{Evidence, Installation, Lead, LeadTo, ManagerId};
use crate::root::{Kind, Limit};
use crate::scene::{Person, Scene};
use crate::text::{Text, path, shell_word};
use crate::version::tokens;

const ID: ManagerId = ManagerId("mise");

/// The manager.
#[derive(Debug)]
pub struct Mise;

struct MiseData<'s> {
    person: &'s Person,
}

impl Manager for Mise {
    fn id(&self) -> ManagerId {
        ID
    }

    fn keeps_versions(&self) -> bool {
        true
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let of_person = |person: &'s Person| -> Option<Box<dyn Holdings + 's>> {
            let data = scene.folder_of(person, "MISE_DATA_DIR", ".local/share/mise");
            let is_there =
                ["installs", "shims"].iter().any(|name| is_folder(scene, &path::join(&data, name.as_bytes())));
            is_there.then(|| Roster::boxed(scene, ID, of(person), data, MiseData { person }))
        };
        scene.people.iter().filter_map(of_person).collect()
    }
}

/// The files of one folder, strongest first.
const FILES: [&str; 4] = ["mise.local.toml", ".mise.toml", "mise.toml", ".config/mise/config.toml"];

/// The versions that a file gives a tool.
fn versions_in(content: &[u8], tool: &str) -> Option<Vec<Text>> {
    let table: toml::Table = toml::from_slice(content).ok()?;
    let one = |value: &toml::Value| -> Option<Text> {
        let text = match value {
            toml::Value::Table(table) => table.get("version").or(table.get("path"))?.as_str()?,
            other => other.as_str()?,
        };
        Some(text.into())
    };
    match table.get("tools")?.as_table()?.get(tool)? {
        toml::Value::Array(several) => Some(several.iter().filter_map(one).collect()),
        other => Some(vec![one(other)?]),
    }
}

impl MiseData<'_> {
    fn choose(&self, scene: &Scene, tool: &Text) -> Option<(Vec<Text>, Evidence)> {
        let name = tool.to_string();
        let variable = format!("MISE_{}_VERSION", name.to_uppercase().replace('-', "_"));
        if let Some(value) = scene.variable(self.person, &variable) {
            let versions =
                value.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).map(Text::from).collect();
            return Some((versions, Evidence::at("environment of this process", variable, value.to_string())));
        }
        let told = |versions: &[Text]| versions.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let by_toml = |file: Text| {
            let versions = versions_in(&scene.root.read(&file, Limit::SMALL).ok()?, &name)?;
            let says = told(&versions);
            Some((versions, Evidence::at(file, format!("tools.{name}"), says)))
        };
        let by_lines = |folder: &[u8]| {
            let file = path::join(folder, b".tool-versions");
            let (line, versions) = asdf::versions_in(&scene.root.read(&file, Limit::SMALL).ok()?, tool)?;
            let says = told(&versions);
            Some((versions, Evidence::line(file, line, says)))
        };
        let start = scene.folder_for(self.person);
        let home = &*self.person.home;
        let of_folder = |folder: &[u8]| {
            let files = FILES.iter().filter(|name| folder != home || !name.starts_with(".config"));
            let found = files.map(|file| path::join(folder, file.as_bytes())).find_map(by_toml);
            found.or_else(|| if folder == home { None } else { by_lines(folder) })
        };
        upwards(&start)
            .find_map(of_folder)
            .or_else(|| by_toml(scene.folder_of(self.person, "MISE_GLOBAL_CONFIG_FILE", ".config/mise/config.toml")))
            .or_else(|| by_lines(home))
    }

    /// The folder of a version as it is asked for, and what is missing where there is none.
    fn folder_of(scene: &Scene, tool_folder: &Text, asked: &[u8]) -> Option<Text> {
        if let Some(own) = asked.strip_prefix(b"path:") {
            return Some(own.into());
        }
        let asked = asked.strip_prefix(b"prefix:").unwrap_or(asked);
        let direct = path::join(tool_folder, asked);
        if is_folder(scene, &direct) {
            return Some(direct);
        }
        let kept: Vec<Text> = folders_in(scene, tool_folder, false).into_iter().map(|(name, _)| name).collect();
        let found = if asked == b"latest" {
            kept.iter().max_by(|a, b| tokens::compare(a, b))
        } else {
            highest(&kept, asked, tokens::compare)
        };
        found.map(|version| path::join(tool_folder, version))
    }
}

impl Keeper for MiseData<'_> {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let installs = path::join(&at.location, b"installs");
        for (tool, _) in folders_in(scene, &installs, false) {
            let choice = self.choose(scene, &tool);
            let folder = path::join(&installs, &tool);
            let chosen = choice.as_ref().and_then(|(versions, _)| Self::folder_of(scene, &folder, versions.first()?));
            let chosen = chosen.map(|folder| scene.root.settle_folder(&folder));
            for (version, kind) in folders_in(scene, &folder, true) {
                let tree = path::join(&folder, &version);
                let mut item = Item::kept("toolchain", tool.clone(), version.clone());
                item.installed_at = scene.root.entry(&tree).ok().map(|meta| meta.modified);
                if kind == Kind::Link {
                    if scene.root.read_link(&tree).is_ok_and(|to| !to.starts_with(b"/")) {
                        continue;
                    }
                    let target = scene.root.settle_folder(&tree);
                    item.evidence.push(Evidence::at(tree.clone(), "link", format!("linked by hand: {target}")));
                    item.places.push((tree.clone(), item.evidence[0].clone()));
                } else {
                    item.evidence.push(Evidence::at(tree.clone(), "folder", format!("{tool} {version}")));
                    item.trees.push(tree.clone());
                }
                item.active = chosen.as_ref() == Some(&scene.root.settle_folder(&tree));
                if let Some((_, why)) = choice.as_ref().filter(|_| item.active) {
                    item.evidence.push(why.clone());
                }
                let one = shell_word(&[&*tool, b"@", &*version].concat());
                record.items.push(
                    item.remedy("remove", format!("mise uninstall {one}"))
                        .remedy("choose", format!("mise use --global {one}")),
                );
            }
        }
        record
    }

    fn domain(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        vec![path::join(&at.location, b"installs"), path::join(&at.location, b"shims")]
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        tokens::compare(a, b)
    }

    fn lead(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Lead> {
        if *path::folder(settled) != *path::join(&at.location, b"shims") {
            return None;
        }
        let name = path::name(settled);
        let installs = path::join(&at.location, b"installs");
        let program_in = |folder: &Text| path::join(&path::join(folder, b"bin"), name);
        let mut why = Vec::new();
        for (tool, _) in folders_in(scene, &installs, false) {
            let folder = path::join(&installs, &tool);
            let kept = folders_in(scene, &folder, true).into_iter().map(|(version, _)| path::join(&folder, &version));
            let brings = kept.into_iter().any(|version| scene.root.target(&program_in(&version)).is_ok());
            let choice = self.choose(scene, &tool);
            let Some((versions, because)) = choice.filter(|_| brings) else { continue };
            why.push(because);
            for version in versions {
                if *version == *b"system" {
                    let shims = path::join(&at.location, b"shims");
                    return Some(Lead { to: LeadTo::NextOnPath(vec![shims]), is_shim: true, why });
                }
                let Some(chosen) = Self::folder_of(scene, &folder, &version) else {
                    let says = format!("{tool} {version} is not installed: the shim would install it");
                    why.push(Evidence::at(folder.clone(), "look-up", says));
                    continue;
                };
                let program = program_in(&chosen);
                if scene.root.target(&program).is_ok() {
                    return Some(Lead { to: LeadTo::File(program), is_shim: true, why });
                }
                why.push(Evidence::at(chosen, "look-up", format!("has no {}", Text::from(name))));
            }
        }
        if why.is_empty() {
            let says = format!(
                "no version that has {} is chosen in {} or above it",
                Text::from(name),
                scene.folder_for(self.person)
            );
            why.push(Evidence::at(settled, "look-up", says));
        }
        Some(nowhere(why))
    }

    fn program_folders(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        vec![path::join(&at.location, b"shims")]
    }
}
