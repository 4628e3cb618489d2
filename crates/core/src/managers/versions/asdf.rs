//! asdf (asdf documentation, "Versions").
//!
//! Below `~/.asdf` (`ASDF_DATA_DIR`): `installs/TOOL/V/`, and `shims/NAME`, whose comments `# asdf-plugin: TOOL V`
//! say which versions have the command. A tool's version is looked for in `ASDF_TOOL_VERSION`, in the nearest
//! `.tool-versions` that names the tool from the current folder upwards, and in the one in the home. Of
//! several versions on its line, the first that has the command runs. A version that is not installed is an
//! error: no other one is taken.

use std::cmp::Ordering;

use super::{nowhere, upwards};
use crate::managers::roster::{Item, Keeper, Record, Roster, folders_in, is_folder, of};
use crate::managers::{Holdings, Manager};
use crate::model::{Evidence, Installation, Lead, LeadTo, ManagerId};
use crate::root::Limit;
use crate::scene::{Person, Scene};
use crate::text::{Text, path, shell_word};
use crate::version::tokens;

const ID: ManagerId = ManagerId("asdf");

/// The manager.
#[derive(Debug)]
pub struct Asdf;

struct AsdfData<'s> {
    person: &'s Person,
}

impl Manager for Asdf {
    fn id(&self) -> ManagerId {
        ID
    }

    fn keeps_versions(&self) -> bool {
        true
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let of_person = |person: &'s Person| -> Option<Box<dyn Holdings + 's>> {
            let data = scene.folder_of(person, "ASDF_DATA_DIR", ".asdf");
            let is_there =
                ["installs", "shims"].iter().any(|name| is_folder(scene, &path::join(&data, name.as_bytes())));
            is_there.then(|| Roster::boxed(scene, ID, of(person), data, AsdfData { person }))
        };
        scene.people.iter().filter_map(of_person).collect()
    }
}

/// The versions that a `.tool-versions` gives a tool.
pub(super) fn versions_in(content: &[u8], tool: &[u8]) -> Option<(u32, Vec<Text>)> {
    (1..).zip(content.split(|&b| b == b'\n')).find_map(|(number, line)| {
        let line = line.split(|&b| b == b'#').next().unwrap_or_default();
        let mut words = line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
        (words.next()? == tool).then(|| (number, words.map(Text::from).collect()))
    })
}

impl AsdfData<'_> {
    /// The versions chosen for a tool, and what says so.
    fn choose(&self, scene: &Scene, tool: &[u8]) -> Option<(Vec<Text>, Evidence)> {
        let variable = String::from_utf8_lossy(tool).to_uppercase().replace('-', "_");
        let variable = format!("ASDF_{variable}_VERSION");
        if let Some(value) = scene.variable(self.person, &variable) {
            let versions =
                value.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).map(Text::from).collect();
            return Some((versions, Evidence::at("environment of this process", variable, value.to_string())));
        }
        let start = scene.folder_for(self.person);
        let home = std::iter::once(&*self.person.home);
        upwards(&start).chain(home).find_map(|folder| {
            let file = path::join(folder, b".tool-versions");
            let content = scene.root.read(&file, Limit::SMALL).ok()?;
            let (line, versions) = versions_in(&content, tool)?;
            let says = versions.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
            Some((versions, Evidence::line(file, line, format!("{} {says}", Text::from(tool)))))
        })
    }
}

impl Keeper for AsdfData<'_> {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let installs = path::join(&at.location, b"installs");
        for (tool, _) in folders_in(scene, &installs, false) {
            let choice = self.choose(scene, &tool);
            let folder = path::join(&installs, &tool);
            for (version, _) in folders_in(scene, &folder, false) {
                let tree = path::join(&folder, &version);
                let mut item = Item::kept("toolchain", tool.clone(), version.clone());
                item.installed_at = scene.root.entry(&tree).ok().map(|meta| meta.modified);
                item.evidence.push(Evidence::at(tree.clone(), "folder", format!("{tool} {version}")));
                let chosen = choice.as_ref().filter(|(versions, _)| versions.first() == Some(&version));
                item.active = chosen.is_some();
                item.evidence.extend(chosen.map(|(_, why)| why.clone()));
                item.trees.push(tree);
                let (tool, version) = (shell_word(&tool), shell_word(&version));
                record.items.push(item.remedy("remove", format!("asdf uninstall {tool} {version}")));
            }
        }
        let mut item = Item::new("program", "asdf");
        item.evidence.push(Evidence::at(at.location.clone(), "folder", "asdf itself, its plugins and its shims"));
        item.trees.push(at.location.clone());
        record.items.push(item);
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        tokens::compare(a, b)
    }

    fn lead(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Lead> {
        let shims = path::join(&at.location, b"shims");
        if *path::folder(settled) != *shims {
            return None;
        }
        let content = scene.root.read(settled, Limit::SMALL).ok()?;
        let lines = content.split(|&b| b == b'\n').filter_map(|line| line.strip_prefix(b"# asdf-plugin: "));
        let offered: Vec<(Text, Text)> = lines
            .filter_map(|line| {
                let mut words = line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
                Some((words.next()?.into(), words.next()?.into()))
            })
            .collect();
        let mut why = Vec::new();
        let mut tools: Vec<&Text> = offered.iter().map(|(tool, _)| tool).collect();
        tools.dedup();
        for tool in tools {
            let Some((versions, because)) = self.choose(scene, tool) else {
                let says = format!("no version of {tool} is chosen in {} or above it", scene.folder_for(self.person));
                why.push(Evidence::at(".tool-versions", "look-up", says));
                continue;
            };
            why.push(because);
            for version in versions {
                if *version == *b"system" {
                    return Some(Lead { to: LeadTo::NextOnPath(vec![shims]), is_shim: true, why });
                }
                let folder = match version.strip_prefix(b"path:") {
                    Some(own) => own.into(),
                    None => path::join(&path::join(&path::join(&at.location, b"installs"), tool), &version),
                };
                let program = path::join(&path::join(&folder, b"bin"), path::name(settled));
                if scene.root.target(&program).is_ok() {
                    return Some(Lead { to: LeadTo::File(program), is_shim: true, why });
                }
                let is_there = is_folder(scene, &folder);
                let lacks = if is_there { "has no such command" } else { "is not installed" };
                why.push(Evidence::at(folder, "look-up", format!("{tool} {version} {lacks}")));
            }
        }
        Some(nowhere(why))
    }

    fn program_folders(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        vec![path::join(&at.location, b"shims")]
    }
}
