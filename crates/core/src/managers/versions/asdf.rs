//! asdf (asdf documentation, "Versions").
//!
//! Below `~/.asdf` (`ASDF_DATA_DIR`): `installs/TOOL/V/`, and `shims/NAME`, whose comments `# asdf-plugin: TOOL V`
//! say which versions have the command. A tool's version is looked for in `ASDF_TOOL_VERSION`, in the nearest
//! `.tool-versions` that names the tool from the current directory upwards, and in the one in the home. Of
//! several versions on its line, the first that has the command runs. A version that is not installed is an
//! error: no other one is taken.

use super::{nowhere, upwards};
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::{ENVIRONMENT, Host, User};
use crate::model::{
    CommandLine, Evidence, ExecDestination, ExecTarget, Location, ManagerId, ManagerKind, Profile, RemedyKind,
};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("asdf");

/// The manager.
#[derive(Debug)]
pub struct Asdf;

struct AsdfData<'s> {
    user: &'s User,
}

impl Manager for Asdf {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("downloads of asdf", "~/.asdf/downloads")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let data = host.user_dir(user, "ASDF_DATA_DIR", ".asdf");
            let is_there = ["installs", "shims"].iter().any(|name| is_dir(host, &path::join(&data, name.as_bytes())));
            is_there.then_some((data, AsdfData { user }))
        })
    }
}

/// The versions that a `.tool-versions` gives a tool.
pub(super) fn versions_in(content: &[u8], tool: &[u8]) -> Option<(u32, Vec<ByteString>)> {
    (1..).zip(content.split(|&b| b == b'\n')).find_map(|(number, line)| {
        let line = line.split(|&b| b == b'#').next().unwrap_or_default();
        let mut words = line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
        (words.next()? == tool).then(|| (number, words.map(ByteString::from).collect()))
    })
}

impl AsdfData<'_> {
    /// The versions chosen for a tool, and what says so.
    fn choose(&self, host: &Host, tool: &[u8]) -> Option<(Vec<ByteString>, Evidence)> {
        let variable = String::from_utf8_lossy(tool).to_uppercase().replace('-', "_");
        let variable = format!("ASDF_{variable}_VERSION");
        if let Some(value) = host.variable(self.user, &variable) {
            let versions =
                value.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).map(ByteString::from).collect();
            return Some((versions, Evidence::at(ENVIRONMENT, variable, value.to_string())));
        }
        let start = host.working_dir(self.user);
        let home = std::iter::once(&*self.user.home);
        upwards(&start).chain(home).find_map(|dir| {
            let file = path::join(dir, b".tool-versions");
            let content = host.root.read(&file, Limit::SMALL).ok()?;
            let (line, versions) = versions_in(&content, tool)?;
            let says = versions.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
            Some((versions, Evidence::line(file, line, format!("{} {says}", ByteString::from(tool)))))
        })
    }
}

impl SimpleBackend for AsdfData<'_> {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let installs = path::join(&at.dir, b"installs");
        for (tool, _) in dirs_in(host, &installs, false) {
            let choice = self.choose(host, &tool);
            let dir = path::join(&installs, &tool);
            for (version, _) in dirs_in(host, &dir, false) {
                let tree = path::join(&dir, &version);
                let mut item = InstalledPackage::kept("toolchain", tool.clone(), version.clone());
                item.installed_at = host.root.modified(&tree);
                item.evidence.push(Evidence::directory(tree.clone(), format!("{tool} {version}")));
                let chosen = choice.as_ref().filter(|(versions, _)| versions.first() == Some(&version));
                item.active = chosen.is_some();
                item.evidence.extend(chosen.map(|(_, why)| why.clone()));
                item.trees.push(tree);
                let line = CommandLine::new("asdf uninstall").operand(tool.clone()).operand(version);
                record.items.push(item.remedy(RemedyKind::Remove, line));
            }
        }
        let mut item = InstalledPackage::new("program", "asdf");
        item.evidence.push(Evidence::directory(at.dir.clone(), "asdf itself, its plugins and its shims"));
        item.trees.push(at.dir.clone());
        record.items.push(item);
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        let shims = path::join(&at.dir, b"shims");
        if *path::parent(canonical) != *shims {
            return None;
        }
        let content = host.root.read(canonical, Limit::SMALL).ok()?;
        let lines = content.split(|&b| b == b'\n').filter_map(|line| line.strip_prefix(b"# asdf-plugin: "));
        let offered: Vec<(ByteString, ByteString)> = lines
            .filter_map(|line| {
                let mut words = line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
                Some((words.next()?.into(), words.next()?.into()))
            })
            .collect();
        let mut why = Vec::new();
        let mut tools: Vec<&ByteString> = offered.iter().map(|(tool, _)| tool).collect();
        tools.dedup();
        for tool in tools {
            let Some((versions, because)) = self.choose(host, tool) else {
                let dir = host.working_dir(self.user);
                let says = format!("no version of {tool} is set in {dir} or above it");
                why.push(Evidence::at(path::join(&dir, b".tool-versions"), "lookup", says));
                continue;
            };
            why.push(because);
            for version in versions {
                if *version == *b"system" {
                    return Some(ExecTarget { to: ExecDestination::NextOnPath(vec![shims]), is_shim: true, why });
                }
                let dir = match version.strip_prefix(b"path:") {
                    Some(own) => own.into(),
                    None => path::join(&path::join(&path::join(&at.dir, b"installs"), tool), &version),
                };
                let program = path::join(&path::join(&dir, b"bin"), path::name(canonical));
                if host.root.target(&program).is_ok() {
                    return Some(ExecTarget { to: ExecDestination::File(program), is_shim: true, why });
                }
                let is_there = is_dir(host, &dir);
                let lacks = if is_there { "has no such command" } else { "is not installed" };
                why.push(Evidence::at(dir, "lookup", format!("{tool} {version} {lacks}")));
            }
        }
        Some(nowhere(why))
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"shims")]
    }
}
