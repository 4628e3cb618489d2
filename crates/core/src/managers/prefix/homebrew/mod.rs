//! Homebrew, the prefix manager (Homebrew documentation, "Formula Cookbook", "Terminology").
//!
//! | below the prefix | what |
//! |---|---|
//! | `Cellar/NAME/VERSION/` | a keg: one version with its own `bin`, `lib`, `share` |
//! | `Cellar/NAME/VERSION/INSTALL_RECEIPT.json` | how and why it was installed, and from which tap |
//! | `opt/NAME` | link to the keg in use |
//! | `var/homebrew/linked/NAME`, `var/homebrew/pinned/NAME` | the keg whose files are linked; held back |
//! | `bin`, `sbin`, `lib`, `share` … | links into kegs |
//! | `Caskroom/TOKEN/VERSION/` | a cask; its app may lie elsewhere |
//!
//! What its repositories offer lies in the cache of a user (`offers.rs`).
//!
//! Prefixes: `/home/linuxbrew/.linuxbrew`, `/opt/homebrew`, `/usr/local` (shared with others: only links into
//! the Cellar or the Caskroom are Homebrew's), a directory in a home, `HOMEBREW_PREFIX`.
//!
//! Traps: several kegs of one formula are the rule after an upgrade, and the one in use need not be the
//! highest; `name@2` is a formula of its own; a keg without links can be keg-only or unlinked; receipts may
//! be missing or damaged, the keg counts all the same.

mod casks;
mod offers;
mod prefixes;
mod taps;

use serde::Deserialize;

use crate::backend::advice::actor_for;
use crate::backend::simple::CatalogueQuery;
use crate::backend::simple::{
    InstalledPackage, Record, SimpleBackend, SimpleCatalogue, SimpleInstallation, dirs_in, is_dir, link_target,
    scope_of,
};
use crate::backend::{CachePlace, Installation, Manager, Unsearched, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{
    Actor, Affix, CommandLine, Evidence, Location, Loss, ManagerId, ManagerKind, Offer, Origin, Profile, Reason,
    RemedyKind, Scope, Search, Source,
};
use crate::version::Scheme;
use crate::version::upstream::Notation;

const ID: ManagerId = ManagerId("homebrew");

const SYSTEM: [&str; 3] = ["/home/linuxbrew/.linuxbrew", "/opt/homebrew", "/usr/local"];
const PERSONAL: [&str; 3] = [".linuxbrew", "homebrew", ".homebrew"];

/// The manager.
#[derive(Debug)]
pub struct Homebrew;

struct Prefix(ByteString);

impl Manager for Homebrew {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile { notation: Notation::NumberedBuild, ..Profile::of(ManagerKind::Prefix).affix(Affix::Tap) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("brew", &["upgrade"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("downloads of Homebrew", "~/.cache/Homebrew")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let of_users = host.users.iter().flat_map(|user| {
            let own = PERSONAL.iter().map(|name| path::join(&user.home, name.as_bytes()));
            let named = host.variable(user, "HOMEBREW_PREFIX").cloned().into_iter().chain(own);
            named.chain(prefixes::of_user(host, user))
        });
        let named = prefixes::of_machine(host).into_iter().chain(of_users).map(|place| {
            let scope = scope_of(host, &place);
            (place, scope)
        });
        let found = SYSTEM.iter().map(|place| (ByteString::from(*place), Scope::System)).chain(named);
        let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
        let mut seen: Vec<ByteString> = Vec::new();
        for (place, scope) in found {
            let prefix = host.root.canonicalize_dir(&place);
            let is_one = [&b"Cellar"[..], b"Caskroom"].iter().any(|name| is_dir(host, &path::join(&prefix, name)));
            if is_one && !seen.contains(&prefix) {
                seen.push(prefix.clone());
                held.push(SimpleInstallation::boxed(host, ID, scope, prefix.clone(), Prefix(prefix)));
            }
        }
        held
    }
}

#[derive(Deserialize, Default)]
struct Receipt {
    #[serde(default)]
    runtime_dependencies: Vec<RuntimeDependency>,
    installed_on_request: Option<bool>,
    installed_as_dependency: Option<bool>,
    poured_from_bottle: Option<bool>,
    time: Option<f64>,
    arch: Option<String>,
    source: Option<ReceiptSource>,
}

#[derive(Deserialize)]
struct RuntimeDependency {
    #[serde(default)]
    full_name: String,
}

#[derive(Deserialize)]
struct ReceiptSource {
    tap: Option<String>,
    path: Option<String>,
    spec: Option<String>,
}

impl Receipt {
    fn reason(&self) -> Reason {
        match (self.installed_on_request, self.installed_as_dependency) {
            (Some(true), _) => Reason::Explicit,
            (_, Some(true)) => Reason::Dependency,
            _ => Reason::Unknown,
        }
    }

    fn origin(&self) -> Option<Origin> {
        let source = self.source.as_ref()?;
        let path = source.path.as_deref().map(ByteString::from);
        Some(match &source.tap {
            Some(tap) => Origin::third_party("repository", tap.as_str(), None),
            None => Origin::local("file", "a formula given by its path", path),
        })
    }
}

/// Directories below the prefix in which links into kegs lie.
const LINKED: [&str; 9] = ["bin", "sbin", "lib", "share", "include", "etc", "opt", "Frameworks", "libexec"];

impl Prefix {
    fn kegs(host: &Host, at: &Location, record: &mut Record) {
        let prefix = &at.dir;
        let cellar = path::join(prefix, b"Cellar");
        for (name, kind) in dirs_in(host, &cellar, true) {
            // An old name can be a link to the new one's directory.
            if kind == Kind::Link {
                continue;
            }
            let below = |dir: &str| link_target(host, &path::join(&path::join(prefix, dir.as_bytes()), &name));
            let (in_use, linked) = (below("opt"), below("var/homebrew/linked"));
            let pinned = below("var/homebrew/pinned");
            let rack = path::join(&cellar, &name);
            for (version, _) in dirs_in(host, &rack, false) {
                let keg = path::join(&rack, &version);
                let is = |link: &Option<ByteString>| link.as_ref() == Some(&keg);
                let mut item = InstalledPackage::kept("formula", name.clone(), version.clone());
                item.purl = Some("brew");
                let file = path::join(&keg, b"INSTALL_RECEIPT.json");
                let receipt = match host.root.read(&file, Limit::LIST) {
                    Ok(content) => serde_json::from_slice(&content).unwrap_or_else(|error| {
                        record.notes.push(Loss::damaged(
                            file.clone(),
                            error,
                            format!("origin and reason of {name} {version} are unknown"),
                        ));
                        Receipt::default()
                    }),
                    Err(error) => {
                        record
                            .notes
                            .push(Loss::unread(&error, format!("origin and reason of {name} {version} are unknown")));
                        Receipt::default()
                    }
                };
                item.reason = receipt.reason();
                item.origin = receipt.origin();
                for needed in &receipt.runtime_dependencies {
                    // `TAP/NAME`: the directory is called by the name alone.
                    item.need(needed.full_name.rsplit('/').next().unwrap_or_default().as_bytes());
                }
                item.channel = receipt.source.as_ref().and_then(|source| source.spec.as_deref()).map(ByteString::from);
                item.arch = receipt.arch.as_deref().map(ByteString::from);
                #[expect(clippy::cast_possible_truncation, reason = "seconds since 1970")]
                let noted = receipt.time.map(|time| time as i64);
                item.installed_at = noted.or_else(|| host.root.modified(&keg));
                item.held = is(&pinned);
                item.active = is(&in_use) || is(&linked);
                item.trees.push(keg.clone());
                item.evidence.push(Evidence::at(keg.clone(), "keg", format!("{name} {version}")));
                if let Some(on_request) = receipt.installed_on_request {
                    item.evidence.push(Evidence::at(file.clone(), "installed_on_request", on_request.to_string()));
                }
                if receipt.poured_from_bottle == Some(false) {
                    item.evidence.push(Evidence::at(
                        file.clone(),
                        "poured_from_bottle",
                        "false: compiled on this machine",
                    ));
                }
                if is(&in_use) && !is(&linked) {
                    let says = "in use, but not linked: keg-only, or unlinked by hand";
                    item.evidence.push(Evidence::at(path::join(prefix, b"var/homebrew/linked"), "lookup", says));
                }
                item.commands = Self::commands(host, prefix, &keg);
                record.items.push(Self::with_remedies(prefix, item, "", &name));
            }
        }
    }

    /// The brew of this prefix: another one acts on another prefix.
    fn brew(prefix: &ByteString) -> CommandLine {
        CommandLine::program(path::join(prefix, b"bin/brew"))
    }

    fn with_remedies(prefix: &ByteString, item: InstalledPackage, option: &str, name: &ByteString) -> InstalledPackage {
        let of_it = |verb: &str| Self::brew(prefix).words(verb).words(option).operand(name.clone());
        item.remedy(RemedyKind::Remove, of_it("uninstall")).remedy(RemedyKind::Upgrade, of_it("upgrade"))
    }

    fn commands(host: &Host, prefix: &ByteString, keg: &ByteString) -> Vec<ByteString> {
        let dirs = ["bin", "sbin"].map(|name| path::join(prefix, name.as_bytes()));
        let links = dirs.iter().flat_map(|dir| crate::backend::simple::links_into(host, dir, keg));
        links.map(|(link, _)| link).collect()
    }

    fn itself(host: &Host, at: &Location, record: &mut Record) {
        let program = path::join(&at.dir, b"bin/brew");
        if host.root.target(&program).is_err() {
            return;
        }
        let mut item = InstalledPackage::new("program", "brew");
        let evidence = Evidence::at(program.clone(), "file", "Homebrew itself");
        item.evidence.push(evidence.clone());
        item.places.push((program.clone(), evidence));
        item.commands.push(program);
        item.trees = [&b"Homebrew"[..], b"Library"].iter().map(|name| path::join(&at.dir, name)).collect();
        let line = Self::brew(&at.dir).words("update");
        record.items.push(item.remedy(RemedyKind::Upgrade, line));
    }
}

impl SimpleBackend for Prefix {
    fn reads_needs(&self) -> bool {
        true
    }

    /// brew refuses to run as root; it runs as the user whom the prefix belongs to.
    fn actor(&self, host: &Host, at: &Location) -> Actor {
        match actor_for(host, &path::join(&at.dir, b"bin")) {
            Actor::Root => Actor::Anyone,
            actor => actor,
        }
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        Self::kegs(host, at, &mut record);
        casks::read(host, at, &mut record);
        Self::itself(host, at, &mut record);
        record
    }

    fn domain(&self, host: &Host, at: &Location) -> Vec<ByteString> {
        let below = ["Cellar", "Caskroom", "Homebrew", "Library"].iter().chain(&LINKED);
        let mut domain: Vec<ByteString> = below.map(|name| path::join(&at.dir, name.as_bytes())).collect();
        if host.is_macos() {
            domain.push("/Applications".into());
            let own = host.users.iter().map(|user| path::join(&user.home, b"Applications"));
            domain.extend(own.map(|dir| host.root.canonicalize_dir(&dir)));
        }
        domain
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn linked(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ByteString> {
        let target = link_target(host, canonical)?;
        let own = [&b"Cellar"[..], b"Caskroom"].map(|name| path::join(&at.dir, name));
        own.iter().any(|dir| path::within(&target, dir)).then_some(target)
    }

    fn collects(&self, at: &Location, target: &[u8]) -> Option<&'static str> {
        let below = target.strip_prefix(&*path::join(&at.dir, b"Cellar/"))?;
        (below.split(|b| *b == b'/').count() > 2)
            .then_some("when a newer version is installed and old ones are cleaned up")
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        ["bin", "sbin"].iter().map(|name| path::join(&at.dir, name.as_bytes())).collect()
    }

    fn catalogue(&self) -> Option<&dyn SimpleCatalogue> {
        Some(self)
    }
}

impl SimpleCatalogue for Prefix {
    fn offers(&self, host: &Host, asked: &CatalogueQuery<'_>, notes: &mut Vec<Loss>) -> Vec<Offer> {
        offers::offers(host, asked.at, asked.items, asked.query, notes)
    }

    fn is_fetched(&self, host: &Host, _: &Location) -> bool {
        offers::is_fetched(host)
    }

    fn sources(&self, host: &Host, at: &Location, _: &mut Vec<Loss>) -> Vec<Source> {
        taps::configured(host, at)
    }

    fn unsearched(&self, host: &Host, _: &Location, _: &Search) -> Vec<Unsearched> {
        match offers::is_fetched(host) {
            true => Vec::new(),
            false => {
                vec![Unsearched::new("formulae and casks: no list was fetched", Some(CommandLine::new("brew update")))]
            }
        }
    }

    fn take(&self, offer: &Offer) -> Option<CommandLine> {
        // Only the newest can be had.
        offer.candidate.then(|| Self::brew(&self.0).words("install").operand(offer.name.clone()))
    }
}
