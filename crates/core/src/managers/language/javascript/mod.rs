//! Global packages of npm, pnpm, yarn and bun.
//!
//! | manager | packages | commands |
//! |---|---|---|
//! | npm | `PREFIX/lib/node_modules/[@SCOPE/]NAME/package.json` | links in `PREFIX/bin` |
//! | pnpm | `PNPM_HOME/global/N/package.json` and `node_modules` | small shell scripts in `PNPM_HOME` |
//! | yarn 1 | `~/.config/yarn/global/package.json` and `node_modules` (root: `/usr/local/share/.config/yarn/global`) | links in `~/.yarn/bin`, `~/.local/bin` or `/usr/local/bin` |
//! | bun | `~/.bun/install/global/package.json` and `node_modules` | links in `~/.bun/bin` |
//!
//! npm's prefix is that of the node it runs on (`/usr`, `/usr/local`, each kept version), or what
//! `NPM_CONFIG_PREFIX`, `~/.npmrc` or `PREFIX/etc/npmrc` says; several can have packages at once.
//!
//! Traps: nothing in a global prefix tells an index from a local archive; a package that is a link was
//! linked from a checkout and is not npm's; `/usr/lib/node_modules` can be filled by the distribution;
//! directories that begin with `.` are remains of an interrupted installation.

mod bun;
mod npm;
mod pnpm;
mod registries;
mod tree;
mod yarn;

use std::collections::BTreeMap;

use bstr::ByteSlice as _;
use serde::Deserialize;

use crate::backend::Inner;
use crate::backend::dependency_graph::{Need, Node};
use crate::backend::simple::{InstalledPackage, Record};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Evidence, Loss, ManagerId, Origin, Reason, Relation, Status};

pub use bun::Bun;
pub use npm::Npm;
pub use pnpm::Pnpm;
pub use yarn::Yarn;

pub(super) const NPM: ManagerId = ManagerId("npm");
pub(super) const PNPM: ManagerId = ManagerId("pnpm");
pub(super) const YARN: ManagerId = ManagerId("yarn");

/// `package.json`, as far as it is used.
#[derive(Deserialize)]
pub(super) struct PackageFile {
    pub(super) version: Option<String>,
    #[serde(default)]
    pub(super) dependencies: BTreeMap<String, String>,
}

pub(super) fn package_file(host: &Host, file: &[u8]) -> Result<PackageFile, String> {
    let content = host.root.read(file, Limit::SMALL).map_err(|error| error.to_string())?;
    serde_json::from_slice(&content).map_err(|error| format!("{}: {error}", ByteString::from(file)))
}

/// The packages in a directory of modules: `NAME` and `@SCOPE/NAME`, and whether each is a link.
pub(super) fn packages_in(host: &Host, modules: &ByteString) -> Vec<(ByteString, Kind)> {
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
pub(super) fn package(
    host: &Host,
    modules: &ByteString,
    name: &ByteString,
    record: &mut Record,
) -> (InstalledPackage, PackageFile) {
    let dir = path::join(modules, name);
    let file = path::join(&dir, b"package.json");
    let mut item = InstalledPackage::new("package", name.clone());
    item.purl = Some("npm");
    item.installed_at = host.root.modified(&dir);
    let read = package_file(host, &file).unwrap_or_else(|problem| {
        item.status = Status::Broken;
        record.notes.push(Loss::because(problem, format!("the version of {name} is unknown")));
        PackageFile { version: None, dependencies: BTreeMap::new() }
    });
    item.version = read.version.clone().map(ByteString::from);
    let version = item.version.as_ref().map_or_else(|| "no version".to_owned(), ToString::to_string);
    item.evidence.push(Evidence::at(file, "version", version));
    (item, read)
}

/// The packages of a name that lie inside others. Each of these lies in its first tree, or where it is linked from.
pub(super) fn inner(host: &Host, items: &[InstalledPackage], name: &[u8]) -> Vec<Inner> {
    let place = |item: &InstalledPackage| item.trees.first().or(item.places.first().map(|(path, _)| path)).cloned();
    let starts =
        (0..).zip(items).filter_map(|(number, item)| Some((number, host.root.canonicalize_dir(&place(item)?))));
    tree::Tree::new(&host.root).inner(&starts.collect::<Vec<_>>(), name)
}

/// What each of the packages of one directory of modules needs of the others in it.
fn needs_beside(host: &Host, items: &[InstalledPackage]) -> Vec<Node> {
    let mut tree = tree::Tree::new(&host.root);
    let mut needs = |item: &InstalledPackage| -> Vec<Need> {
        let Some(dir) = item.trees.first() else { return Vec::new() };
        let modules = ByteString::from(dir.strip_suffix(&*item.name).unwrap_or_default().trim_end_with(|c| c == '/'));
        let names = tree.needs_beside(dir, &modules);
        names.iter().map(|name| Need::of(name.as_bytes(), Relation::Requires)).collect()
    };
    let numbered = (0..).zip(items);
    numbered
        .map(|(number, item)| Node { number, offers: vec![(item.name.to_vec(), None)], needs: needs(item) })
        .collect()
}

/// What a `package.json` asks for; where it cannot be read, that is noted.
pub(super) fn asked_for(host: &Host, file: &ByteString, record: &mut Record) -> BTreeMap<String, String> {
    package_file(host, file).map(|read| read.dependencies).unwrap_or_else(|problem| {
        record.notes.push(Loss::because(problem, "what was asked for is not known"));
        BTreeMap::new()
    })
}

/// Notes whether a package was asked for, by the file that says what was; where nothing is known of that, it may have
/// been.
pub(super) fn note_request(item: &mut InstalledPackage, asked: &BTreeMap<String, String>, file: &ByteString) {
    match std::str::from_utf8(&item.name).ok().and_then(|name| asked.get(name)) {
        Some(wanted) => {
            item.origin = origin(wanted);
            let says = ByteString::from(wanted.as_str()).to_string();
            item.evidence.push(Evidence::at(file.clone(), "dependencies", says));
        }
        None if asked.is_empty() => item.reason = Reason::Unknown,
        None => item.reason = Reason::Dependency,
    }
}

/// Adds the links of a manager's that lead into a package.
pub(super) fn add_links(
    item: &mut InstalledPackage,
    links: &[(ByteString, ByteString)],
    dir: &[u8],
    manager: ManagerId,
) {
    for (link, _) in links.iter().filter(|(_, target)| path::within(target, dir)) {
        let says = format!("{manager} links it into {}", ByteString::from(dir));
        item.bring(link.clone(), Evidence::at(link.clone(), "link", says));
    }
}

/// Where a package came from, by what was asked for: an address or a path says it, a version is an index's.
pub(super) fn origin(wanted: &str) -> Option<Origin> {
    let url = || Some(wanted.into());
    Some(match wanted.split_once(':') {
        Some(("file" | "link", _)) => Origin::local("file", "local", url()),
        Some((kind, _)) if kind.starts_with("git") => Origin::third_party("version-control", "git", url()),
        Some(_) => Origin::third_party("file", "direct", url()),
        None => Origin::third_party("index", "package index", None),
    })
}
