//! Programs that `cargo install` built (*The Cargo Book*, "cargo install").
//!
//! A root is `CARGO_INSTALL_ROOT`, `install.root` of `CARGO_HOME/config.toml`, or `CARGO_HOME` (`~/.cargo`);
//! a machine can have one more in `/usr/local`. It has `bin/` and two records of the same: `.crates.toml`, with
//! `"NAME VERSION (SOURCE)" = [programs]`, and `.crates2.json`, which also says how each was built.
//!
//! Traps: the package is often called otherwise than its program; a record outlives a deleted program, and
//! a program that was copied into `bin/` is in none; rustup's proxies lie in the same `bin/`.

use super::cargo_registries;
use std::collections::BTreeMap;

use hashbrown::HashSet;
use serde::Deserialize;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, SimpleInstallation, of};
use crate::backend::{CachePlace, Installation, Manager, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::{Host, User};
use crate::model::{
    Affix, CommandLine, Evidence, Finding, FindingKind, Language, Location, Loss, ManagerId, Origin, Profile, Remedy,
    RemedyKind, Scope, Severity, Source, Status,
};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("cargo");

/// The manager.
#[derive(Debug)]
pub struct Cargo;

struct InstallRoot {
    /// The setting that names this root, if it is not the default one.
    option: CommandLine,
}

impl Manager for Cargo {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::language(Language::Rust, Affix::None)
    }

    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        cargo_registries::configured(host, ID, notes)
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("cargo", &["install"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const {
            &[
                CachePlace::without_command("sources of crates", "~/.cargo/registry"),
                CachePlace::without_command("repositories of crates", "~/.cargo/git"),
            ]
        }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
        let mut seen: Vec<ByteString> = Vec::new();
        let mut add = |scope: Scope, place: ByteString, option: CommandLine| {
            let is_there = [&b".crates.toml"[..], b".crates2.json"]
                .iter()
                .any(|name| host.root.entry(&path::join(&place, name)).is_ok());
            if is_there && !seen.contains(&place) {
                seen.push(place.clone());
                held.push(SimpleInstallation::boxed(host, ID, scope, place, InstallRoot { option }));
            }
        };
        for user in &host.users {
            let home = host.user_dir(user, "CARGO_HOME", ".cargo");
            add(of(user), home.clone(), CommandLine::default());
            for other in other_roots(host, user, &home) {
                let option = CommandLine::new("--root").arg(other.clone());
                add(Scope::Environment(other.clone()), other, option);
            }
        }
        add(Scope::System, host.root.canonicalize_dir(b"/usr/local"), CommandLine::new("--root /usr/local"));
        held
    }
}

#[derive(Deserialize)]
struct Config {
    install: Option<Install>,
}

#[derive(Deserialize)]
struct Install {
    root: Option<String>,
}

fn other_roots(host: &Host, user: &User, home: &ByteString) -> Vec<ByteString> {
    let of_variable = host.variable(user, "CARGO_INSTALL_ROOT").cloned();
    let config = [&b"config.toml"[..], b"config"]
        .iter()
        .find_map(|name| host.root.read(&path::join(home, name), Limit::SMALL).ok());
    let config: Option<Config> = config.and_then(|content| toml::from_slice(&content).ok());
    let configured = config.and_then(|config| config.install?.root);
    let configured = configured.map(|root| path::absolute(root.as_bytes(), path::parent(home)));
    of_variable.into_iter().chain(configured).map(|root| host.root.canonicalize_dir(&root)).collect()
}

#[derive(Deserialize)]
struct Crates {
    #[serde(default)]
    v1: BTreeMap<String, Vec<String>>,
}

#[derive(Deserialize)]
struct Crates2 {
    #[serde(default)]
    installs: BTreeMap<String, Build>,
}

#[derive(Deserialize, Default)]
struct Build {
    version_req: Option<String>,
    #[serde(default)]
    bins: Vec<String>,
    #[serde(default)]
    features: Vec<String>,
    rustc: Option<String>,
    target: Option<String>,
}

/// `tarn 0.3.1 (path+file:///src/tarn)` → its three parts.
fn parts(key: &str) -> Option<(&str, &str, &str)> {
    let (name, rest) = key.split_once(' ')?;
    let (version, source) = rest.split_once(' ')?;
    Some((name, version, source.strip_prefix('(')?.strip_suffix(')')?))
}

fn origin(source: &str) -> Origin {
    let (kind, url) = source.split_once('+').unwrap_or(("", source));
    let is_crates_io = url.contains("index.crates.io") || url.contains("rust-lang/crates.io-index");
    let address = Some(url.into());
    match kind {
        "registry" | "sparse" if is_crates_io => Origin::third_party("index", "crates.io", address),
        "registry" | "sparse" => Origin::third_party("index", "registry", address),
        "git" => Origin::third_party("version-control", "git", address),
        "path" => Origin::local("directory", "local", address),
        _ => Origin { name: "unknown".into(), kind: "file".to_owned(), url: address, trust: None },
    }
}

/// The package behind a key of the record, with how it was built and the programs that it has.
fn package(
    host: &Host,
    at: &Location,
    file: &ByteString,
    key: &str,
    (name, version, source): (&str, &str, &str),
    build: Build,
    programs: Vec<String>,
) -> InstalledPackage {
    let mut item = InstalledPackage::new("crate", name);
    item.version = Some(version.into());
    item.purl = Some("cargo");
    item.origin = Some(origin(source));
    item.arch = build.target.as_deref().and_then(|target| target.split('-').next()).map(ByteString::from);
    item.evidence.push(Evidence::at(file.clone(), "v1", ByteString::from(key).to_string()));
    if let Some(asked) = build.version_req.filter(|asked| asked.starts_with('=')) {
        item.evidence.push(Evidence::at(
            file.clone(),
            "version_req",
            format!("requested at exactly this version: {}", ByteString::from(asked)),
        ));
    }
    if !build.features.is_empty() {
        item.evidence.push(Evidence::at(
            file.clone(),
            "features",
            ByteString::from(build.features.join(", ")).to_string(),
        ));
    }
    if let Some(line) = build.rustc.as_deref().and_then(|rustc| rustc.lines().next()) {
        item.evidence.push(Evidence::at(file.clone(), "rustc", format!("built by {}", ByteString::from(line))));
    }
    for program in programs {
        let place = path::join(&path::join(&at.dir, b"bin"), program.as_bytes());
        match host.root.entry(&place) {
            Ok(meta) => {
                item.size = Some(item.size.unwrap_or(0) + meta.size);
                item.installed_at = item.installed_at.max(Some(meta.modified));
                item.commands.push(place.clone());
            }
            Err(_) => {
                item.status = Status::Broken;
                item.evidence.push(Evidence::at(place.clone(), "lookup", "recorded, but does not exist"));
                item.missing.push(place.clone());
            }
        }
        item.places.push((place, Evidence::at(file.clone(), "v1", ByteString::from(key).to_string())));
    }
    item
}

impl InstallRoot {
    /// How the command names its installation.
    fn command(&self, words: &str) -> CommandLine {
        self.option.clone().behind(&CommandLine::new("cargo").words(words))
    }

    /// A build that only the newer record has, with a program that is there: Cargo itself goes by the older one, and
    /// shows nothing of the package.
    fn unlisted(
        &self,
        host: &Host,
        at: &Location,
        listed: &HashSet<&ByteString>,
        key: &str,
        build: &Build,
    ) -> Option<Finding> {
        let (name, version, source) = parts(key)?;
        let places = build.bins.iter().map(|program| path::join(&path::join(&at.dir, b"bin"), program.as_bytes()));
        let is_left = |place: &ByteString| host.root.entry(place).is_ok() && !listed.contains(place);
        let paths: Vec<ByteString> = places.filter(is_left).collect();
        let first = paths.first()?;
        let (old, new) = (path::join(&at.dir, b".crates.toml"), path::join(&at.dir, b".crates2.json"));
        let name = ByteString::from(name);
        let again = self.command("install --force").operand(name.clone()).words("--version").operand(version);
        let again = source.starts_with("registry+").then(|| Remedy::new(RemedyKind::Repair, again).online());
        let summary = format!("{first} is of cargo · {name}, which only one of its two records has");
        let consequence = "Cargo neither lists the package nor removes its program";
        let says = format!("{} {}", ByteString::from(version), ByteString::from(source));
        Some(Finding {
            remedies: again.into_iter().collect(),
            evidence: vec![Evidence::at(new, "installs", says), Evidence::at(old, "v1", "does not list the package")],
            paths,
            ..Finding::new(FindingKind::RecordDisagrees, Severity::Warning, name, summary, consequence)
        })
    }
}

impl SimpleBackend for InstallRoot {
    // Its packages declare nothing of one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let (old, new) = (path::join(&at.dir, b".crates.toml"), path::join(&at.dir, b".crates2.json"));
        let listed = host.root.read(&old, Limit::LIST).map_err(|error| error.to_string()).and_then(|content| {
            toml::from_slice::<Crates>(&content).map_err(|error| format!("{old}: {}", error.message()))
        });
        let builds = host.root.read(&new, Limit::LIST).map_err(|error| error.to_string()).and_then(|content| {
            // Cargo itself takes an empty file for one that lists nothing.
            let content = if content.is_empty() { b"{}".to_vec() } else { content };
            serde_json::from_slice::<Crates2>(&content).map_err(|error| format!("{new}: {error}"))
        });
        // Either record names what is installed; the older one decides, for cargo still writes both.
        let (keys, mut builds, file) = match (listed, builds) {
            (Ok(listed), Ok(builds)) => (listed.v1, builds.installs, old),
            (Ok(listed), Err(problem)) => {
                record.notes.push(Loss::because(problem, "how the programs were built is unknown"));
                (listed.v1, BTreeMap::new(), old)
            }
            (Err(problem), Ok(builds)) => {
                record.notes.push(Loss::because(problem, "the other record is read instead"));
                (
                    builds.installs.iter().map(|(key, build)| (key.clone(), build.bins.clone())).collect(),
                    builds.installs,
                    new,
                )
            }
            (Err(problem), Err(other)) => {
                record.notes.extend([Loss::because(problem, "what cargo installed is unknown"), Loss::note(other)]);
                return record;
            }
        };
        let mut names: HashSet<ByteString> = HashSet::new();
        for (key, programs) in keys {
            let Some((name, version, source)) = parts(&key) else {
                record.notes.push(Loss::damaged(
                    file.clone(),
                    "not a package name",
                    format!("{}; skipped", ByteString::from(key.as_str())),
                ));
                continue;
            };
            let build = builds.remove(&key).unwrap_or_default();
            let mut item = package(host, at, &file, &key, (name, version, source), build, programs);
            if !names.insert(item.name.clone()) {
                // The same package from two sources.
                item.tail = Some(path::join(&item.name, version.as_bytes()));
            }
            let of_it = |verb: &str| self.command(verb).operand(name);
            // Cargo refuses to remove a package whose programs are gone.
            if item.missing.is_empty() {
                item = item.remedy(RemedyKind::Remove, of_it("uninstall"));
            } else if source.starts_with("registry+") {
                let line = of_it("install --force").words("--version").operand(version);
                item.remedies.push(Remedy::new(RemedyKind::Repair, line).online());
            }
            // By its name alone Cargo would take the program from the public registry instead.
            if source.starts_with("registry+") {
                item = item.remedy(RemedyKind::Upgrade, of_it("install"));
            }
            record.items.push(item);
        }
        let listed: HashSet<&ByteString> = record.items.iter().flat_map(|item| &item.commands).collect();
        let unlisted = builds.iter().filter_map(|(key, build)| self.unlisted(host, at, &listed, key, build));
        let contradictions = unlisted.collect();
        drop(listed);
        record.contradictions = contradictions;
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"bin")]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"bin")]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_tells_name_version_and_source() {
        for (key, expected, kind) in [
            ("shoal 0.3.1 (path+file:///home/maren/src/shoal)", Some(("shoal", "0.3.1")), "directory"),
            ("shoal 0.3.1 (git+https://quay.example/shoal?branch=x#1f2e)", Some(("shoal", "0.3.1")), "version-control"),
            ("a-b 1.0.0-rc.1 (registry+https://quay.example/index)", Some(("a-b", "1.0.0-rc.1")), "index"),
            ("shoal 0.3.1", None, ""),
            ("shoal", None, ""),
        ] {
            let read = parts(key);
            assert_eq!(read.map(|(name, version, _)| (name, version)), expected, "{key}");
            assert_eq!(read.map_or(String::new(), |(.., source)| origin(source).kind), kind, "{key}");
        }
    }
}
