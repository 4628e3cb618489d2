//! Global packages of npm, pnpm and yarn.
//!
//! | manager | packages | commands |
//! |---|---|---|
//! | npm | `PREFIX/lib/node_modules/[@SCOPE/]NAME/package.json` | links in `PREFIX/bin` |
//! | pnpm | `PNPM_HOME/global/N/package.json` and `node_modules` | small shell scripts in `PNPM_HOME` |
//! | yarn 1 | `~/.config/yarn/global/package.json` and `node_modules` (root: `/usr/local/share/.config/yarn/global`) | links in `~/.yarn/bin`, `~/.local/bin` or `/usr/local/bin` |
//!
//! npm's prefix is that of the node it runs on (`/usr`, `/usr/local`, each kept version), or what
//! `NPM_CONFIG_PREFIX`, `~/.npmrc` or `PREFIX/etc/npmrc` says; several can have packages at once.
//!
//! Traps: nothing in a global prefix tells an index from a local archive; a package that is a link was
//! linked from a checkout and is not npm's; `/usr/lib/node_modules` can be filled by the distribution;
//! directories that begin with `.` are remains of an interrupted installation.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use serde::Deserialize;

use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, SimpleInstallation, is_dir, link_target, links_into, of,
};
use crate::backend::version_dirs::{self, Language};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path, shell_word};
use crate::fs::{Kind, Limit};
use crate::host::{Host, User};
use crate::model::{Evidence, ExecTarget, Location, ManagerId, Origin, Reason, RemedyKind, Scope, Status};
use crate::version::semver;

const NPM: ManagerId = ManagerId("npm");
const PNPM: ManagerId = ManagerId("pnpm");
const YARN: ManagerId = ManagerId("yarn");

/// `package.json`, as far as it is used.
#[derive(Deserialize)]
struct PackageFile {
    version: Option<String>,
    #[serde(default)]
    dependencies: BTreeMap<String, String>,
}

fn package_file(host: &Host, file: &[u8]) -> Result<PackageFile, String> {
    let content = host.root.read(file, Limit::SMALL).map_err(|error| error.to_string())?;
    serde_json::from_slice(&content).map_err(|error| format!("{}: {error}", ByteString::from(file)))
}

/// The packages in a directory of modules: `NAME` and `@SCOPE/NAME`, and whether each is a link.
fn packages_in(host: &Host, modules: &ByteString) -> Vec<(ByteString, Kind)> {
    let mut found = Vec::new();
    for (name, kind) in crate::backend::simple::dirs_in(host, modules, true) {
        if name.starts_with(b"@") {
            let inside = crate::backend::simple::dirs_in(host, &path::join(modules, &name), true);
            found.extend(inside.into_iter().map(|(one, kind)| (path::join(&name, &one), kind)));
        } else {
            found.push((name, kind));
        }
    }
    found
}

/// A package in a directory of modules.
fn package(
    host: &Host,
    modules: &ByteString,
    name: &ByteString,
    record: &mut Record,
) -> (InstalledPackage, PackageFile) {
    let dir = path::join(modules, name);
    let file = path::join(&dir, b"package.json");
    let mut item = InstalledPackage::new("package", name.clone());
    item.purl = Some("npm");
    item.installed_at = host.root.entry(&dir).ok().map(|meta| meta.modified);
    let read = package_file(host, &file).unwrap_or_else(|problem| {
        item.status = Status::Broken;
        record.notes.push(format!("{problem}: the version of {name} is unknown"));
        PackageFile { version: None, dependencies: BTreeMap::new() }
    });
    item.version = read.version.clone().map(ByteString::from);
    let version = item.version.as_ref().map_or_else(|| "no version".to_owned(), ToString::to_string);
    item.evidence.push(Evidence::at(file, "version", version));
    (item, read)
}

/// npm.
#[derive(Debug)]
pub struct Npm;

struct Prefix {
    sudo: bool,
}

impl Manager for Npm {
    fn id(&self) -> ManagerId {
        NPM
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut prefixes: Vec<(Scope, ByteString)> =
            vec![(Scope::System, "/usr/local".into()), (Scope::System, "/usr".into())];
        for file in ["/etc/npmrc", "/usr/etc/npmrc", "/usr/local/etc/npmrc"] {
            prefixes.extend(configured(host, file.as_bytes(), b"/").map(|prefix| (Scope::System, prefix)));
        }
        for user in &host.users {
            let variable = host.variable(user, "NPM_CONFIG_PREFIX").or(host.variable(user, "npm_config_prefix"));
            let own = configured(host, &path::join(&user.home, b".npmrc"), &user.home);
            let usual = [".npm-global", ".npm-packages", ".local"].map(|name| path::join(&user.home, name.as_bytes()));
            prefixes.extend(variable.cloned().into_iter().chain(own).chain(usual).map(|prefix| (of(user), prefix)));
            let kept = version_dirs::versions_of(host, user, Language::Node);
            prefixes.extend(kept.into_iter().map(|prefix| (Scope::Environment(prefix.clone()), prefix)));
        }
        let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
        let (mut seen, mut scopes): (Vec<ByteString>, Vec<Scope>) = (Vec::new(), Vec::new());
        for (scope, prefix) in prefixes {
            let prefix = host.root.canonicalize_dir(&prefix);
            if seen.contains(&prefix) || !is_dir(host, &path::join(&prefix, b"lib/node_modules")) {
                continue;
            }
            // A second prefix of one scope is told apart by its place.
            let sudo = scope == Scope::System;
            let scope = if scopes.contains(&scope) { Scope::Environment(prefix.clone()) } else { scope };
            scopes.push(scope.clone());
            seen.push(prefix.clone());
            held.push(SimpleInstallation::boxed(host, NPM, scope, prefix, Prefix { sudo }));
        }
        held
    }
}

/// The links in a directory with what their text says, links on the way left alone: a linked checkout is one.
fn links_by_their_text(host: &Host, dir: &ByteString) -> Vec<(ByteString, ByteString)> {
    let names = host.root.dir(dir).and_then(|dir| dir.list()).unwrap_or_default();
    let links = names.into_iter().filter(|(_, kind)| *kind == Kind::Link).map(|(name, _)| path::join(dir, &name));
    let told = links.filter_map(|link| {
        let text = host.root.read_link(&link).ok()?;
        let target = path::without_dots(&text, dir);
        Some((link, target))
    });
    told.collect()
}

/// `prefix=` in a file of npm's settings, `${HOME}` and `~` replaced.
fn configured(host: &Host, file: &[u8], home: &[u8]) -> Option<ByteString> {
    let content = host.root.read(file, Limit::SMALL).ok()?;
    let mut set = content.split(|&b| b == b'\n').filter_map(|line| {
        let at = memchr::memchr(b'=', line)?;
        (line[..at].trim_ascii() == b"prefix").then(|| line[at + 1..].trim_ascii())
    });
    let value = set.next_back()?;
    let value = value.strip_prefix(b"\"").and_then(|value| value.strip_suffix(b"\"")).unwrap_or(value);
    let value = bstr::ByteSlice::replace(value, b"${HOME}", home);
    let value = match value.strip_prefix(b"~") {
        Some(rest) if rest.is_empty() || rest.starts_with(b"/") => [home, rest].concat(),
        _ => value,
    };
    value.starts_with(b"/").then(|| value.into())
}

impl SimpleBackend for Prefix {
    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let modules = path::join(&at.location, b"lib/node_modules");
        let links = links_by_their_text(host, &path::join(&at.location, b"bin"));
        for (name, kind) in packages_in(host, &modules) {
            let dir = path::join(&modules, &name);
            let (mut item, _) = package(host, &modules, &name, &mut record);
            if kind == Kind::Link {
                let target = host.root.canonicalize_dir(&dir);
                let says = format!("linked from the checkout {target}");
                let origin = Origin {
                    name: "checkout".into(),
                    kind: "directory".to_owned(),
                    url: Some(target),
                    trust: Some("local".to_owned()),
                };
                item.origin = Some(origin);
                item.places.push((dir.clone(), Evidence::at(dir.clone(), "link", says)));
            } else {
                item.trees.push(dir.clone());
            }
            for (link, _) in links.iter().filter(|(_, target)| path::within(target, &dir)) {
                item.places
                    .push((link.clone(), Evidence::at(link.clone(), "link", format!("npm links it into {dir}"))));
                item.commands.push(link.clone());
            }
            item.record = (at.scope == Scope::System).then(|| path::join(&dir, b"package.json"));
            let (sudo, prefix, name) =
                (if self.sudo { "sudo " } else { "" }, shell_word(&at.location), shell_word(&name));
            let item = item
                .remedy(RemedyKind::Remove, format!("{sudo}npm uninstall --global --prefix {prefix} {name}"))
                .remedy(RemedyKind::Upgrade, format!("{sudo}npm install --global --prefix {prefix} {name}@latest"));
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.location, b"lib/node_modules"), path::join(&at.location, b"bin")]
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.location, b"bin")]
    }
}

/// pnpm.
#[derive(Debug)]
pub struct Pnpm;

struct PnpmHome;

impl Manager for Pnpm {
    fn id(&self) -> ManagerId {
        PNPM
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let of_user = |user: &User| -> Option<Box<dyn Installation + 'h>> {
            let home = host.user_dir(user, "PNPM_HOME", ".local/share/pnpm");
            let is_there = is_dir(host, &path::join(&home, b"global"));
            is_there.then(|| SimpleInstallation::boxed(host, PNPM, of(user), home, PnpmHome))
        };
        host.users.iter().filter_map(of_user).collect()
    }
}

/// What one of pnpm's shell scripts starts: a file below `$basedir`, the script's own directory.
fn behind_script(host: &Host, script: &[u8]) -> Option<ByteString> {
    const MARK: &[u8] = b"\"$basedir/global/";
    if host.root.entry(script).ok()?.kind != Kind::File {
        return None;
    }
    let content = host.root.read(script, Limit::bytes(64 << 10)).ok()?;
    let start = memchr::memmem::find(&content, MARK)? + MARK.len();
    let end = start + memchr::memchr(b'"', &content[start..])?;
    Some(path::join(&path::join(path::parent(script), b"global"), &content[start..end]))
}

impl SimpleBackend for PnpmHome {
    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let scripts = host.root.dir(&at.location).and_then(|dir| dir.list()).unwrap_or_default();
        let scripts: Vec<(ByteString, ByteString)> = scripts
            .into_iter()
            .filter(|(_, kind)| *kind == Kind::File)
            .map(|(name, _)| path::join(&at.location, &name))
            .filter_map(|script| behind_script(host, &script).map(|behind| (script, behind)))
            .collect();
        let global = path::join(&at.location, b"global");
        for (layout, _) in crate::backend::simple::dirs_in(host, &global, false) {
            let dir = path::join(&global, &layout);
            let modules = path::join(&dir, b"node_modules");
            let file = path::join(&dir, b"package.json");
            let asked = match package_file(host, &file) {
                Ok(read) => read.dependencies,
                Err(problem) => {
                    record.notes.push(format!("{problem}: what pnpm installed is not known"));
                    continue;
                }
            };
            for (name, wanted) in asked {
                let name = ByteString::from(name);
                let (mut item, _) = package(host, &modules, &name, &mut record);
                item.origin = origin(&wanted);
                item.evidence.push(Evidence::at(file.clone(), "dependencies", ByteString::from(wanted).to_string()));
                let place = path::join(&modules, &name);
                item.trees = vec![host.root.canonicalize_dir(&place)];
                for (script, _) in scripts.iter().filter(|(_, behind)| path::within(behind, &place)) {
                    let evidence = Evidence::at(script.clone(), "its text", format!("starts a file of {name}"));
                    item.places.push((script.clone(), evidence));
                    item.commands.push(script.clone());
                }
                let name = shell_word(&name);
                record.items.push(
                    item.remedy(RemedyKind::Remove, format!("pnpm remove --global {name}"))
                        .remedy(RemedyKind::Upgrade, format!("pnpm update --global {name}")),
                );
            }
        }
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }

    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        if *path::parent(canonical) != *at.location {
            return None;
        }
        behind_script(host, canonical).map(ExecTarget::wrapper)
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.location.clone()]
    }
}

/// Where a package came from, by what was asked for: an address or a path says it, a version is an index's.
fn origin(wanted: &str) -> Option<Origin> {
    let origin = |name: &str, kind: &str, trust: Option<&str>| Origin {
        name: name.into(),
        kind: kind.to_owned(),
        url: (kind != "index").then(|| wanted.into()),
        trust: trust.map(str::to_owned),
    };
    Some(match wanted.split_once(':') {
        Some(("file" | "link", _)) => origin("local", "file", Some("local")),
        Some((kind, _)) if kind.starts_with("git") => origin("git", "version-control", None),
        Some(_) => origin("direct", "file", None),
        None => origin("package index", "index", None),
    })
}

/// yarn 1.
#[derive(Debug)]
pub struct Yarn;

struct YarnGlobal {
    bins: Vec<ByteString>,
}

impl Manager for Yarn {
    fn id(&self) -> ManagerId {
        YARN
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
        let mut add = |scope: Scope, dir: ByteString, bins: Vec<ByteString>| {
            if is_dir(host, &path::join(&dir, b"node_modules")) {
                held.push(SimpleInstallation::boxed(host, YARN, scope, dir, YarnGlobal { bins }));
            }
        };
        let shared = host.root.canonicalize_dir(b"/usr/local/bin");
        for user in &host.users {
            let below = |name: &str| host.user_dir(user, "", name);
            add(of(user), below(".config/yarn/global"), vec![below(".yarn/bin"), below(".local/bin"), shared.clone()]);
        }
        add(Scope::System, host.root.canonicalize_dir(b"/usr/local/share/.config/yarn/global"), vec![shared]);
        held
    }
}

impl SimpleBackend for YarnGlobal {
    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let modules = path::join(&at.location, b"node_modules");
        let file = path::join(&at.location, b"package.json");
        let asked = package_file(host, &file).map(|read| read.dependencies).unwrap_or_else(|problem| {
            record.notes.push(format!("{problem}: what was asked for is not known"));
            BTreeMap::new()
        });
        // The links lead to `node_modules/.bin`, where others lead on.
        let links: Vec<(ByteString, ByteString)> = self
            .bins
            .iter()
            .flat_map(|bin| links_into(host, bin, &modules))
            .map(|(link, target)| (link, host.root.canonicalize_dir(&target)))
            .collect();
        for (name, _) in packages_in(host, &modules) {
            let (mut item, _) = package(host, &modules, &name, &mut record);
            let dir = path::join(&modules, &name);
            match std::str::from_utf8(&name).ok().and_then(|name| asked.get(name)) {
                Some(wanted) => {
                    item.origin = origin(wanted);
                    item.evidence.push(Evidence::at(
                        file.clone(),
                        "dependencies",
                        ByteString::from(wanted.as_str()).to_string(),
                    ));
                }
                None if asked.is_empty() => item.reason = Reason::Unknown,
                None => item.reason = Reason::Dependency,
            }
            for (link, _) in links.iter().filter(|(_, target)| path::within(target, &dir)) {
                item.places
                    .push((link.clone(), Evidence::at(link.clone(), "link", format!("yarn links it into {dir}"))));
                item.commands.push(link.clone());
            }
            item.trees.push(dir);
            let (sudo, name) = (if at.scope == Scope::System { "sudo " } else { "" }, shell_word(&name));
            if item.reason != Reason::Dependency {
                item = item
                    .remedy(RemedyKind::Remove, format!("{sudo}yarn global remove {name}"))
                    .remedy(RemedyKind::Upgrade, format!("{sudo}yarn global upgrade {name}"));
            }
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        [vec![at.location.clone()], self.bins.clone()].concat()
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }

    fn linked(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ByteString> {
        // The middle one of the links, in `.bin`.
        let bin = path::join(&at.location, b"node_modules/.bin");
        (*path::parent(canonical) == *bin).then(|| link_target(host, canonical)).flatten()
    }

    fn program_dirs(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        self.bins.iter().take(1).cloned().collect()
    }
}
