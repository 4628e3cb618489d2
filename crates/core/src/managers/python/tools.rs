//! Python applications in environments of their own, as pipx and uv keep them, and the interpreters that uv
//! keeps.
//!
//! | what | where |
//! |---|---|
//! | pipx | `~/.local/share/pipx/venvs/NAME/pipx_metadata.json` (older `~/.local/pipx`, `PIPX_HOME`; for all: `/opt/pipx`), links in `~/.local/bin` (`PIPX_BIN_DIR`; `/usr/local/bin`) |
//! | uv tools | `~/.local/share/uv/tools/NAME/uv-receipt.toml` (`UV_TOOL_DIR`), links in `~/.local/bin` (`UV_TOOL_BIN_DIR`) |
//! | uv's interpreters | `~/.local/share/uv/python/IMPLEMENTATION-VERSION-SYSTEM/` (`UV_PYTHON_INSTALL_DIR`) |
//! | uv itself | `~/.config/uv/uv-receipt.json`, where its own installer put it |
//!
//! Traps: what pipx notes as the version is that of the installation, the environment's metadata is newer after
//! an upgrade inside it; a uv receipt has no version; a suffix is part of the command and of pipx's folder;
//! an environment outlives its interpreter, and its scripts then cannot start.

use std::cmp::Ordering;

use serde::Deserialize;

use super::distribution;
use super::site::module_folders;
use super::{PIPX, UV};
use crate::managers::Holdings;
use crate::managers::roster::{Item, Keeper, Record, Roster, is_folder, link_target, links_into, of};
use crate::model::{Evidence, Installation, Origin, Scope, Status};
use crate::root::{Kind, Limit};
use crate::scene::{Person, Scene};
use crate::text::{Text, path, shell_word};
use crate::version::pep440::{self, normal_name};

/// `pipx_metadata.json`, as far as it is used.
#[derive(Debug, Deserialize)]
pub struct PipxMetadata {
    /// The application.
    pub main_package: PipxPackage,
    /// What was put beside it.
    #[serde(default)]
    injected_packages: std::collections::BTreeMap<String, PipxPackage>,
}

/// A package that pipx notes.
#[derive(Debug, Deserialize)]
pub struct PipxPackage {
    /// Its name.
    pub package: Option<String>,
    package_or_url: Option<String>,
    #[serde(default)]
    apps: Vec<String>,
    #[serde(default)]
    apps_of_dependencies: Vec<String>,
    #[serde(default)]
    include_dependencies: bool,
    #[serde(default)]
    include_apps: bool,
    #[serde(default)]
    suffix: String,
    #[serde(default)]
    pinned: bool,
}

/// Where a tool keeps its environments and its links.
struct Pipx {
    bin: Text,
    sudo: bool,
}

/// pipx's installations.
pub fn pipx(scene: &Scene) -> Vec<Box<dyn Holdings + '_>> {
    let mut held: Vec<Box<dyn Holdings>> = Vec::new();
    let root = &scene.root;
    for person in &scene.people {
        let bin = scene.folder_of(person, "PIPX_BIN_DIR", ".local/bin");
        let homes =
            [scene.folder_of(person, "PIPX_HOME", ".local/share/pipx"), scene.folder_of(person, "", ".local/pipx")];
        for home in homes {
            let keeper = Pipx { bin: bin.clone(), sudo: false };
            if is_folder(scene, &path::join(&home, b"venvs")) {
                held.push(Roster::boxed(scene, PIPX, of(person), home, keeper));
            }
        }
    }
    let global = root.settle_folder(b"/opt/pipx");
    if is_folder(scene, &path::join(&global, b"venvs")) {
        let keeper = Pipx { bin: root.settle_folder(b"/usr/local/bin"), sudo: true };
        held.push(Roster::boxed(scene, PIPX, Scope::System, global, keeper));
    }
    held
}

/// The environment's own record of the application, and whether it can still start.
fn app_in(scene: &Scene, environment: &Text, wanted: &[u8], item: &mut Item, record: &mut Record) {
    let root = &scene.root;
    let (folders, _) = module_folders(root, environment);
    let all = folders.iter().map(|folder| distribution::in_folder(root, folder));
    let found = all.flat_map(|(found, _)| found).find(|one| one.normal_name() == wanted);
    match found {
        Some(one) => {
            item.name = one.name.clone();
            item.version.clone_from(&one.version);
            item.origin = one.origin();
            item.revision = one.direct.as_ref().and_then(|direct| Some(direct.commit.as_ref()?.1.as_str().into()));
            item.installed_at = one.installed_at(root);
            let version = one.version.map(|version| format!(" {version}")).unwrap_or_default();
            item.evidence.push(Evidence::at(one.metadata, "metadata", format!("{}{version}", one.name)));
        }
        None => record.notes.push(format!("{environment}: has no metadata of {}: its version is not known", item.name)),
    }
    let python = path::join(environment, b"bin/python");
    if root.target(&python).is_err() {
        item.status = Status::Broken;
        item.evidence.push(Evidence::at(python, "link", "its interpreter is gone: nothing in this environment starts"));
    }
}

impl Keeper for Pipx {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let venvs = path::join(&at.location, b"venvs");
        let names = scene.root.folder(&venvs).and_then(|folder| folder.list()).unwrap_or_default();
        for (name, _) in names.iter().filter(|(_, kind)| *kind == Kind::Folder) {
            let tree = path::join(&venvs, name);
            let file = path::join(&tree, b"pipx_metadata.json");
            let content = scene.root.read(&file, Limit::LIST);
            let metadata: Option<PipxMetadata> = match &content {
                Ok(content) => serde_json::from_slice(content)
                    .map_err(|error| {
                        record.notes.push(format!("{file}: {error}: the commands of {name} are not known"));
                    })
                    .ok(),
                Err(error) => {
                    record.notes.push(format!("{error}: the commands of {name} are not known"));
                    None
                }
            };
            let app = metadata.as_ref().and_then(|metadata| metadata.main_package.package.clone());
            let mut item = Item::new("app", app.map_or_else(|| name.clone(), Text::from));
            item.tail = Some(name.clone());
            item.purl = Some("pypi");
            let wanted = normal_name(&item.name);
            if let Some(metadata) = &metadata {
                let says = metadata.main_package.package_or_url.clone().unwrap_or_default();
                item.evidence.push(Evidence::at(
                    file.clone(),
                    "main_package.package_or_url",
                    Text::from(says).to_string(),
                ));
                item.held = metadata.main_package.pinned;
                for (link, _) in links_into(scene, &self.bin, &tree) {
                    if let Some(key) = metadata.exposes(path::name(&link)) {
                        let evidence = Evidence::at(file.clone(), key, format!("links {link} to it"));
                        item.places.push((link, evidence));
                    }
                }
            }
            app_in(scene, &tree, &wanted, &mut item, &mut record);
            item.commands = item.places.iter().map(|(link, _)| link.clone()).collect();
            item.trees.push(tree);
            let (sudo, global) = if self.sudo { ("sudo ", " --global") } else { ("", "") };
            let command = |verb: &str| format!("{sudo}pipx {verb}{global} {}", shell_word(name));
            if item.status == Status::Broken {
                item = item.remedy("repair", command("reinstall"));
            }
            record.items.push(item.remedy("remove", command("uninstall")).remedy("upgrade", command("upgrade")));
        }
        record
    }

    fn domain(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        vec![path::join(&at.location, b"venvs"), self.bin.clone()]
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        pep440::compare(a, b)
    }
}

impl PipxMetadata {
    /// The key under which a command of this name is noted as linked.
    fn exposes(&self, name: &[u8]) -> Option<&'static str> {
        let main = &self.main_package;
        let has =
            |list: &[String], suffix: &str| list.iter().any(|app| [app.as_bytes(), suffix.as_bytes()].concat() == name);
        if has(&main.apps, &main.suffix) {
            return Some("main_package.apps");
        }
        if main.include_dependencies && has(&main.apps_of_dependencies, &main.suffix) {
            return Some("main_package.apps_of_dependencies");
        }
        let injected = self.injected_packages.values();
        injected.into_iter().any(|one| one.include_apps && has(&one.apps, &one.suffix)).then_some("injected_packages")
    }
}

/// uv's tools, interpreters, and uv itself.
struct UvTools {
    tools: Text,
    pythons: Text,
    bin: Text,
    own_receipt: Text,
}

/// uv's installations.
pub fn uv(scene: &Scene) -> Vec<Box<dyn Holdings + '_>> {
    let of_person = |person: &Person| -> Option<Box<dyn Holdings + '_>> {
        let keeper = UvTools {
            tools: scene.folder_of(person, "UV_TOOL_DIR", ".local/share/uv/tools"),
            pythons: scene.folder_of(person, "UV_PYTHON_INSTALL_DIR", ".local/share/uv/python"),
            bin: scene.folder_of(person, "UV_TOOL_BIN_DIR", ".local/bin"),
            own_receipt: scene.folder_of(person, "", ".config/uv/uv-receipt.json"),
        };
        let there = [&keeper.tools, &keeper.pythons, &keeper.own_receipt];
        if !there.iter().any(|place| scene.root.entry(place).is_ok()) {
            return None;
        }
        let location = path::folder(&keeper.tools).into();
        Some(Roster::boxed(scene, UV, of(person), location, keeper))
    };
    scene.people.iter().filter_map(of_person).collect()
}

#[derive(Deserialize)]
struct Receipt {
    tool: Tool,
}

#[derive(Deserialize)]
struct Tool {
    #[serde(default)]
    entrypoints: Vec<EntryPoint>,
}

#[derive(Deserialize)]
struct EntryPoint {
    name: String,
    #[serde(rename = "install-path")]
    install_path: String,
}

#[derive(Deserialize)]
struct OwnReceipt {
    version: Option<String>,
    install_prefix: Option<String>,
    #[serde(default)]
    binaries: Vec<String>,
}

impl UvTools {
    fn tools(&self, scene: &Scene, record: &mut Record) {
        let names = scene.root.folder(&self.tools).and_then(|folder| folder.list()).unwrap_or_default();
        for (name, _) in names.iter().filter(|(name, kind)| *kind == Kind::Folder && !name.starts_with(b".")) {
            let tree = path::join(&self.tools, name);
            let file = path::join(&tree, b"uv-receipt.toml");
            let mut item = Item::new("app", name.clone());
            item.tail = Some(name.clone());
            item.purl = Some("pypi");
            let content = scene.root.read(&file, Limit::SMALL).map_err(|error| error.to_string());
            let receipt = content.and_then(|content| {
                let receipt: Result<Receipt, _> = toml::from_slice(&content);
                receipt.map_err(|error| format!("{file}: {}", error.message()))
            });
            match receipt {
                Ok(receipt) => {
                    item.evidence.push(Evidence::at(file.clone(), "tool.requirements", name.to_string()));
                    for point in receipt.tool.entrypoints {
                        let link = scene.root.settle(point.install_path.as_bytes());
                        // What stands there now may be another's.
                        if link_target(scene, &link).is_some_and(|target| path::within(&target, &tree)) {
                            let says = format!("{} is linked to it", Text::from(point.name));
                            item.places.push((link, Evidence::at(file.clone(), "tool.entrypoints", says)));
                        }
                    }
                }
                Err(problem) => record.notes.push(format!("{problem}: the commands of {name} are not known")),
            }
            app_in(scene, &tree, &normal_name(name), &mut item, record);
            item.commands = item.places.iter().map(|(link, _)| link.clone()).collect();
            item.trees.push(tree);
            let command = |verb: &str| format!("uv tool {verb} {}", shell_word(name));
            if item.status == Status::Broken {
                item = item.remedy("repair", format!("uv tool install --reinstall {}", shell_word(name)));
            }
            record.items.push(item.remedy("remove", command("uninstall")).remedy("upgrade", command("upgrade")));
        }
    }

    fn pythons(&self, scene: &Scene, record: &mut Record) {
        let names = scene.root.folder(&self.pythons).and_then(|folder| folder.list()).unwrap_or_default();
        for (name, _) in names.iter().filter(|(name, kind)| *kind == Kind::Folder && !name.starts_with(b".")) {
            let mut parts = name.split(|&b| b == b'-');
            let (Some(implementation), Some(version)) = (parts.next(), parts.next()) else { continue };
            let tree = path::join(&self.pythons, name);
            let mut item = Item::new("interpreter", implementation);
            item.version = Some(version.into());
            item.tail = Some(name.clone());
            item.also.push("python".into());
            item.arch = name.split(|&b| b == b'-').nth(3).map(Text::from);
            item.installed_at = scene.root.entry(&tree).ok().map(|meta| meta.modified);
            item.evidence.push(Evidence::at(tree.clone(), "its name", name.to_string()));
            for (link, _) in links_into(scene, &self.bin, &tree) {
                let evidence = Evidence::at(tree.clone(), "its name", format!("uv links {link} to it"));
                item.places.push((link, evidence));
            }
            item.commands = item.places.iter().map(|(link, _)| link.clone()).collect();
            item.trees.push(tree);
            record.items.push(item.remedy("remove", format!("uv python uninstall {}", shell_word(name))));
        }
    }

    fn itself(&self, scene: &Scene, record: &mut Record) {
        let Ok(content) = scene.root.read(&self.own_receipt, Limit::SMALL) else { return };
        let Ok(receipt) = serde_json::from_slice::<OwnReceipt>(&content) else {
            record.notes.push(format!("{}: damaged: where uv itself was installed is not known", self.own_receipt));
            return;
        };
        let mut item = Item::new("program", "uv");
        item.version = receipt.version.map(Text::from);
        item.origin =
            Some(Origin { name: "uv's own installer".into(), kind: "publisher".to_owned(), url: None, trust: None });
        item.evidence.push(Evidence::at(self.own_receipt.clone(), "version", "uv, by its own installer"));
        let prefix = receipt.install_prefix.unwrap_or_default();
        for program in &receipt.binaries {
            let place = scene.root.settle(&path::join(prefix.as_bytes(), program.as_bytes()));
            item.places.push((
                place,
                Evidence::at(self.own_receipt.clone(), "binaries", Text::from(program.as_str()).to_string()),
            ));
        }
        item.commands = item.places.iter().map(|(place, _)| place.clone()).collect();
        record.items.push(item.remedy("upgrade", "uv self update"));
    }
}

impl Keeper for UvTools {
    fn read(&self, scene: &Scene, _: &Installation) -> Record {
        let mut record = Record::default();
        self.tools(scene, &mut record);
        self.pythons(scene, &mut record);
        self.itself(scene, &mut record);
        record
    }

    fn domain(&self, _: &Scene, _: &Installation) -> Vec<Text> {
        vec![self.tools.clone(), self.pythons.clone(), self.bin.clone()]
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        pep440::compare(a, b)
    }
}
