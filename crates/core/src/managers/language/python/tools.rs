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
//! an upgrade inside it; a uv receipt has no version; a suffix is part of the command and of pipx's directory;
//! an environment outlives its interpreter, and its scripts then cannot start.

use serde::Deserialize;

use super::distribution;
use super::pipx_metadata::PipxMetadata;
use super::site::module_dirs;
use super::uv_receipt::UvReceipt;
use super::{PIPX, UV};
use crate::backend::Installation;
use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, SimpleInstallation, is_dir, link_target, links_into, of, of_each_user,
    parsed,
};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{CommandLine, Evidence, Location, Loss, Origin, Remedy, RemedyKind, Scope, Status};
use crate::version::Scheme;
use crate::version::pep440::normal_name;

/// Where a tool keeps its environments and its links.
struct Pipx {
    bin: ByteString,
}

/// pipx's installations.
pub fn pipx(host: &Host) -> Vec<Box<dyn Installation + '_>> {
    let mut held: Vec<Box<dyn Installation>> = Vec::new();
    let root = &host.root;
    for user in &host.users {
        let bin = host.user_dir(user, "PIPX_BIN_DIR", ".local/bin");
        let homes = [host.user_dir(user, "PIPX_HOME", ".local/share/pipx"), host.user_dir(user, "", ".local/pipx")];
        for home in homes {
            let backend = Pipx { bin: bin.clone() };
            if is_dir(host, &path::join(&home, b"venvs")) {
                held.push(SimpleInstallation::boxed(host, PIPX, of(user), home, backend));
            }
        }
    }
    let global = root.canonicalize_dir(b"/opt/pipx");
    if is_dir(host, &path::join(&global, b"venvs")) {
        let backend = Pipx { bin: root.canonicalize_dir(b"/usr/local/bin") };
        held.push(SimpleInstallation::boxed(host, PIPX, Scope::System, global, backend));
    }
    held
}

/// The environment's own record of the application, and whether it can still start.
fn app_in(host: &Host, environment: &ByteString, wanted: &[u8], item: &mut InstalledPackage, record: &mut Record) {
    let root = &host.root;
    let (dirs, _) = module_dirs(root, environment);
    let all = dirs.iter().map(|dir| distribution::in_dir(root, dir));
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
        None => record
            .notes
            .push(Loss::note(format!("{environment}: has no metadata of {}: its version is unknown", item.name))),
    }
    let python = path::join(environment, b"bin/python");
    if root.target(&python).is_err() {
        item.status = Status::Broken;
        item.evidence.push(Evidence::at(
            python,
            "link",
            "its interpreter does not exist: no program in this environment starts",
        ));
    }
}

impl SimpleBackend for Pipx {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let venvs = path::join(&at.dir, b"venvs");
        let names = host.root.names_in(&venvs);
        for (name, _) in names.iter().filter(|(_, kind)| *kind == Kind::Dir) {
            let tree = path::join(&venvs, name);
            let file = path::join(&tree, b"pipx_metadata.json");
            let content = host.root.read(&file, Limit::LIST);
            let metadata: Option<PipxMetadata> = match &content {
                Ok(content) => serde_json::from_slice(content)
                    .map_err(|error| {
                        record.notes.push(Loss::damaged(
                            file.clone(),
                            format!("{error}"),
                            format!("the commands of {name} are unknown"),
                        ));
                    })
                    .ok(),
                Err(error) => {
                    record.notes.push(Loss::unread(error, format!("the commands of {name} are unknown")));
                    None
                }
            };
            let app = metadata.as_ref().and_then(|metadata| metadata.main_package.package.clone());
            let mut item = InstalledPackage::new("app", app.map_or_else(|| name.clone(), ByteString::from));
            item.tail = Some(name.clone());
            item.purl = Some("pypi");
            let wanted = normal_name(&item.name);
            if let Some(metadata) = &metadata {
                let says = metadata.main_package.package_or_url.clone().unwrap_or_default();
                item.evidence.push(Evidence::at(
                    file.clone(),
                    "main_package.package_or_url",
                    ByteString::from(says).to_string(),
                ));
                item.held = metadata.main_package.pinned;
                for (link, _) in links_into(host, &self.bin, &tree) {
                    if let Some(key) = metadata.exposes(path::name(&link)) {
                        let evidence = Evidence::at(file.clone(), key, format!("links {link} to it"));
                        item.places.push((link, evidence));
                    }
                }
            }
            app_in(host, &tree, &wanted, &mut item, &mut record);
            item.commands = item.places.iter().map(|(link, _)| link.clone()).collect();
            item.trees.push(tree);
            let global = if at.scope == Scope::System { "--global" } else { "" };
            let command = |verb: &str| CommandLine::new("pipx").words(verb).words(global).operand(name.clone());
            if item.status == Status::Broken {
                item.remedies.push(Remedy::new(RemedyKind::Repair, command("reinstall")).online());
            }
            record.items.push(
                item.remedy(RemedyKind::Remove, command("uninstall")).remedy(RemedyKind::Upgrade, command("upgrade")),
            );
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"venvs"), self.bin.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Pep440
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
    tools: ByteString,
    pythons: ByteString,
    bin: ByteString,
    own_receipt: ByteString,
}

/// uv's installations.
pub fn uv(host: &Host) -> Vec<Box<dyn Installation + '_>> {
    of_each_user(host, UV, |user| {
        let backend = UvTools {
            tools: host.user_dir(user, "UV_TOOL_DIR", ".local/share/uv/tools"),
            pythons: host.user_dir(user, "UV_PYTHON_INSTALL_DIR", ".local/share/uv/python"),
            bin: host.user_dir(user, "UV_TOOL_BIN_DIR", ".local/bin"),
            own_receipt: host.user_dir(user, "", ".config/uv/uv-receipt.json"),
        };
        let there = [&backend.tools, &backend.pythons, &backend.own_receipt];
        if !there.iter().any(|place| host.root.entry(place).is_ok()) {
            return None;
        }
        let location = path::parent(&backend.tools).into();
        Some((location, backend))
    })
}

#[derive(Deserialize)]
struct OwnReceipt {
    version: Option<String>,
    install_prefix: Option<String>,
    #[serde(default)]
    binaries: Vec<String>,
}

impl UvTools {
    fn tools(&self, host: &Host, record: &mut Record) {
        let names = host.root.names_in(&self.tools);
        for (name, _) in names.iter().filter(|(name, kind)| *kind == Kind::Dir && !name.starts_with(b".")) {
            let tree = path::join(&self.tools, name);
            let file = path::join(&tree, b"uv-receipt.toml");
            let mut item = InstalledPackage::new("app", name.clone());
            item.tail = Some(name.clone());
            item.purl = Some("pypi");
            match parsed(host, &file, Limit::SMALL, UvReceipt::parse) {
                Ok(receipt) => {
                    item.evidence.push(Evidence::at(file.clone(), "tool.requirements", name.to_string()));
                    for point in receipt.tool.entrypoints {
                        let link = host.root.canonicalize(point.install_path.as_bytes());
                        // What stands there now may be another's.
                        if link_target(host, &link).is_some_and(|target| path::within(&target, &tree)) {
                            let says = format!("{} is linked to it", ByteString::from(point.name));
                            item.places.push((link, Evidence::at(file.clone(), "tool.entrypoints", says)));
                        }
                    }
                }
                Err(problem) => {
                    record.notes.push(Loss::because(problem, format!("the commands of {name} are unknown")));
                }
            }
            app_in(host, &tree, &normal_name(name), &mut item, record);
            item.commands = item.places.iter().map(|(link, _)| link.clone()).collect();
            item.trees.push(tree);
            let command = |verb: &str| CommandLine::new("uv tool").words(verb).operand(name.clone());
            if item.status == Status::Broken {
                item.remedies.push(Remedy::new(RemedyKind::Repair, command("install --reinstall")).online());
            }
            record.items.push(
                item.remedy(RemedyKind::Remove, command("uninstall")).remedy(RemedyKind::Upgrade, command("upgrade")),
            );
        }
    }

    fn pythons(&self, host: &Host, record: &mut Record) {
        let names = host.root.names_in(&self.pythons);
        for (name, _) in names.iter().filter(|(name, kind)| *kind == Kind::Dir && !name.starts_with(b".")) {
            let mut parts = name.split(|&b| b == b'-');
            let (Some(implementation), Some(version)) = (parts.next(), parts.next()) else { continue };
            let tree = path::join(&self.pythons, name);
            let mut item = InstalledPackage::new("interpreter", implementation);
            item.version = Some(version.into());
            item.tail = Some(name.clone());
            item.also.push("python".into());
            item.arch = name.split(|&b| b == b'-').nth(3).map(ByteString::from);
            item.installed_at = host.root.modified(&tree);
            item.evidence.push(Evidence::file_name(tree.clone(), name.to_string()));
            for (link, _) in links_into(host, &self.bin, &tree) {
                let evidence = Evidence::file_name(tree.clone(), format!("uv links {link} to it"));
                item.places.push((link, evidence));
            }
            item.commands = item.places.iter().map(|(link, _)| link.clone()).collect();
            item.trees.push(tree);
            let line = CommandLine::new("uv python uninstall").operand(name.clone());
            record.items.push(item.remedy(RemedyKind::Remove, line));
        }
    }

    fn itself(&self, host: &Host, record: &mut Record) {
        let Ok(content) = host.root.read(&self.own_receipt, Limit::SMALL) else { return };
        let Ok(receipt) = serde_json::from_slice::<OwnReceipt>(&content) else {
            record
                .notes
                .push(Loss::note(format!("{}: damaged: where uv itself was installed is unknown", self.own_receipt)));
            return;
        };
        let mut item = InstalledPackage::new("program", "uv");
        item.version = receipt.version.map(ByteString::from);
        item.origin = Some(Origin::third_party("publisher", "uv's own installer", None));
        item.evidence.push(Evidence::at(self.own_receipt.clone(), "version", "uv, by its own installer"));
        let prefix = receipt.install_prefix.unwrap_or_default();
        for program in &receipt.binaries {
            let place = host.root.canonicalize(&path::join(prefix.as_bytes(), program.as_bytes()));
            item.places.push((
                place,
                Evidence::at(self.own_receipt.clone(), "binaries", ByteString::from(program.as_str()).to_string()),
            ));
        }
        item.commands = item.places.iter().map(|(place, _)| place.clone()).collect();
        record.items.push(item.remedy(RemedyKind::Upgrade, CommandLine::new("uv self update")));
    }
}

impl SimpleBackend for UvTools {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, _: &Location) -> Record {
        let mut record = Record::default();
        self.tools(host, &mut record);
        self.pythons(host, &mut record);
        self.itself(host, &mut record);
        record
    }

    fn domain(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        vec![self.tools.clone(), self.pythons.clone(), self.bin.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Pep440
    }
}
