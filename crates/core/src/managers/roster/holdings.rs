//! [`Holdings`] of whatever implements [`Keeper`].

use std::cmp::Ordering;
use std::sync::{Mutex, OnceLock, PoisonError};

use hashbrown::HashMap;

use super::{Item, Keeper, Record, link_target, purl};
use crate::managers::listed::{self, Role};
use crate::managers::{Detail, Holdings};
use crate::model::{
    Asked, Claim, Claimant, Coverage, CoverageState, Depth, Digest, Evidence, Installation, Lead, ManagerId, Mark,
    Offer, Owner, Package, PathClaim, Recorded, Remedy, Scope, Wanted,
};
use crate::scene::Scene;
use crate::text::{Text, path};

/// Which item claims a path, and by which of its places.
type Places = HashMap<Text, Vec<(u32, u32)>>;

/// The holdings of one installation.
pub struct Roster<'s, K> {
    scene: &'s Scene,
    installation: Installation,
    keeper: K,
    domain: OnceLock<Vec<Text>>,
    record: OnceLock<(Record, Places)>,
    /// What could not be read later on.
    late: Mutex<Vec<String>>,
}

impl<'s, K: Keeper + 's> Roster<'s, K> {
    /// The holdings of an installation at a settled location. Nothing is read yet.
    pub fn new(scene: &'s Scene, manager: ManagerId, scope: Scope, location: Text, keeper: K) -> Self {
        let installation = Installation { manager, scope, location };
        Roster { scene, installation, keeper, domain: OnceLock::new(), record: OnceLock::new(), late: Mutex::default() }
    }

    /// The same, as the registry wants it.
    pub fn boxed(
        scene: &'s Scene,
        manager: ManagerId,
        scope: Scope,
        location: Text,
        keeper: K,
    ) -> Box<dyn Holdings + 's> {
        Box::new(Self::new(scene, manager, scope, location, keeper))
    }

    fn read(&self) -> &(Record, Places) {
        self.record.get_or_init(|| {
            let record = self.keeper.read(self.scene, &self.installation);
            let mut places = Places::new();
            for (number, item) in (0..).zip(&record.items) {
                for (place, (path, _)) in (0..).zip(&item.places) {
                    places.entry(path.clone()).or_default().push((number, place));
                }
            }
            (record, places)
        })
    }

    fn items(&self) -> &[Item] {
        &self.read().0.items
    }

    fn item(&self, package: u32) -> &Item {
        &self.items()[package as usize]
    }

    fn is_in_domain(&self, settled: &[u8]) -> bool {
        let domain = self.domain.get_or_init(|| self.keeper.domain(self.scene, &self.installation));
        domain.iter().any(|folder| path::within(settled, folder))
    }

    fn note(&self, lost: Vec<String>) {
        let mut late = self.late.lock().unwrap_or_else(PoisonError::into_inner);
        for note in lost {
            if !late.contains(&note) {
                late.push(note);
            }
        }
    }

    /// The package into whose tree a link leads that the manager placed.
    fn linked(&self, settled: &[u8]) -> Option<u32> {
        let target = self.keeper.linked(self.scene, &self.installation, settled)?;
        let place = self.items().iter().position(|item| item.trees.iter().any(|tree| path::within(&target, tree)))?;
        u32::try_from(place).ok()
    }

    fn package(&self, number: u32, item: &Item, detail: Detail) -> Package {
        let owner = self.owner(number);
        let purl =
            item.purl.filter(|_| detail.evidence).and_then(|kind| purl(kind, &item.name, item.version.as_deref()));
        Package {
            id: owner.id,
            manager: owner.manager,
            scope: owner.scope,
            location: self.installation.location.clone(),
            name: owner.name,
            version: owner.version,
            arch: item.arch.clone(),
            kind: item.kind.to_owned(),
            channel: item.channel.clone(),
            revision: item.revision.clone(),
            origin: item.origin.clone(),
            reason: item.reason,
            held: item.held,
            active: item.active,
            status: item.status,
            confinement: Some("none".to_owned()),
            installed_at: item.installed_at,
            size: item.size,
            commands: item.commands.clone(),
            launchers: Vec::new(),
            title: None,
            purl,
            evidence: if detail.evidence { item.evidence.clone() } else { Vec::new() },
        }
    }
}

impl<'s, K: Keeper + 's> Holdings for Roster<'s, K> {
    fn installation(&self) -> &Installation {
        &self.installation
    }

    fn coverage(&self) -> Vec<Coverage> {
        // What the question had no need of was not read.
        let Some((record, _)) = self.record.get() else { return Vec::new() };
        let late = self.late.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let notes: Vec<String> = record.notes.iter().cloned().chain(late).collect();
        if record.items.is_empty() && notes.is_empty() {
            return Vec::new();
        }
        vec![Coverage {
            manager: Some(self.installation.manager),
            scope: self.installation.scope.clone(),
            location: self.installation.location.clone(),
            state: if notes.is_empty() { CoverageState::Read } else { CoverageState::Partial },
            packages: Some(record.items.len()),
            notes,
        }]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        let mut packages: Vec<Package> =
            (0..).zip(self.items()).map(|(number, item)| self.package(number, item, detail)).collect();
        let mut lost = Vec::new();
        if let Some(lists) = self.keeper.lists().filter(|_| detail.programs) {
            lists.each(self.scene, self.items(), &Wanted::All, &mut lost, &mut |number, file, _| {
                let Some(package) = packages.get_mut(number as usize) else { return };
                match listed::role(file) {
                    Some(Role::Command) => package.commands.push(file.into()),
                    Some(Role::Launcher) => package.launchers.push(listed::launcher_id(file)),
                    None => {}
                }
            });
        }
        if detail.origins
            && let Some(origins) = self.keeper.origins(self.scene, &self.installation, self.items(), &mut lost)
        {
            for (package, origin) in packages.iter_mut().zip(origins) {
                package.origin = origin;
            }
        }
        self.note(lost);
        packages
    }

    fn owner(&self, package: u32) -> Owner {
        let item = self.item(package);
        let Installation { manager, scope, .. } = &self.installation;
        let tail = item.tail.as_ref().unwrap_or(&item.name);
        Owner {
            id: [format!("{manager}/{scope}/").as_bytes(), tail].concat().into(),
            manager: *manager,
            scope: scope.clone(),
            name: item.name.clone(),
            version: item.version.clone(),
            status: item.status,
        }
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        let fits = |item: &Item| *item.name == *name || item.also.iter().any(|other| **other == *name);
        let mut found: Vec<u32> =
            (0..).zip(self.items()).filter(|(_, item)| fits(item)).map(|(number, _)| number).collect();
        found.sort_by_key(|&number| !self.item(number).active);
        found
    }

    fn offers(&self, asked: &Asked) -> Vec<Offer> {
        let mut lost = Vec::new();
        let offers = self.keeper.offers(self.scene, &self.installation, self.items(), asked, &mut lost);
        self.note(lost);
        offers
    }

    fn on_sources(&self) -> Vec<String> {
        self.keeper.on_sources()
    }

    fn take(&self, offer: &Offer) -> Option<String> {
        self.keeper.take(offer)
    }

    fn claims(&self, wanted: &Wanted, take: &mut dyn FnMut(Claim<'_>)) {
        let Some(lists) = self.keeper.lists().filter(|_| !wanted.is_nothing()) else { return };
        let mut lost = Vec::new();
        lists.each(self.scene, self.items(), wanted, &mut lost, &mut |number, file, line| {
            take(Claim { path: file, claimant: Claimant::Package(number), mark: Mark { line, rule: 0 } });
        });
        self.note(lost);
    }

    fn digest(&self, package: u32, path: &[u8]) -> Option<Digest> {
        self.keeper.lists()?.digest(self.scene, self.item(package), path)
    }

    fn recorded(&self, packages: Option<&[u32]>, _: Depth) -> Vec<Recorded> {
        let numbered = (0..).zip(self.items());
        let wanted: Vec<(u32, &Item)> =
            numbered.filter(|(number, _)| packages.is_none_or(|packages| packages.contains(number))).collect();
        let mut lost = Vec::new();
        let files = self.keeper.recorded(self.scene, &wanted, &mut lost);
        self.note(lost);
        files
    }

    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        self.keeper.lists()?.dependents(self.scene, self.items(), removed)
    }

    fn restore(&self, package: u32) -> Option<Remedy> {
        let command = self.keeper.lists()?.restore(self.item(package))?;
        Some(Remedy { purpose: "restore".to_owned(), command })
    }

    fn claims_on(&self, settled: &[u8]) -> Vec<PathClaim> {
        if !self.is_in_domain(settled) {
            return Vec::new();
        }
        let (record, places) = self.read();
        if let Some(on) = places.get(settled) {
            let claim = |&(package, place): &(u32, u32)| PathClaim {
                claimant: Claimant::Package(package),
                path: settled.into(),
                mark: Mark { line: place, rule: 0 },
                on_tree: false,
            };
            return on.iter().map(claim).collect();
        }
        if let Some(number) = self.linked(settled) {
            let mark = Mark { line: u32::MAX, rule: 0 };
            let claimant = Claimant::Package(number);
            return vec![PathClaim { claimant, path: settled.into(), mark, on_tree: false }];
        }
        let over = (0..).zip(&record.items).flat_map(|(number, item)| {
            let trees = item.trees.iter().filter(|tree| path::within(settled, tree));
            trees.map(move |tree| PathClaim::tree(number, tree.clone()))
        });
        let longest = over.max_by_key(|claim| claim.path.len());
        longest.into_iter().collect()
    }

    fn leads_to(&self, settled: &[u8]) -> Option<Lead> {
        if self.is_in_domain(settled) { self.keeper.lead(self.scene, &self.installation, settled) } else { None }
    }

    fn program_folders(&self) -> Vec<Text> {
        self.keeper.program_folders(self.scene, &self.installation)
    }

    fn yields(&self) -> Vec<(u32, Text)> {
        // What was not read has made no claim and named no package.
        let items = self.record.get().map_or(&[][..], |(record, _)| &record.items);
        let in_doubt = (0..).zip(items);
        in_doubt.filter_map(|(number, item)| Some((number, item.record.clone()?))).collect()
    }

    fn may_yield(&self, package: u32) -> bool {
        self.item(package).record.is_some()
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        self.item(package).evidence.clone()
    }

    fn claim_evidence(&self, claimant: Claimant, path: &[u8], mark: Mark) -> Vec<Evidence> {
        let Claimant::Package(package) = claimant else { return Vec::new() };
        let item = self.item(package);
        if let Some(lists) = self.keeper.lists() {
            return vec![Evidence::line(
                lists.file(item),
                mark.line,
                format!("{} lists {}", item.name, Text::from(path)),
            )];
        }
        match item.places.get(mark.line as usize).filter(|(place, _)| **place == *path) {
            Some((_, evidence)) => vec![evidence.clone()],
            None if mark.line == u32::MAX => {
                let target = link_target(self.scene, path).unwrap_or_default();
                let says = format!("leads to {target}, where {} keeps {}", self.installation.manager, item.name);
                vec![Evidence::at(path, "link", says)]
            }
            None => item.evidence.iter().take(1).cloned().collect(),
        }
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        self.item(package).remedies.clone()
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        self.keeper.order(a, b)
    }
}
