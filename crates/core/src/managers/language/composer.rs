//! Composer: PHP's packages in its global directory ("composer global", Composer documentation).
//!
//! `~/.config/composer` or `~/.composer` (`COMPOSER_HOME`) is a project of its own: `composer.json` says what was
//! asked for, `vendor/composer/installed.json` what is there, and `vendor/bin` has a program, or a link, for each
//! command.
//!
//! Traps: older releases wrote `installed.json` as a bare list; a package from a path is a link into a checkout.

use std::collections::BTreeMap;

use serde::Deserialize;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, is_dir, of_each_user, parsed};
use crate::backend::{CachePlace, Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Affix, Naming};
use crate::model::{
    CommandLine, Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile, Reason, RemedyKind,
};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("composer");

/// The manager.
#[derive(Debug)]
pub struct Composer;

struct Global;

impl Manager for Composer {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        let naming = Naming { affix: Affix::Scope, registry: None, has_language_prefix: false };
        Profile { naming, ..Profile::of(ManagerKind::Language) }
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::cleared_by("packages that Composer downloaded", "~/.cache/composer", "composer clear-cache")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let places = [("COMPOSER_HOME", ".config/composer"), ("", ".config/composer"), ("", ".composer")];
            let mut homes = places.into_iter().map(|(variable, below_home)| host.user_dir(user, variable, below_home));
            let home = homes.find(|home| is_dir(host, &path::join(home, b"vendor/composer")))?;
            Some((home, Global))
        })
    }
}

/// `installed.json`.
#[derive(Deserialize)]
#[serde(untagged)]
enum Installed {
    Named { packages: Vec<Package> },
    List(Vec<Package>),
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Package {
    name: String,
    version: Option<String>,
    install_path: Option<String>,
    #[serde(default)]
    bin: Vec<String>,
    #[serde(default)]
    require: BTreeMap<String, String>,
    dist: Option<From>,
    source: Option<From>,
}

#[derive(Deserialize)]
struct From {
    #[serde(rename = "type")]
    kind: Option<String>,
    url: Option<String>,
    reference: Option<String>,
}

/// `composer.json`, as far as it is used.
#[derive(Deserialize, Default)]
struct Project {
    #[serde(default)]
    require: BTreeMap<String, String>,
}

/// The directory of a package: where its record says, as seen from the record, else below `vendor`.
fn tree_of(home: &ByteString, package: &Package) -> ByteString {
    let vendor = path::join(home, b"vendor");
    match &package.install_path {
        Some(below) => path::without_dots(below.as_bytes(), &path::join(&vendor, b"composer")),
        None => path::without_dots(package.name.as_bytes(), &vendor),
    }
}

impl Global {
    fn item(host: &Host, at: &Location, file: &ByteString, package: &Package) -> InstalledPackage {
        let mut item = InstalledPackage::new("package", package.name.as_str());
        item.version = package.version.as_deref().map(|text| text.strip_prefix('v').unwrap_or(text).into());
        item.purl = Some("composer");
        item.evidence.push(Evidence::at(file.clone(), "packages", item.with_version()));
        let from = package.dist.as_ref().or(package.source.as_ref());
        let is_local = from.is_some_and(|from| from.kind.as_deref() == Some("path"));
        item.revision = from.and_then(|from| from.reference.as_deref()).filter(|_| !is_local).map(ByteString::from);
        item.origin = from.map(|from| match is_local {
            true => Origin::local("directory", "local", from.url.as_deref().map(ByteString::from)),
            false => Origin::third_party("index", "package index", None),
        });
        let tree = tree_of(&at.dir, package);
        item.installed_at = host.root.modified(&tree);
        let bin = path::join(&at.dir, b"vendor/bin");
        for program in &package.bin {
            let command = path::join(&bin, path::name(program.as_bytes()));
            if host.root.entry(&command).is_ok() {
                let says = format!("{} brings {}", item.name, ByteString::from(program.as_str()));
                item.bring(command, Evidence::at(file.clone(), "bin", says));
            }
        }
        item.trees.push(tree);
        // What begins without a vendor is PHP itself or an extension of it.
        for needed in package.require.keys().filter(|name| name.contains('/')) {
            item.need(needed.as_bytes());
        }
        item
    }
}

impl SimpleBackend for Global {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let file = path::join(&at.dir, b"vendor/composer/installed.json");
        let packages = match parsed(host, &file, Limit::LIST, |content| serde_json::from_slice(content)) {
            Ok(Installed::Named { packages } | Installed::List(packages)) => packages,
            Err(problem) => {
                record.notes.push(Loss::because(problem, "what Composer installed is not known"));
                return record;
            }
        };
        let wanted = path::join(&at.dir, b"composer.json");
        let asked = match parsed(host, &wanted, Limit::SMALL, |content| serde_json::from_slice(content)) {
            Ok(Project { require }) => Some(require),
            Err(problem) => {
                record.notes.push(Loss::because(problem, "what was asked for is not known"));
                None
            }
        };
        for package in &packages {
            let mut item = Global::item(host, at, &file, package);
            match &asked {
                None => item.reason = Reason::Unknown,
                Some(asked) => match asked.get(&package.name) {
                    None => item.reason = Reason::Dependency,
                    Some(range) => {
                        let says = format!("{} {}", item.name, ByteString::from(range.as_str()));
                        item.evidence.push(Evidence::at(wanted.clone(), "require", says));
                        let home = [b"COMPOSER_HOME=", &*at.dir].concat();
                        let composer = CommandLine::new("env").arg(home).words("composer global");
                        let of_it = |verb: &str| composer.clone().words(verb).operand(package.name.as_str());
                        item = item.remedy(RemedyKind::Remove, of_it("remove --no-interaction"));
                        item = item.remedy(RemedyKind::Upgrade, of_it("update --no-interaction"));
                    }
                },
            }
            record.items.push(item);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"vendor/bin")]
    }
}
