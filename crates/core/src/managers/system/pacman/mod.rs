//! pacman: Arch Linux and its family.
//!
//! Follows `pacman(8)`, `pacman.conf(5)`, `alpm-repo-desc(5)`, `mtree(5)`, and the layout of `/var/lib/pacman` as
//! pacman 6 writes it (schema 9).
//!
//! | what | where | read by |
//! |---|---|---|
//! | packages, asked for or not | `local/NAME-VERSION/desc` | `local.rs` |
//! | files, and digests of packaged settings | `local/NAME-VERSION/files` | `local.rs` |
//! | sort, size, digest … of all files | `local/NAME-VERSION/mtree` | `recorded.rs` |
//! | what repositories offer | `sync/REPOSITORY.db` | `sync.rs` |
//! | which repositories count, what is ignored | `/etc/pacman.conf` | `settings.rs` |
//!
//! Traps: no record says from which repository a package came: it is the first that has the name; databases of
//! repositories that were taken out of the settings stay behind; paths have no `/` in front, directories one at the
//! end.

mod closure;
mod dependents;
mod file_records;
mod local;
mod log;
mod settings;
mod sync;

use crate::backend::components::Components;
use crate::backend::dependency_graph::Node;
use crate::backend::keys::KeyRing;
use crate::backend::simple::CatalogueQuery;
use crate::fs::Limit;
use std::cmp::Ordering;
use whodunit_formats::openpgp;

use hashbrown::{HashMap, HashSet};

use crate::backend::simple::{
    FileLists, InstalledPackage, Record, SimpleBackend, SimpleCatalogue, SimpleInstallation, is_dir,
};
use crate::backend::{CachePlace, Installation, Manager, Rehearsal, Removal, Unattended, Unsearched, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::Event;
use crate::model::{
    Affix, CommandLine, Described, Digest, Evidence, FileRecord, Location, Loss, ManagerId, ManagerKind, NameFilter,
    Offer, OfferQuery, Origin, Profile, PullsIn, Remedy, RemedyKind, Scope, Search, SearchScope, Signing, Source,
};
use crate::version::Scheme;
use crate::version::pacman;
use crate::version::upstream::Notation;
use settings::Settings;

/// Where pacman keeps the files of packages that it installed, unless its settings say otherwise.
const CACHE: &str = "/var/cache/pacman/pkg";

/// Of what pacman prints, the names: what it says besides has blanks in it.
const NAMES: &str = "sed '/ /d'";

const ID: ManagerId = ManagerId("pacman");

/// The manager.
#[derive(Debug)]
pub struct Pacman;

/// The database in one place.
struct Database {
    settings: Settings,
    notes: Vec<Loss>,
}

impl Manager for Pacman {
    fn id(&self) -> ManagerId {
        ID
    }

    fn unattended(&self) -> &'static [Unattended] {
        &[("pacman", "pacman --noconfirm")]
    }

    fn profile(&self) -> Profile {
        let notation = Notation::EpochRevision;
        Profile { has_full_catalogues: true, notation, ..Profile::of(ManagerKind::System).affix(Affix::Build) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("pacman", &["-Syu", "-Syyu", "-Su"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::cleared_by("packages that pacman downloaded", CACHE, "pacman -Scc")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut notes = Vec::new();
        let settings = Settings::read(&host.root, &mut notes);
        let dir = host.root.canonicalize_dir(&settings.database);
        // Other families have the program, too, without a single package in its care.
        if !is_dir(host, &path::join(&dir, b"local")) {
            return Vec::new();
        }
        vec![SimpleInstallation::boxed(host, ID, Scope::System, dir, Database { settings, notes })]
    }
}

impl SimpleBackend for Database {
    fn is_of_distribution(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = local::read(&host.root, &at.dir);
        record.notes.extend(self.notes.iter().cloned());
        for item in &mut record.items {
            item.held = self.settings.ignores(&item.name, &item.groups);
            item.remedies = vec![
                Remedy::new(RemedyKind::Remove, CommandLine::new("pacman -R").operand(item.name.clone())),
                Remedy::new(RemedyKind::Upgrade, CommandLine::new("pacman -Syu")),
            ];
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Pacman
    }

    fn nodes(&self, host: &Host, items: &[InstalledPackage]) -> Option<Vec<Node>> {
        Some(dependents::nodes(&host.root, items))
    }

    fn order_of_needs(&self, version: &[u8], needed: &[u8]) -> Ordering {
        dependents::order(version, needed)
    }

    /// As `pacman --database --check` does.
    fn demands_needs(&self) -> bool {
        true
    }

    fn remove_unneeded(&self, items: &[&InstalledPackage]) -> Option<Remedy> {
        let line = items.iter().fold(CommandLine::new("pacman -R"), |line, item| line.operand(item.name.clone()));
        Some(Remedy::new(RemedyKind::Remove, line).to("remove all that nothing needs"))
    }

    fn query(&self, name: &[u8], version: Option<&[u8]>) -> Option<Rehearsal> {
        let line = CommandLine::new("pacman -Q").operand(name);
        // `lamp 1.0-1`
        let says = |version| format!("{} {}", ByteString::from(name), ByteString::from(version));
        Some(match version {
            Some(version) => Rehearsal::prints(line, None, vec![says(version)]),
            None => Rehearsal::succeeds(line),
        })
    }

    /// From the package files that pacman keeps of what it installed.
    fn go_to_version(&self, host: &Host, item: &InstalledPackage, version: &[u8]) -> Option<Removal> {
        let names = host.root.dir(CACHE.as_bytes()).and_then(|dir| dir.list()).ok()?;
        let start = [&item.name, &b"-"[..], version, b"-"].concat();
        let is_it = |name: &ByteString| {
            name.strip_prefix(&*start).is_some_and(|rest| {
                memchr::memmem::find(rest, b".pkg.tar").is_some_and(|end| !rest[..end].contains(&b'-'))
                    && !rest.ends_with(b".sig")
            })
        };
        let file = names.into_iter().map(|(name, _)| name).find(is_it)?;
        let of = |line: &str| CommandLine::new(line).arg(path::join(CACHE.as_bytes(), &file));
        Some(Removal {
            remedy: Remedy::new(RemedyKind::Choose, of("pacman -U")),
            rehearsal: Rehearsal::prints(
                of("pacman -U --print --print-format %n"),
                Some(NAMES),
                vec![item.name.to_string()],
            ),
        })
    }

    fn removal(&self, items: &[&InstalledPackage]) -> Option<Removal> {
        let named =
            |line: &str| items.iter().fold(CommandLine::new(line), |line, item| line.operand(item.name.clone()));
        let prints = items.iter().map(|item| item.name.to_string()).collect();
        Some(Removal {
            remedy: Remedy::new(RemedyKind::Remove, named("pacman -R")),
            rehearsal: Rehearsal::prints(named("pacman -R --print --print-format %n"), Some(NAMES), prints),
        })
    }

    fn need_evidence(&self, _: &Location, item: &InstalledPackage, says: &str) -> Evidence {
        dependents::evidence(item, says)
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }

    fn origins(
        &self,
        host: &Host,
        at: &Location,
        items: &[InstalledPackage],
        notes: &mut Vec<Loss>,
    ) -> Option<Vec<Option<Origin>>> {
        // Without any catalogue nothing is known; with one, what none of them has came from elsewhere.
        let catalogues = sync::read(&host.root, &at.dir, &self.settings, notes);
        if catalogues.is_empty() {
            return None;
        }
        let firsts = sync::firsts(&catalogues);
        let of = |item: &InstalledPackage| Some(self.settings.origin(firsts.get(&item.name)?));
        Some(items.iter().map(of).collect())
    }

    fn catalogue(&self) -> Option<&dyn SimpleCatalogue> {
        Some(self)
    }

    fn events(&self, host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Event> {
        log::events(host, at, notes)
    }
}

impl SimpleCatalogue for Database {
    fn offers(&self, host: &Host, asked: &CatalogueQuery<'_>, notes: &mut Vec<Loss>) -> Vec<Offer> {
        let mut offers = Vec::new();
        let dir = &asked.at.dir;
        let catalogues = sync::read(&host.root, dir, &self.settings, notes);
        let firsts = sync::firsts(&catalogues);
        let commands = match asked.query {
            OfferQuery::Search(search) if search.scope() != SearchScope::Names => {
                sync::commands(&host.root, dir, &self.settings, search, notes)
            }
            _ => HashMap::new(),
        };
        let apps = match catalogues.is_empty() {
            true => Components::default(),
            false => Components::read(&host.root, &[], asked.query),
        };
        notes.extend(apps.notes.iter().cloned());
        for catalogue in &catalogues {
            let asked_for = |one: &&sync::Offered| {
                !asked.installed(&one.name).is_empty()
                    || apps.wants(
                        asked.query,
                        &Described {
                            name: &one.name,
                            summary: one.says.as_deref(),
                            commands: commands.get(&one.name).map_or(&[], |commands| commands),
                            ..Described::default()
                        },
                    )
            };
            offers.extend(catalogue.offers.iter().filter(asked_for).map(|one| Offer {
                source: Some(self.settings.origin(&catalogue.repository)),
                publisher: one.packager.clone(),
                says: one.says.clone(),
                homepage: one.homepage.clone(),
                license: one.license.clone(),
                provides: commands.get(&one.name).cloned().unwrap_or_default(),
                signed: self.settings.is_checked(&catalogue.repository),
                download_size: one.download_size,
                size: one.size,
                catalogued_at: Some(catalogue.dated),
                evidence: vec![Evidence::at(
                    catalogue.file.clone(),
                    format!("{}-{}/desc", one.name, one.version),
                    format!("version {}", one.version),
                )],
                ..asked.offer(one.name.clone(), one.version.clone(), one.arch.clone())
            }));
        }
        offers.iter_mut().for_each(|offer| apps.describe(offer));
        asked.add_installed(&mut offers);
        mark(&mut offers, &firsts, asked);
        offers.sort_by(|a, b| a.name.cmp(&b.name));
        offers
    }

    fn pulls_in(&self, host: &Host, at: &Location, items: &[InstalledPackage], offer: &Offer) -> Option<PullsIn> {
        closure::of(&host.root, &at.dir, &self.settings, items, offer)
    }

    fn is_fetched(&self, host: &Host, at: &Location) -> bool {
        self.settings.repositories.iter().any(|one| host.root.target(&one.file(&at.dir, ".db")).is_ok())
    }

    fn sources(&self, host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Source> {
        // Whose key signed a database is in the database's own signature, which is seldom there.
        let ring = KeyRing::read(&host.root, &["/etc/pacman.d/gnupg/pubring.gpg".into()], notes);
        let of_one = |one: &settings::Repository| {
            let origin = self.settings.origin(&one.name);
            let file = one.file(&at.dir, ".db");
            let signature = host.root.read(&[&*file, b".sig"].concat(), Limit::SMALL).unwrap_or_default();
            let (file_of, line) = &one.place;
            Source {
                trust: origin.trust,
                signed: Signing {
                    keys: ring.signing(&openpgp::issuers(&signature), false).keys,
                    ..Signing::set(self.settings.is_checked(&one.name))
                },
                refreshed_at: host.root.target(&file).ok().map(|meta| meta.modified),
                evidence: vec![Evidence::line(file_of.clone(), *line, format!("repository {}", one.name))],
                origins: vec![one.name.clone()],
                gives: one.url.iter().cloned().collect(),
                url: origin.url,
                ..Source::new(at.manager, Scope::System, one.name.clone(), "repository")
            }
        };
        self.settings.repositories.iter().map(of_one).collect()
    }

    fn unsearched(&self, host: &Host, at: &Location, search: &Search) -> Vec<Unsearched> {
        let is_there = |one: &settings::Repository| host.root.target(&one.file(&at.dir, ".db")).is_ok();
        let missing = self.settings.repositories.iter().filter(|one| !is_there(one));
        let fetch = |line: &'static str| Some(CommandLine::new(line));
        let mut found: Vec<Unsearched> = missing
            .filter_map(|one| Unsearched::not_fetched(std::slice::from_ref(&one.name), fetch("pacman -Sy")))
            .collect();
        let has_packages = found.len() < self.settings.repositories.len();
        if search.scope() != SearchScope::Names && has_packages && !sync::has_lists(&host.root, &at.dir, &self.settings)
        {
            let what = "commands of packages that are not installed: no list of files was fetched";
            found.push(Unsearched::new(what, fetch("pacman -Fy")));
        }
        found
    }

    fn take(&self, offer: &Offer) -> Option<CommandLine> {
        let repository = &offer.source.as_ref()?.name;
        Some(CommandLine::new("pacman -S").operand(path::join(repository, &offer.name)))
    }

    fn on_sources(&self) -> Vec<String> {
        self.settings.source_notes()
    }
}

/// Marks what an upgrade would take, or keep: of each name what the first repository has, where that is newer.
fn mark(offers: &mut [Offer], firsts: &HashMap<&ByteString, &ByteString>, asked: &CatalogueQuery<'_>) {
    for offer in offers.iter_mut() {
        let is_first = offer.source.as_ref().is_some_and(|source| firsts.get(&offer.name) == Some(&&source.name));
        let now = asked.installed(&offer.name).first().and_then(|item| item.version.as_ref());
        let is_newer = match (&offer.version, now) {
            (Some(version), Some(now)) => pacman::compare(version, now) == Ordering::Greater,
            _ => true,
        };
        offer.candidate = is_first && is_newer && !offer.held;
    }
    let upgraded: HashSet<ByteString> =
        offers.iter().filter(|offer| offer.candidate).map(|offer| offer.name.clone()).collect();
    for offer in offers.iter_mut() {
        offer.candidate |= offer.installed && !upgraded.contains(&offer.name);
    }
}

impl FileLists for Database {
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<Loss>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        local::each_file(&host.root, items, wanted, notes, take);
    }

    fn file(&self, item: &InstalledPackage) -> ByteString {
        path::join(&item.entry, b"files")
    }

    fn digest(&self, host: &Host, item: &InstalledPackage, path: &[u8]) -> Option<Digest> {
        local::digest(&host.root, &item.entry, path)
    }

    fn file_records(&self, host: &Host, items: &[(u32, &InstalledPackage)], notes: &mut Vec<Loss>) -> Vec<FileRecord> {
        file_records::files(&host.root, &self.settings, items, notes)
    }

    fn restore(&self, item: &InstalledPackage) -> Option<CommandLine> {
        Some(CommandLine::new("pacman -S").operand(item.name.clone()))
    }
}
