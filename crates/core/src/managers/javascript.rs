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
//! folders that begin with `.` are remains of an interrupted installation.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use serde::Deserialize;

use super::kept::{self, Language};
use super::roster::{Item, Keeper, Record, Roster, is_folder, link_target, links_into, of};
use super::{Holdings, Manager};
use crate::model::{Evidence, Installation, Lead, ManagerId, Origin, Reason, Scope, Status};
use crate::root::{Kind, Limit};
use crate::scene::{Person, Scene};
use crate::text::{Text, path, shell_word};
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

fn package_file(scene: &Scene, file: &[u8]) -> Result<PackageFile, String> {
    let content = scene.root.read(file, Limit::SMALL).map_err(|error| error.to_string())?;
    serde_json::from_slice(&content).map_err(|error| format!("{}: {error}", Text::from(file)))
}

/// The packages in a folder of modules: `NAME` and `@SCOPE/NAME`, and whether each is a link.
fn packages_in(scene: &Scene, modules: &Text) -> Vec<(Text, Kind)> {
    let mut found = Vec::new();
    for (name, kind) in super::roster::folders_in(scene, modules, true) {
        if name.starts_with(b"@") {
            let inside = super::roster::folders_in(scene, &path::join(modules, &name), true);
            found.extend(inside.into_iter().map(|(one, kind)| (path::join(&name, &one), kind)));
        } else {
            found.push((name, kind));
        }
    }
    found
}

/// A package in a folder of modules.
fn package(scene: &Scene, modules: &Text, name: &Text, record: &mut Record) -> (Item, PackageFile) {
    let folder = path::join(modules, name);
    let file = path::join(&folder, b"package.json");
    let mut item = Item::new("package", name.clone());
    item.purl = Some("npm");
    item.installed_at = scene.root.entry(&folder).ok().map(|meta| meta.modified);
    let read = package_file(scene, &file).unwrap_or_else(|problem| {
        item.status = Status::Broken;
        record.notes.push(format!("{problem}: the version of {name} is not known"));
        PackageFile { version: None, dependencies: BTreeMap::new() }
    });
    item.version = read.version.clone().map(Text::from);
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

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let mut prefixes: Vec<(Scope, Text)> =
            vec![(Scope::System, "/usr/local".into()), (Scope::System, "/usr".into())];
        for file in ["/etc/npmrc", "/usr/etc/npmrc", "/usr/local/etc/npmrc"] {
            prefixes.extend(configured(scene, file.as_bytes(), b"/").map(|prefix| (Scope::System, prefix)));
        }
        for person in &scene.people {
            let variable = scene.variable(person, "NPM_CONFIG_PREFIX").or(scene.variable(person, "npm_config_prefix"));
            let own = configured(scene, &path::join(&person.home, b".npmrc"), &person.home);
            let usual =
                [".npm-global", ".npm-packages", ".local"].map(|name| path::join(&person.home, name.as_bytes()));
            prefixes.extend(variable.cloned().into_iter().chain(own).chain(usual).map(|prefix| (of(person), prefix)));
            let kept = kept::versions_of(scene, person, Language::Node);
            prefixes.extend(kept.into_iter().map(|prefix| (Scope::Environment(prefix.clone()), prefix)));
        }
        let mut held: Vec<Box<dyn Holdings + 's>> = Vec::new();
        let (mut seen, mut scopes): (Vec<Text>, Vec<Scope>) = (Vec::new(), Vec::new());
        for (scope, prefix) in prefixes {
            let prefix = scene.root.settle_folder(&prefix);
            if seen.contains(&prefix) || !is_folder(scene, &path::join(&prefix, b"lib/node_modules")) {
                continue;
            }
            // A second prefix of one scope is told apart by its place.
            let sudo = scope == Scope::System;
            let scope = if scopes.contains(&scope) { Scope::Environment(prefix.clone()) } else { scope };
            scopes.push(scope.clone());
            seen.push(prefix.clone());
            held.push(Roster::boxed(scene, NPM, scope, prefix, Prefix { sudo }));
        }
        held
    }
}

/// The links in a folder with what their text says, links on the way left alone: a linked checkout is one.
fn links_by_their_text(scene: &Scene, folder: &Text) -> Vec<(Text, Text)> {
    let names = scene.root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
    let links = names.into_iter().filter(|(_, kind)| *kind == Kind::Link).map(|(name, _)| path::join(folder, &name));
    let told = links.filter_map(|link| {
        let text = scene.root.read_link(&link).ok()?;
        let target = path::without_dots(&text, folder);
        Some((link, target))
    });
    told.collect()
}

/// `prefix=` in a file of npm's settings, `${HOME}` and `~` replaced.
fn configured(scene: &Scene, file: &[u8], home: &[u8]) -> Option<Text> {
    let content = scene.root.read(file, Limit::SMALL).ok()?;
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

impl Keeper for Prefix {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let modules = path::join(&at.location, b"lib/node_modules");
        let links = links_by_their_text(scene, &path::join(&at.location, b"bin"));
        for (name, kind) in packages_in(scene, &modules) {
            let folder = path::join(&modules, &name);
            let (mut item, _) = package(scene, &modules, &name, &mut record);
            if kind == Kind::Link {
                let target = scene.root.settle_folder(&folder);
                let says = format!("linked from the checkout {target}");
                let origin = Origin {
                    name: "checkout".into(),
                    kind: "folder".to_owned(),
                    url: Some(target),
                    trust: Some("local".to_owned()),
                };
                item.origin = Some(origin);
                item.places.push((folder.clone(), Evidence::at(folder.clone(), "link", says)));
            } else {
                item.trees.push(folder.clone());
            }
            for (link, _) in links.iter().filter(|(_, target)| path::within(target, &folder)) {
                item.places
                    .push((link.clone(), Evidence::at(link.clone(), "link", format!("npm links it into {folder}"))));
                item.commands.push(link.clone());
            }
            item.record = (at.scope == Scope::System).then(|| path::join(&folder, b"package.json"));
            let (sudo, prefix, name) =
                (if self.sudo { "sudo " } else { "" }, shell_word(&at.location), shell_word(&name));
            let item = item
                .remedy("remove", format!("{sudo}npm uninstall --global --prefix {prefix} {name}"))
                .remedy("upgrade", format!("{sudo}npm install --global --prefix {prefix} {name}@latest"));
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        vec![path::join(&at.location, b"lib/node_modules"), path::join(&at.location, b"bin")]
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }

    fn program_folders(&self, _: &Scene, at: &Installation) -> Vec<Text> {
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

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let of_person = |person: &Person| -> Option<Box<dyn Holdings + 's>> {
            let home = scene.folder_of(person, "PNPM_HOME", ".local/share/pnpm");
            let is_there = is_folder(scene, &path::join(&home, b"global"));
            is_there.then(|| Roster::boxed(scene, PNPM, of(person), home, PnpmHome))
        };
        scene.people.iter().filter_map(of_person).collect()
    }
}

/// What one of pnpm's shell scripts starts: a file below `$basedir`, the script's own folder.
fn behind_script(scene: &Scene, script: &[u8]) -> Option<Text> {
    const MARK: &[u8] = b"\"$basedir/global/";
    if scene.root.entry(script).ok()?.kind != Kind::File {
        return None;
    }
    let content = scene.root.read(script, Limit::bytes(64 << 10)).ok()?;
    let start = memchr::memmem::find(&content, MARK)? + MARK.len();
    let end = start + memchr::memchr(b'"', &content[start..])?;
    Some(path::join(&path::join(path::folder(script), b"global"), &content[start..end]))
}

impl Keeper for PnpmHome {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let scripts = scene.root.folder(&at.location).and_then(|folder| folder.list()).unwrap_or_default();
        let scripts: Vec<(Text, Text)> = scripts
            .into_iter()
            .filter(|(_, kind)| *kind == Kind::File)
            .map(|(name, _)| path::join(&at.location, &name))
            .filter_map(|script| behind_script(scene, &script).map(|behind| (script, behind)))
            .collect();
        let global = path::join(&at.location, b"global");
        for (layout, _) in super::roster::folders_in(scene, &global, false) {
            let folder = path::join(&global, &layout);
            let modules = path::join(&folder, b"node_modules");
            let file = path::join(&folder, b"package.json");
            let asked = match package_file(scene, &file) {
                Ok(read) => read.dependencies,
                Err(problem) => {
                    record.notes.push(format!("{problem}: what pnpm installed is not known"));
                    continue;
                }
            };
            for (name, wanted) in asked {
                let name = Text::from(name);
                let (mut item, _) = package(scene, &modules, &name, &mut record);
                item.origin = origin(&wanted);
                item.evidence.push(Evidence::at(file.clone(), "dependencies", Text::from(wanted).to_string()));
                let place = path::join(&modules, &name);
                item.trees = vec![scene.root.settle_folder(&place)];
                for (script, _) in scripts.iter().filter(|(_, behind)| path::within(behind, &place)) {
                    let evidence = Evidence::at(script.clone(), "its text", format!("starts a file of {name}"));
                    item.places.push((script.clone(), evidence));
                    item.commands.push(script.clone());
                }
                let name = shell_word(&name);
                record.items.push(
                    item.remedy("remove", format!("pnpm remove --global {name}"))
                        .remedy("upgrade", format!("pnpm update --global {name}")),
                );
            }
        }
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }

    fn lead(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Lead> {
        if *path::folder(settled) != *at.location {
            return None;
        }
        behind_script(scene, settled).map(Lead::wrapper)
    }

    fn program_folders(&self, _: &Scene, at: &Installation) -> Vec<Text> {
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
    bins: Vec<Text>,
}

impl Manager for Yarn {
    fn id(&self) -> ManagerId {
        YARN
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let mut held: Vec<Box<dyn Holdings + 's>> = Vec::new();
        let mut add = |scope: Scope, folder: Text, bins: Vec<Text>| {
            if is_folder(scene, &path::join(&folder, b"node_modules")) {
                held.push(Roster::boxed(scene, YARN, scope, folder, YarnGlobal { bins }));
            }
        };
        let shared = scene.root.settle_folder(b"/usr/local/bin");
        for person in &scene.people {
            let below = |name: &str| scene.folder_of(person, "", name);
            add(
                of(person),
                below(".config/yarn/global"),
                vec![below(".yarn/bin"), below(".local/bin"), shared.clone()],
            );
        }
        add(Scope::System, scene.root.settle_folder(b"/usr/local/share/.config/yarn/global"), vec![shared]);
        held
    }
}

impl Keeper for YarnGlobal {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let modules = path::join(&at.location, b"node_modules");
        let file = path::join(&at.location, b"package.json");
        let asked = package_file(scene, &file).map(|read| read.dependencies).unwrap_or_else(|problem| {
            record.notes.push(format!("{problem}: what was asked for is not known"));
            BTreeMap::new()
        });
        // The links lead to `node_modules/.bin`, where others lead on.
        let links: Vec<(Text, Text)> = self
            .bins
            .iter()
            .flat_map(|bin| links_into(scene, bin, &modules))
            .map(|(link, target)| (link, scene.root.settle_folder(&target)))
            .collect();
        for (name, _) in packages_in(scene, &modules) {
            let (mut item, _) = package(scene, &modules, &name, &mut record);
            let folder = path::join(&modules, &name);
            match std::str::from_utf8(&name).ok().and_then(|name| asked.get(name)) {
                Some(wanted) => {
                    item.origin = origin(wanted);
                    item.evidence.push(Evidence::at(
                        file.clone(),
                        "dependencies",
                        Text::from(wanted.as_str()).to_string(),
                    ));
                }
                None if asked.is_empty() => item.reason = Reason::Unknown,
                None => item.reason = Reason::Dependency,
            }
            for (link, _) in links.iter().filter(|(_, target)| path::within(target, &folder)) {
                item.places
                    .push((link.clone(), Evidence::at(link.clone(), "link", format!("yarn links it into {folder}"))));
                item.commands.push(link.clone());
            }
            item.trees.push(folder);
            let (sudo, name) = (if at.scope == Scope::System { "sudo " } else { "" }, shell_word(&name));
            if item.reason != Reason::Dependency {
                item = item
                    .remedy("remove", format!("{sudo}yarn global remove {name}"))
                    .remedy("upgrade", format!("{sudo}yarn global upgrade {name}"));
            }
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Scene, at: &Installation) -> Vec<Text> {
        [vec![at.location.clone()], self.bins.clone()].concat()
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        semver::compare(a, b)
    }

    fn linked(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Text> {
        // The middle one of the links, in `.bin`.
        let bin = path::join(&at.location, b"node_modules/.bin");
        (*path::folder(settled) == *bin).then(|| link_target(scene, settled)).flatten()
    }

    fn program_folders(&self, _: &Scene, _: &Installation) -> Vec<Text> {
        self.bins.iter().take(1).cloned().collect()
    }
}
