//! Volta (Volta documentation, "Understanding Volta").
//!
//! Below `~/.volta` (`VOLTA_HOME`): `tools/image/{node,npm,yarn,pnpm}/V/`, `tools/image/packages/NAME/`,
//! `tools/user/platform.json` (the default), `tools/user/bins/CMD.json` (a package's command), and `bin/CMD`, links
//! to one program that chooses. A project chooses by the key `volta` of the nearest `package.json`, which can name
//! another file that it extends.

use serde::Deserialize;

use super::{nowhere, upwards};
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::{Host, User};
use crate::model::{
    CommandLine, Evidence, ExecDestination, ExecTarget, Location, Loss, ManagerId, ManagerKind, Profile, RemedyKind,
};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("volta");
const TOOLS: [&str; 4] = ["node", "npm", "yarn", "pnpm"];

/// The manager.
#[derive(Debug)]
pub struct Volta;

struct VoltaHome<'s> {
    user: &'s User,
}

impl Manager for Volta {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let home = host.user_dir(user, "VOLTA_HOME", ".volta");
            let is_there = is_dir(host, &path::join(&home, b"tools/image"));
            is_there.then_some((home, VoltaHome { user }))
        })
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

/// The most files that may extend one another.
const MAX_EXTENDED: usize = 8;

impl VoltaHome<'_> {
    fn choose(&self, host: &Host, at: &Location, tool: &str) -> Option<(ByteString, Evidence)> {
        let start = host.working_dir(self.user);
        let project =
            upwards(&start).map(|dir| path::join(dir, b"package.json")).find(|file| host.root.entry(file).is_ok());
        let mut file = project;
        for _ in 0..MAX_EXTENDED {
            let Some(at) = file.take() else { break };
            let content = host.root.read(&at, Limit::SMALL).unwrap_or_default();
            let Some(pins) = serde_json::from_slice::<Project>(&content).ok().and_then(|project| project.volta) else {
                break;
            };
            if let Some(version) = pins.of(tool) {
                return Some((
                    version.as_str().into(),
                    Evidence::at(at, format!("volta.{tool}"), ByteString::from(version.as_str()).to_string()),
                ));
            }
            file = pins.extends.map(|other| path::absolute(other.as_bytes(), path::parent(&at)));
        }
        let file = path::join(&at.dir, b"tools/user/platform.json");
        let platform: Platform = serde_json::from_slice(&host.root.read(&file, Limit::SMALL).ok()?).ok()?;
        let version = match tool {
            "node" => platform.node?.runtime,
            "npm" => platform.npm.or(platform.node.and_then(|node| node.npm))?,
            "yarn" => platform.yarn?,
            _ => platform.pnpm?,
        };
        let why = Evidence::at(file, tool, format!("{} is the default", ByteString::from(version.as_str())));
        Some((version.into(), why))
    }
}

impl SimpleBackend for VoltaHome<'_> {
    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let image = path::join(&at.dir, b"tools/image");
        for tool in TOOLS {
            let choice = self.choose(host, at, tool);
            let dir = path::join(&image, tool.as_bytes());
            for (version, _) in dirs_in(host, &dir, false) {
                let tree = path::join(&dir, &version);
                let mut item = InstalledPackage::kept("toolchain", tool, version.clone());
                item.installed_at = host.root.modified(&tree);
                item.evidence.push(Evidence::directory(tree.clone(), format!("{tool} {version}")));
                let chosen = choice.as_ref().filter(|(chosen, _)| *chosen == version);
                item.active = chosen.is_some();
                item.evidence.extend(chosen.map(|(_, why)| why.clone()));
                item.trees.push(tree);
                // Volta removes packages only; it has no command that removes a toolchain.
                record.items.push(item);
            }
        }
        let bins = path::join(&at.dir, b"tools/user/bins");
        let names = host.root.names_in(&bins);
        for (name, _) in names.iter().filter(|(name, _)| name.ends_with(b".json")) {
            let file = path::join(&bins, name);
            let read = host
                .root
                .read(&file, Limit::SMALL)
                .ok()
                .and_then(|content| serde_json::from_slice::<Command>(&content).ok());
            let Some(command) = read else {
                record.notes.push(Loss::damaged(file.clone(), "damaged", "its owner is unknown"));
                continue;
            };
            let package = ByteString::from(command.package.as_str());
            let tree = path::join(&path::join(&image, b"packages"), &package);
            let program = path::join(&path::join(&at.dir, b"bin"), name.strip_suffix(b".json").unwrap_or(name));
            let evidence = Evidence::at(file, "package", package.to_string());
            match record.items.iter_mut().find(|item| item.name == package && item.kind == "package") {
                Some(item) => item.bring(program, evidence),
                None => {
                    let mut item = InstalledPackage::new("package", package.clone());
                    item.version = command.version.map(ByteString::from);
                    item.evidence.push(evidence.clone());
                    item.trees.push(tree);
                    item.bring(program, evidence);
                    let line = CommandLine::new("volta uninstall").operand(package);
                    record.items.push(item.remedy(RemedyKind::Remove, line));
                }
            }
        }
        let mut item = InstalledPackage::new("program", "volta");
        item.evidence.push(Evidence::directory(at.dir.clone(), "Volta itself, and its shims"));
        item.trees.push(at.dir.clone());
        record.items.push(item);
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        let bin = path::join(&at.dir, b"bin");
        let name = path::name(canonical);
        if *path::parent(canonical) != *bin
            || host.root.entry(canonical).ok()?.kind != Kind::Link
            || name.starts_with(b"volta")
        {
            return None;
        }
        let image = path::join(&at.dir, b"tools/image");
        let (tool, command) = match name {
            b"npx" => ("npm", "npx"),
            b"yarnpkg" => ("yarn", "yarnpkg"),
            _ => TOOLS.iter().find(|tool| tool.as_bytes() == name).map_or(("", ""), |tool| (*tool, *tool)),
        };
        if tool.is_empty() {
            let file = path::join(&at.dir, &[b"tools/user/bins/", name, b".json"].concat());
            let command: Command = serde_json::from_slice(&host.root.read(&file, Limit::SMALL).ok()?).ok()?;
            let package = path::join(&path::join(&image, b"packages"), command.package.as_bytes());
            let why = vec![Evidence::at(file, "package", ByteString::from(command.package).to_string())];
            return Some(ExecTarget {
                to: ExecDestination::File(path::join(&path::join(&package, b"bin"), name)),
                is_shim: true,
                why,
            });
        }
        // Without an npm of its own choice, the chosen node's is taken.
        let (tool, choice) = match self.choose(host, at, tool) {
            None if tool == "npm" => ("node", self.choose(host, at, "node")),
            choice => (tool, choice),
        };
        let Some((version, because)) = choice else {
            let file = path::join(&at.dir, b"tools/user/platform.json");
            return Some(nowhere(vec![Evidence::at(file, "lookup", format!("no {tool} is set: the shim would fail"))]));
        };
        let dir = path::join(&path::join(&image, tool.as_bytes()), &version);
        let program = path::join(&path::join(&dir, b"bin"), command.as_bytes());
        let mut why = vec![because];
        if host.root.target(&program).is_ok() {
            return Some(ExecTarget { to: ExecDestination::File(program), is_shim: true, why });
        }
        why.push(Evidence::at(dir, "lookup", format!("{tool} {version} is not installed: the shim would fetch it")));
        Some(nowhere(why))
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"bin")]
    }
}
