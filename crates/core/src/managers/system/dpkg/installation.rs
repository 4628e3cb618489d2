//! What a dpkg installation holds: its records put together into packages and claims.

use std::sync::OnceLock;

use hashbrown::HashMap;

use super::ADMIN;
use super::alternatives::{self, Group};
use super::apt::Apt;
use super::by_name::{Kept, ListsByName};
use super::diversions::Diversions;
use super::lists::{self, Keep, List};
use super::marks::Marks;
use super::pairing::{self, Paired};
use super::status::{self, Record, State, Want};
use crate::backend::listed::{self, Role};
use crate::backend::{Detail, Installation};
use crate::bytes::{ByteString, path};
use crate::fs::{Dir, Limit};
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, Losses, ManagerId, Origin, Package};

/// The packages of one dpkg installation, with their lists found but not read.
pub struct DpkgInstallation<'s> {
    pub(super) host: &'s Host,
    pub(super) location: Location,
    pub(super) records: Vec<Record>,
    pub(super) apt: OnceLock<Apt>,
    /// The repository of each list of apt's.
    pub(super) list_origins: OnceLock<Vec<Origin>>,
    /// What upgrades packages by itself.
    pub(super) unattended: OnceLock<Option<super::apt::Unattended>>,
    pub(super) lists: Vec<Option<List>>,
    pub(super) info: Option<Dir<'s>>,
    pub(super) digests: Option<Dir<'s>>,
    pub(super) by_name: ListsByName,
    pub(super) native: OnceLock<ByteString>,
    pub(super) diversions: OnceLock<Diversions>,
    pub(super) groups: OnceLock<Vec<Group>>,
    pub(super) unreadable: bool,
    /// Which installed packages a repository still has, at the installed version; read on first use.
    pub(super) fetchable: OnceLock<Option<HashMap<(ByteString, ByteString), crate::model::Origin>>>,
    pub(super) notes: Losses,
}

impl<'s> DpkgInstallation<'s> {
    /// Reads the packages, and finds which lists of files there are.
    pub fn read(host: &'s Host, location: Location) -> Self {
        let root = &host.root;
        let mut read = status::read(root);
        let mut notes = std::mem::take(&mut read.damage);
        let Paired { records, lists, info } = pairing::pair(root, read.records, &mut notes);
        let digests = root.dir(&path::join(ADMIN, b"status.d")).ok();
        DpkgInstallation {
            host,
            location,
            unreadable: read.unreadable && records.is_empty(),
            records,
            apt: OnceLock::new(),
            list_origins: OnceLock::new(),
            unattended: OnceLock::new(),
            lists,
            info,
            digests,
            by_name: ListsByName::default(),
            native: OnceLock::new(),
            diversions: OnceLock::new(),
            groups: OnceLock::new(),
            fetchable: OnceLock::new(),
            notes: notes.into_iter().collect(),
        }
    }

    pub(super) fn records(&self) -> &[Record] {
        &self.records
    }

    pub(super) fn manager(&self) -> ManagerId {
        self.location.manager
    }

    pub(super) fn note(&self, new: Vec<Loss>) {
        self.notes.add(new);
    }

    pub(super) fn noting<T>(&self, read: impl FnOnce(&mut Vec<Loss>) -> T) -> T {
        let mut notes = Vec::new();
        let value = read(&mut notes);
        self.note(notes);
        value
    }

    pub(super) fn diversions(&self) -> &Diversions {
        self.diversions.get_or_init(|| self.noting(|notes| Diversions::read(&self.host.root, notes)))
    }

    pub(super) fn groups(&self) -> &[Group] {
        self.groups.get_or_init(|| self.noting(|notes| alternatives::read(&self.host.root, notes)))
    }

    /// The machine's own architecture: the first line of `arch`, else the one that dpkg itself has.
    pub(super) fn native(&self) -> &ByteString {
        self.native.get_or_init(|| {
            let file = self.host.root.read(&path::join(ADMIN, b"arch"), Limit::SMALL).unwrap_or_default();
            let first = file.split(|&b| b == b'\n').next().unwrap_or_default();
            if !first.is_empty() {
                return first.into();
            }
            let of =
                |name: &[u8]| self.records.iter().find(|record| *record.name == *name).and_then(|r| r.arch.clone());
            of(b"dpkg").filter(|arch| **arch != *b"all").or_else(|| self.commonest_arch()).unwrap_or_default()
        })
    }

    pub(super) fn commonest_arch(&self) -> Option<ByteString> {
        let mut counts: HashMap<&ByteString, usize> = HashMap::new();
        for arch in self.records.iter().filter_map(|record| record.arch.as_ref()).filter(|arch| ***arch != *b"all") {
            *counts.entry(arch).or_default() += 1;
        }
        counts.into_iter().max_by_key(|&(arch, count)| (count, arch)).map(|(arch, _)| arch.clone())
    }

    pub(super) fn record(&self, package: u32) -> &Record {
        &self.records[package as usize]
    }

    pub(super) fn list(&self, package: u32) -> Option<&List> {
        self.lists[package as usize].as_ref()
    }

    pub(super) fn list_path(&self, package: u32) -> Option<ByteString> {
        Some(match self.lists[package as usize].as_ref()? {
            List::Info(name) => path::join(&path::join(ADMIN, b"info"), name),
            List::Digests(name) => path::join(&path::join(ADMIN, b"status.d"), name),
        })
    }

    /// The name under which a user finds it: with the architecture where that is not the machine's own.
    pub(super) fn full_name(&self, record: &Record) -> ByteString {
        match &record.arch {
            Some(arch) if **arch != *b"all" && arch != self.native() => [&record.name, &b":"[..], arch].concat().into(),
            _ => record.name.clone(),
        }
    }

    pub(super) fn id(&self, record: &Record) -> ByteString {
        let place = format!("{}/{}/", self.location.manager, self.location.scope);
        [place.as_bytes(), &self.full_name(record)].concat().into()
    }

    /// The diversion by which another package's file made room for this one.
    pub(super) fn stands_in(&self, name: &[u8], at: &[u8]) -> Option<Evidence> {
        let made_room = |diversion: &&super::diversions::Diversion| {
            diversion.by.as_deref() == Some(name)
                && path::name(&diversion.from) == path::name(at)
                && diversion.canonical == self.host.root.canonicalize(at)
        };
        let diversion = self.diversions().0.iter().find(made_room)?;
        let says = format!("replaces another package's file, which was moved to {}", diversion.to);
        Some(Evidence::line(path::join(ADMIN, b"diversions"), diversion.line, says))
    }

    pub(super) fn all_lists(&self) -> Vec<(u32, &List)> {
        (0..).zip(&self.lists).filter_map(|(number, list)| Some((number, list.as_ref()?))).collect()
    }

    /// All lists, where they have been asked for before.
    pub(super) fn kept_lists(&self) -> Option<&Kept> {
        self.by_name.get(|take| self.read_lists(Keep { test: &|_| true, few: false }, take))
    }

    pub(super) fn read_lists(&self, keep: Keep<'_>, take: &mut dyn FnMut(lists::Lines)) {
        let mut lost = Vec::new();
        lists::read_each(self.info.as_ref(), self.digests.as_ref(), &self.all_lists(), &keep, &mut |read| {
            // A list that is not there has been noted when the others were found.
            if let Some(error) = read.error.filter(|error| !error.is_missing()) {
                let name = &self.record(read.package).name;
                lost.push(match read.lines {
                    Some(_) => Loss::unread(&error, format!("links and settings of {name} are unknown")),
                    None => Loss::unread(&error, format!("the files of {name} are unknown")),
                });
            }
            if let Some(line) = read.lines.as_ref().and_then(|lines| lines.damaged) {
                lost.push(self.damaged_line(read.package, line));
            }
            read.lines.into_iter().for_each(&mut *take);
        });
        self.note(lost);
    }

    /// The loss for a line of a package's list that is not a path.
    pub(super) fn damaged_line(&self, number: u32, line: u32) -> Loss {
        let file = self.list_path(number).unwrap_or_default();
        Loss::damaged(
            file,
            format!("line {line} is damaged"),
            format!("a file of {} is unknown", self.record(number).name),
        )
    }

    /// Every package, in the order of their numbers.
    pub(super) fn every_package(&self, detail: Detail) -> Vec<Package> {
        let marks = self.marks();
        let count = u32::try_from(self.records.len()).unwrap_or(u32::MAX);
        let mut packages: Vec<Package> = (0..count).map(|number| self.package(number, &marks, detail)).collect();
        if detail.origins
            && let Some(origins) = self.origins()
        {
            for (package, record) in packages.iter_mut().zip(&self.records) {
                package.origin = self.origin_of(&origins, record);
            }
        }
        if detail.programs {
            self.read_lists(Keep { test: &|line| listed::role(line).is_some(), few: true }, &mut |lines| {
                let number = lines.package;
                if !self.is_present(number) {
                    return;
                }
                let name = self.record(number).name.clone();
                lines.each(|listed, _| {
                    let (at, _) = self.diversions().apply(&self.host.root, &name, listed);
                    match listed::role(at) {
                        Some(Role::Command) => packages[number as usize].commands.push(at.into()),
                        Some(Role::Launcher) => packages[number as usize].launchers.push(listed::launcher_id(at)),
                        None => {}
                    }
                });
            });
        }
        packages
    }

    /// One package. Programs stand in the lists, which are read for all at once.
    pub(super) fn one_package(&self, number: u32, detail: Detail) -> Option<Package> {
        if detail.programs {
            return self.every_package(detail).into_iter().nth(number as usize);
        }
        let record = self.records.get(number as usize)?;
        let origins = detail.origins.then(|| self.origins()).flatten();
        let origin = origins.and_then(|origins| self.origin_of(&origins, record));
        Some(Package { origin, ..self.package(number, &self.marks(), detail) })
    }

    /// What apt notes of packages.
    fn marks(&self) -> Marks {
        self.noting(|notes| Marks::read(&self.host.root, self.native().clone(), notes))
    }

    pub(super) fn package(&self, number: u32, marks: &Marks, detail: Detail) -> Package {
        let record = self.record(number);
        let installed_at = detail.dates.then(|| self.list_date(number)).flatten();
        Package {
            id: self.id(record),
            manager: self.location.manager,
            scope: self.location.scope.clone(),
            location: self.location.dir.clone(),
            name: record.name.clone(),
            version: record.version.clone(),
            arch: record.arch.clone(),
            kind: "package".to_owned(),
            channel: None,
            revision: None,
            origin: None,
            reason: marks.reason(record),
            held: record.want == Want::Hold,
            active: !matches!(record.state, State::ConfigFiles),
            status: record.status(),
            confinement: Some("none".to_owned()),
            installed_at,
            // Of a removed package the record still names the size that it had.
            size: record.installed_size.filter(|_| self.is_present(number)).and_then(|kib| kib.checked_mul(1024)),
            commands: Vec::new(),
            launchers: Vec::new(),
            title: None,
            purl: detail.evidence.then(|| self.purl(record)).flatten(),
            evidence: if detail.evidence { self.package_evidence(number) } else { Vec::new() },
        }
    }

    /// The installation date. dpkg records none, but rewrites a package's list on every installation and upgrade.
    pub(super) fn list_date(&self, number: u32) -> Option<i64> {
        if self.record(number).state == State::ConfigFiles {
            return None;
        }
        let (dir, name) = match self.lists[number as usize].as_ref()? {
            List::Info(name) => (self.info.as_ref()?, name),
            List::Digests(name) => (self.digests.as_ref()?, name),
        };
        dir.entry(name).ok().map(|meta| meta.modified)
    }

    /// The package URL, type `deb`, with the distribution as namespace.
    pub(super) fn purl(&self, record: &Record) -> Option<String> {
        let utf8 = |text: &ByteString| std::str::from_utf8(text).ok().map(str::to_owned);
        let mut purl = packageurl::PackageUrl::new("deb", utf8(&record.name)?).ok()?;
        if let Some(id) = self.host.system().and_then(|system| system.id.as_ref()) {
            purl.with_namespace(utf8(id)?).ok()?;
        }
        purl.with_version(utf8(record.version.as_ref()?)?).ok()?;
        if let Some(arch) = &record.arch {
            purl.add_qualifier("arch", utf8(arch)?).ok()?;
        }
        Some(purl.to_string())
    }
}
