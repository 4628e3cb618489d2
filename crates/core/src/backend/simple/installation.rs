//! [`Installation`] of whatever implements [`SimpleBackend`].

use std::sync::OnceLock;

use hashbrown::HashMap;

use super::{InstalledPackage, Record, SimpleBackend, link_target};
use crate::backend::Log;
use crate::backend::listed::{self, Role};
use crate::backend::{
    Catalogue, Detail, FileIndex, FileRecords, Installation, Launching, Rehearsal, Relations, Removal, SharedDirs,
};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::Event;
use crate::model::{
    Actor, Claim, Claimant, Coverage, CoverageState, Digest, Evidence, ExecTarget, Finding, FindingKind, Location,
    Loss, Losses, ManagerId, NameFilter, Owner, Package, PathClaim, RecordPosition, Remedy, RemedyKind, Scope,
    Severity, package_id,
};
use crate::version::Scheme;

/// Which item claims a path, and by which of its places.
type Places = HashMap<ByteString, Vec<(u32, u32)>>;

/// The installations of one installation.
pub struct SimpleInstallation<'s> {
    pub(super) host: &'s Host,
    pub(super) location: Location,
    pub(super) backend: Box<dyn SimpleBackend + 's>,
    domain: OnceLock<Vec<ByteString>>,
    record: OnceLock<(Record, Places)>,
    /// What could not be read later on.
    late: Losses,
}

impl<'s> SimpleInstallation<'s> {
    /// The installations of an installation at a canonical location. Nothing is read yet.
    pub fn new(
        host: &'s Host,
        manager: ManagerId,
        scope: Scope,
        location: ByteString,
        backend: impl SimpleBackend + 's,
    ) -> Self {
        let location = Location { manager, scope, dir: location };
        SimpleInstallation {
            host,
            location,
            backend: Box::new(backend),
            domain: OnceLock::new(),
            record: OnceLock::new(),
            late: Losses::default(),
        }
    }

    /// The same installation as a trait object, for the registry.
    pub fn boxed(
        host: &'s Host,
        manager: ManagerId,
        scope: Scope,
        location: ByteString,
        backend: impl SimpleBackend + 's,
    ) -> Box<dyn Installation + 's> {
        Box::new(Self::new(host, manager, scope, location, backend))
    }

    fn read(&self) -> &(Record, Places) {
        self.record.get_or_init(|| {
            let record = self.backend.read(self.host, &self.location);
            let mut places = Places::new();
            for (number, item) in (0..).zip(&record.items) {
                for (place, (path, _)) in (0..).zip(&item.places) {
                    places.entry(path.clone()).or_default().push((number, place));
                }
            }
            (record, places)
        })
    }

    /// Whether no command of the manager changes what is there: it is part of an image.
    pub(super) fn is_sealed(&self) -> bool {
        self.backend.is_of_distribution() && self.location.scope == Scope::System && self.host.is_image_based()
    }

    pub(super) fn items(&self) -> &[InstalledPackage] {
        &self.read().0.items
    }

    pub(super) fn item(&self, package: u32) -> &InstalledPackage {
        &self.items()[package as usize]
    }

    fn own_domain(&self) -> &[ByteString] {
        self.domain.get_or_init(|| self.backend.domain(self.host, &self.location))
    }

    fn is_in_domain(&self, canonical: &[u8]) -> bool {
        self.own_domain().iter().any(|dir| path::within(canonical, dir))
    }

    pub(super) fn note(&self, lost: Vec<Loss>) {
        self.late.add(lost);
    }

    /// The package into whose tree a link leads that the manager placed.
    fn linked(&self, canonical: &[u8]) -> Option<u32> {
        let target = self.backend.linked(self.host, &self.location, canonical)?;
        let place = self.items().iter().position(|item| item.trees.iter().any(|tree| path::within(&target, tree)))?;
        u32::try_from(place).ok()
    }

    fn package(&self, number: u32, item: &InstalledPackage, detail: Detail) -> Package {
        item.told(self.owner(number), &self.location.dir, detail)
    }
}

impl Installation for SimpleInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn actor(&self, host: &Host) -> Actor {
        self.backend.actor(host, &self.location)
    }

    fn coverage(&self) -> Vec<Coverage> {
        // What the question had no need of was not read.
        let Some((record, _)) = self.record.get() else { return Vec::new() };
        let late = self.late.list();
        let notes: Vec<Loss> = record.notes.iter().cloned().chain(late).collect();
        if record.items.is_empty() && notes.is_empty() {
            return Vec::new();
        }
        vec![Coverage {
            manager: Some(self.location.manager),
            scope: self.location.scope.clone(),
            location: self.location.dir.clone(),
            state: if notes.is_empty() { CoverageState::Read } else { CoverageState::Partial },
            packages: Some(record.items.len()),
            notes,
        }]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        let mut packages: Vec<Package> =
            (0..).zip(self.items()).map(|(number, item)| self.package(number, item, detail)).collect();
        let mut lost = Vec::new();
        if let Some(lists) = self.backend.lists().filter(|_| detail.programs) {
            lists.each(self.host, self.items(), &NameFilter::All, &mut lost, &mut |number, file, _| {
                let Some(package) = packages.get_mut(number as usize) else { return };
                match listed::role(file) {
                    Some(Role::Command) => package.commands.push(file.into()),
                    Some(Role::Launcher) => package.launchers.push(listed::launcher_id(file)),
                    None => {}
                }
            });
        }
        if detail.origins
            && let Some(origins) = self.backend.origins(self.host, &self.location, self.items(), &mut lost)
        {
            for (package, origin) in packages.iter_mut().zip(origins) {
                package.origin = origin;
            }
        }
        self.note(lost);
        packages
    }

    /// What stands in lists or in catalogues is read for all packages at once.
    fn in_full(&self, package: u32, detail: Detail) -> Option<Package> {
        if detail.programs || detail.origins {
            return self.packages(detail).into_iter().nth(package as usize);
        }
        let item = self.items().get(package as usize)?;
        Some(self.package(package, item, detail))
    }

    fn owner(&self, package: u32) -> Owner {
        let item = self.item(package);
        let Location { manager, scope, .. } = &self.location;
        let tail = item.tail.as_ref().unwrap_or(&item.name);
        Owner {
            id: package_id(*manager, scope, tail),
            manager: *manager,
            scope: scope.clone(),
            name: item.name.clone(),
            version: item.version.clone(),
            status: item.status,
        }
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        let fits = |item: &InstalledPackage| *item.name == *name || item.also.iter().any(|other| **other == *name);
        let mut found: Vec<u32> =
            (0..).zip(self.items()).filter(|(_, item)| fits(item)).map(|(number, _)| number).collect();
        found.sort_by_key(|&number| !self.item(number).active);
        found
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        self.item(package).evidence.clone()
    }

    fn collects(&self, _: &ByteString, target: &[u8]) -> Option<&'static str> {
        self.backend.collects(&self.location, target)
    }

    fn diagnostics(&self) -> Vec<Finding> {
        let items = (0..).zip(self.items()).filter(|(_, item)| !item.missing.is_empty());
        let finding = |(number, item): (u32, &InstalledPackage)| {
            let owner = self.owner(number);
            let listed: Vec<String> = item.missing.iter().map(ToString::to_string).collect();
            let summary = format!(
                "{} · {} is recorded with {}, which does not exist",
                owner.manager,
                owner.name,
                listed.join(", ")
            );
            let consequence =
                format!("the command is missing although {} shows the package as installed", owner.manager);
            Finding {
                packages: vec![owner.id],
                paths: item.missing.clone(),
                remedies: item.remedies.iter().filter(|way| way.kind == RemedyKind::Repair).cloned().collect(),
                evidence: item.evidence.clone(),
                ..Finding::new(FindingKind::RecordDisagrees, Severity::Warning, owner.name, summary, consequence)
            }
        };
        items.map(finding).chain(self.read().0.contradictions.iter().cloned()).collect()
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        if self.is_sealed() { Vec::new() } else { self.item(package).remedies.clone() }
    }

    fn removal(&self, packages: &[u32], _: bool) -> Option<Removal> {
        if self.is_sealed() {
            return None;
        }
        let items: Vec<&InstalledPackage> = packages.iter().map(|number| self.item(*number)).collect();
        self.backend.removal(&items)
    }

    fn query(&self, name: &[u8], version: Option<&[u8]>) -> Option<Rehearsal> {
        self.backend.query(name, version)
    }

    fn go_to_version(&self, package: u32, version: &[u8]) -> Option<Removal> {
        if self.is_sealed() { None } else { self.backend.go_to_version(self.host, self.item(package), version) }
    }

    fn trees(&self) -> Vec<(u32, ByteString)> {
        let numbered = (0..).zip(self.items());
        let of_item = |(number, item): (u32, &InstalledPackage)| {
            let places = item.places.iter().map(|(place, _)| place);
            item.trees.iter().chain(places).map(|tree| (number, tree.clone())).collect::<Vec<_>>()
        };
        numbered.flat_map(of_item).collect()
    }

    fn scheme(&self) -> Scheme {
        self.backend.scheme()
    }

    fn file_index(&self) -> Option<&dyn FileIndex> {
        Some(self)
    }

    fn file_records(&self) -> Option<&dyn FileRecords> {
        Some(self)
    }

    fn catalogue(&self) -> Option<&dyn Catalogue> {
        self.backend.catalogue().is_some().then_some(self as &dyn Catalogue)
    }

    fn log(&self) -> Option<&dyn Log> {
        Some(self)
    }

    fn relations(&self) -> Option<&dyn Relations> {
        Some(self)
    }

    fn launching(&self) -> Option<&dyn Launching> {
        Some(self)
    }

    fn shared_dirs(&self) -> Option<&dyn SharedDirs> {
        Some(self)
    }
}

impl FileIndex for SimpleInstallation<'_> {
    fn claims(&self, wanted: &NameFilter, take: &mut dyn FnMut(Claim<'_>)) {
        let Some(lists) = self.backend.lists().filter(|_| !wanted.is_nothing()) else { return };
        let mut lost = Vec::new();
        lists.each(self.host, self.items(), wanted, &mut lost, &mut |number, file, line| {
            take(Claim { path: file, claimant: Claimant::Package(number), position: RecordPosition { line, rule: 0 } });
        });
        self.note(lost);
    }

    fn digest(&self, package: u32, path: &[u8]) -> Option<Digest> {
        self.backend.lists()?.digest(self.host, self.item(package), path)
    }

    fn domain(&self) -> Option<Vec<ByteString>> {
        Some(self.own_domain().to_vec())
    }

    fn claims_on(&self, canonical: &[u8]) -> Vec<PathClaim> {
        if !self.is_in_domain(canonical) {
            return Vec::new();
        }
        let (record, places) = self.read();
        if let Some(on) = places.get(canonical) {
            let claim = |&(package, place): &(u32, u32)| PathClaim {
                claimant: Claimant::Package(package),
                path: canonical.into(),
                position: RecordPosition { line: place, rule: 0 },
                on_tree: false,
            };
            return on.iter().map(claim).collect();
        }
        if let Some(number) = self.linked(canonical) {
            let position = RecordPosition { line: u32::MAX, rule: 0 };
            let claimant = Claimant::Package(number);
            return vec![PathClaim { claimant, path: canonical.into(), position, on_tree: false }];
        }
        let over = (0..).zip(&record.items).flat_map(|(number, item)| {
            let trees = item.trees.iter().filter(|tree| path::within(canonical, tree));
            trees.map(move |tree| PathClaim::tree(number, tree.clone()))
        });
        let longest = over.max_by_key(|claim| claim.path.len());
        longest.into_iter().collect()
    }

    fn claim_evidence(&self, claimant: Claimant, path: &[u8], position: RecordPosition) -> Vec<Evidence> {
        let Claimant::Package(package) = claimant else { return Vec::new() };
        let item = self.item(package);
        if let Some(lists) = self.backend.lists() {
            let (file, line) = lists.place(item, position.line);
            let says = format!("{} lists {}", item.name, ByteString::from(path));
            let is_entry = lists.has_entries();
            return vec![if is_entry { Evidence::entry(file, line, says) } else { Evidence::line(file, line, says) }];
        }
        match item.places.get(position.line as usize).filter(|(place, _)| **place == *path) {
            Some((_, evidence)) => vec![evidence.clone()],
            None if position.line == u32::MAX => {
                let target = link_target(self.host, path).unwrap_or_default();
                let says = format!("leads to {target}, where {} keeps {}", self.location.manager, item.name);
                vec![Evidence::at(path, "link", says)]
            }
            None => item.evidence.iter().take(1).cloned().collect(),
        }
    }
}

impl Launching for SimpleInstallation<'_> {
    fn exec_target(&self, canonical: &[u8]) -> Option<ExecTarget> {
        if self.is_in_domain(canonical) { self.backend.exec_target(self.host, &self.location, canonical) } else { None }
    }

    fn program_dirs(&self) -> Vec<ByteString> {
        self.backend.program_dirs(self.host, &self.location)
    }
}

impl SharedDirs for SimpleInstallation<'_> {
    fn foreign_packages(&self) -> Vec<(u32, ByteString)> {
        // What was not read has made no claim and named no package.
        let items = self.record.get().map_or(&[][..], |(record, _)| &record.items);
        let is_uncertain = (0..).zip(items);
        is_uncertain.filter_map(|(number, item)| Some((number, item.record.clone()?))).collect()
    }

    fn may_be_foreign(&self, package: u32) -> bool {
        self.item(package).record.is_some()
    }
}

impl Log for SimpleInstallation<'_> {
    fn events(&self) -> Vec<Event> {
        let mut lost = Vec::new();
        let events = self.backend.events(self.host, &self.location, &mut lost);
        self.note(lost);
        events
    }
}
