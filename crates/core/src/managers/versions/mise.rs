//! mise (mise documentation, "Configuration", "Shims").
//!
//! Below `~/.local/share/mise` (`MISE_DATA_DIR`): `installs/TOOL/V/`, and `shims/NAME`, links to mise itself. A
//! tool's version is looked for in `MISE_TOOL_VERSION`; then from the current directory upwards in `mise.local.toml`,
//! `.mise.toml`, `mise.toml`, `.config/mise/config.toml` and `.tool-versions`; then in `~/.config/mise/config.toml`;
//! last in `~/.tool-versions`.
//!
//! Traps: relative links in `installs/TOOL` (`4`, `latest`) stand for partial versions and are none; an absolute one
//! is a version linked by hand; a shim whose version is missing installs it.

use super::{asdf, highest, nowhere, upwards};
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::{ENVIRONMENT, Host, User};
use crate::model::{
    CommandLine, Evidence, ExecDestination, ExecTarget, Location, ManagerId, ManagerKind, Profile, RemedyKind,
};
use crate::version::Scheme;
use crate::version::tokens;

const ID: ManagerId = ManagerId("mise");

/// The manager.
#[derive(Debug)]
pub struct Mise;

struct MiseData<'s> {
    user: &'s User,
}

impl Manager for Mise {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Versions)
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("downloads of mise", "~/.cache/mise")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let data = host.user_dir(user, "MISE_DATA_DIR", ".local/share/mise");
            let is_there = ["installs", "shims"].iter().any(|name| is_dir(host, &path::join(&data, name.as_bytes())));
            is_there.then_some((data, MiseData { user }))
        })
    }
}

/// The files of one directory, strongest first.
const FILES: [&str; 4] = ["mise.local.toml", ".mise.toml", "mise.toml", ".config/mise/config.toml"];

/// The versions that a file gives a tool.
fn versions_in(content: &[u8], tool: &str) -> Option<Vec<ByteString>> {
    let table: toml::Table = toml::from_slice(content).ok()?;
    let one = |value: &toml::Value| -> Option<ByteString> {
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
    fn choose(&self, host: &Host, tool: &ByteString) -> Option<(Vec<ByteString>, Evidence)> {
        let name = tool.to_string();
        let variable = format!("MISE_{}_VERSION", name.to_uppercase().replace('-', "_"));
        if let Some(value) = host.variable(self.user, &variable) {
            let versions =
                value.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).map(ByteString::from).collect();
            return Some((versions, Evidence::at(ENVIRONMENT, variable, value.to_string())));
        }
        let told = |versions: &[ByteString]| versions.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let by_toml = |file: ByteString| {
            let versions = versions_in(&host.root.read(&file, Limit::SMALL).ok()?, &name)?;
            let says = told(&versions);
            Some((versions, Evidence::at(file, format!("tools.{name}"), says)))
        };
        let by_lines = |dir: &[u8]| {
            let file = path::join(dir, b".tool-versions");
            let (line, versions) = asdf::versions_in(&host.root.read(&file, Limit::SMALL).ok()?, tool)?;
            let says = told(&versions);
            Some((versions, Evidence::line(file, line, says)))
        };
        let start = host.working_dir(self.user);
        let home = &*self.user.home;
        let of_dir = |dir: &[u8]| {
            let files = FILES.iter().filter(|name| dir != home || !name.starts_with(".config"));
            let found = files.map(|file| path::join(dir, file.as_bytes())).find_map(by_toml);
            found.or_else(|| if dir == home { None } else { by_lines(dir) })
        };
        upwards(&start)
            .find_map(of_dir)
            .or_else(|| by_toml(host.user_dir(self.user, "MISE_GLOBAL_CONFIG_FILE", ".config/mise/config.toml")))
            .or_else(|| by_lines(home))
    }

    /// The directory of a version as it is asked for, and what is missing where there is none.
    fn user_dir(host: &Host, tool_dir: &ByteString, asked: &[u8]) -> Option<ByteString> {
        if let Some(own) = asked.strip_prefix(b"path:") {
            return Some(own.into());
        }
        let asked = asked.strip_prefix(b"prefix:").unwrap_or(asked);
        let direct = path::join(tool_dir, asked);
        if is_dir(host, &direct) {
            return Some(direct);
        }
        let kept: Vec<ByteString> = dirs_in(host, tool_dir, false).into_iter().map(|(name, _)| name).collect();
        let found = if asked == b"latest" {
            kept.iter().max_by(|a, b| tokens::compare(a, b))
        } else {
            highest(&kept, asked, Scheme::Tokens)
        };
        found.map(|version| path::join(tool_dir, version))
    }
}

impl SimpleBackend for MiseData<'_> {
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
            let chosen = choice.as_ref().and_then(|(versions, _)| Self::user_dir(host, &dir, versions.first()?));
            let chosen = chosen.map(|dir| host.root.canonicalize_dir(&dir));
            for (version, kind) in dirs_in(host, &dir, true) {
                let tree = path::join(&dir, &version);
                let mut item = InstalledPackage::kept("toolchain", tool.clone(), version.clone());
                item.installed_at = host.root.modified(&tree);
                if kind == Kind::Link {
                    if host.root.read_link(&tree).is_ok_and(|to| !to.starts_with(b"/")) {
                        continue;
                    }
                    let target = host.root.canonicalize_dir(&tree);
                    item.evidence.push(Evidence::at(tree.clone(), "link", format!("linked by hand: {target}")));
                    item.places.push((tree.clone(), item.evidence[0].clone()));
                } else {
                    item.evidence.push(Evidence::directory(tree.clone(), format!("{tool} {version}")));
                    item.trees.push(tree.clone());
                }
                item.active = chosen.as_ref() == Some(&host.root.canonicalize_dir(&tree));
                if let Some((_, why)) = choice.as_ref().filter(|_| item.active) {
                    item.evidence.push(why.clone());
                }
                let one = [&*tool, b"@", &*version].concat();
                let of_it = |verb: &str| CommandLine::new("mise").words(verb).operand(one.clone());
                record.items.push(
                    item.remedy(RemedyKind::Remove, of_it("uninstall"))
                        .remedy(RemedyKind::Choose, of_it("use --global")),
                );
            }
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"installs"), path::join(&at.dir, b"shims")]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        if *path::parent(canonical) != *path::join(&at.dir, b"shims") {
            return None;
        }
        let name = path::name(canonical);
        let installs = path::join(&at.dir, b"installs");
        let program_in = |dir: &ByteString| path::join(&path::join(dir, b"bin"), name);
        let mut why = Vec::new();
        for (tool, _) in dirs_in(host, &installs, false) {
            let dir = path::join(&installs, &tool);
            let kept = dirs_in(host, &dir, true).into_iter().map(|(version, _)| path::join(&dir, &version));
            let brings = kept.into_iter().any(|version| host.root.target(&program_in(&version)).is_ok());
            let choice = self.choose(host, &tool);
            let Some((versions, because)) = choice.filter(|_| brings) else { continue };
            why.push(because);
            for version in versions {
                if *version == *b"system" {
                    let shims = path::join(&at.dir, b"shims");
                    return Some(ExecTarget { to: ExecDestination::NextOnPath(vec![shims]), is_shim: true, why });
                }
                let Some(chosen) = Self::user_dir(host, &dir, &version) else {
                    let says = format!("{tool} {version} is not installed: the shim would install it");
                    why.push(Evidence::at(dir.clone(), "lookup", says));
                    continue;
                };
                let program = program_in(&chosen);
                if host.root.target(&program).is_ok() {
                    return Some(ExecTarget { to: ExecDestination::File(program), is_shim: true, why });
                }
                why.push(Evidence::at(chosen, "lookup", format!("has no {}", ByteString::from(name))));
            }
        }
        if why.is_empty() {
            let says = format!(
                "no version that provides {} is set in {} or above it",
                ByteString::from(name),
                host.working_dir(self.user)
            );
            why.push(Evidence::at(canonical, "lookup", says));
        }
        Some(nowhere(why))
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"shims")]
    }
}
