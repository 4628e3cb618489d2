//! Holdings of managers whose whole record is small enough to be read at once, on first use.
//!
//! Such a manager says what is installed ([`Keeper::read`]) and in which folders everything lies that it
//! can claim ([`Keeper::domain`]); a path outside them never makes it read anything. Packages own whole
//! trees, single paths, or both.

use std::cmp::Ordering;
use std::sync::{Mutex, OnceLock, PoisonError};

use hashbrown::HashMap;

use super::listed::{self, Role};
use super::{Detail, Holdings};
use crate::model::{
    Asked, Claim, Claimant, Coverage, CoverageState, Digest, Evidence, Installation, Lead, ManagerId, Mark, Offer,
    Origin, Owner, Package, PathClaim, Reason, Remedy, Scope, Status, Wanted,
};
use crate::root::Kind;
use crate::scene::{Person, Scene};
use crate::text::{Text, path};

/// One package as its manager's record has it.
#[derive(Debug, Clone)]
pub struct Item {
    /// Its name.
    pub name: Text,
    /// Its version.
    pub version: Option<Text>,
    /// What its id ends in, where that is not the name.
    pub tail: Option<Text>,
    /// What sort of unit it is.
    pub kind: &'static str,
    /// The architecture.
    pub arch: Option<Text>,
    /// The channel that it follows.
    pub channel: Option<Text>,
    /// The manager's own revision.
    pub revision: Option<Text>,
    /// Where it came from.
    pub origin: Option<Origin>,
    /// Whether it was asked for.
    pub reason: Reason,
    /// Whether upgrades are held back.
    pub held: bool,
    /// Whether this is the version in use.
    pub active: bool,
    /// What state it is in.
    pub status: Status,
    /// When it was installed: seconds since 1970.
    pub installed_at: Option<i64>,
    /// Bytes on disk, where the record says so.
    pub size: Option<u64>,
    /// Programs that it puts into program folders.
    pub commands: Vec<Text>,
    /// The type and name of its package URL; the version is added.
    pub purl: Option<&'static str>,
    /// Settled folders, or files, that it owns with everything in them.
    pub trees: Vec<Text>,
    /// Settled paths that it owns one by one, and where the record says so.
    pub places: Vec<(Text, Evidence)>,
    /// Other names by which people call it.
    pub also: Vec<Text>,
    /// The folder or file of its own in the manager's state.
    pub entry: Text,
    /// Groups that it is a member of.
    pub groups: Vec<Text>,
    /// Its own record, where another manager may have put it there: see [`Holdings::yields`].
    pub record: Option<Text>,
    /// Where all this stands.
    pub evidence: Vec<Evidence>,
    /// Commands with which a person acts on it.
    pub remedies: Vec<Remedy>,
}

impl Item {
    /// A package of which only the name and the kind are known.
    pub fn new(kind: &'static str, name: impl Into<Text>) -> Self {
        Item {
            name: name.into(),
            version: None,
            tail: None,
            kind,
            arch: None,
            channel: None,
            revision: None,
            origin: None,
            reason: Reason::Explicit,
            held: false,
            active: true,
            status: Status::Installed,
            installed_at: None,
            size: None,
            commands: Vec::new(),
            purl: None,
            trees: Vec::new(),
            places: Vec::new(),
            also: Vec::new(),
            entry: Text::default(),
            groups: Vec::new(),
            record: None,
            evidence: Vec::new(),
            remedies: Vec::new(),
        }
    }

    /// One of several versions that are kept side by side: its id ends in `NAME/VERSION`.
    pub fn kept(kind: &'static str, name: impl Into<Text>, version: impl Into<Text>) -> Self {
        let (name, version) = (name.into(), version.into());
        let tail = Some(path::join(&name, &version));
        Item { version: Some(version), tail, ..Item::new(kind, name) }
    }

    /// Adds a way to act on it.
    #[must_use]
    pub fn remedy(mut self, purpose: &str, command: impl Into<String>) -> Self {
        self.remedies.push(Remedy { purpose: purpose.to_owned(), command: command.into() });
        self
    }
}

/// What one installation holds.
#[derive(Debug, Clone, Default)]
pub struct Record {
    /// Its packages.
    pub items: Vec<Item>,
    /// What could not be read, and what that hides.
    pub notes: Vec<String>,
}

/// A manager's way with one installation.
pub trait Keeper: Send + Sync {
    /// Reads the whole record.
    fn read(&self, scene: &Scene, at: &Installation) -> Record;

    /// Settled folders in which everything lies that can be claimed or that starts something else.
    fn domain(&self, scene: &Scene, at: &Installation) -> Vec<Text> {
        let _ = scene;
        // Where all stands in lists, no place of its own tells.
        if self.lists().is_some() { Vec::new() } else { vec![at.location.clone()] }
    }

    /// The manager's ordering of two of its versions.
    fn order(&self, a: &[u8], b: &[u8]) -> Ordering;

    /// Where a file in the domain leads when it is started.
    fn lead(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Lead> {
        let _ = (scene, at, settled);
        None
    }

    /// Where a link in the domain leads, if it is one that this manager places when it leads into a tree of its own.
    fn linked(&self, scene: &Scene, at: &Installation, settled: &[u8]) -> Option<Text> {
        let _ = (scene, at, settled);
        None
    }

    /// Folders in which the manager puts programs.
    fn program_folders(&self, scene: &Scene, at: &Installation) -> Vec<Text> {
        let _ = (scene, at);
        Vec::new()
    }

    /// What the manager's sources offered of what is asked about; what could not be read is added to `notes`.
    fn offers(
        &self,
        scene: &Scene,
        at: &Installation,
        items: &[Item],
        asked: &Asked,
        notes: &mut Vec<String>,
    ) -> Vec<Offer> {
        let _ = (scene, at, items, asked, notes);
        Vec::new()
    }

    /// The command with which a person takes an offer.
    fn take(&self, offer: &Offer) -> Option<String> {
        let _ = offer;
        None
    }

    /// What a maintainer should know of the sources themselves.
    fn on_sources(&self) -> Vec<String> {
        Vec::new()
    }

    /// The lists of files that the manager keeps, if it does keep any.
    fn lists(&self) -> Option<&dyn Lists> {
        None
    }

    /// Where each package came from, where that takes more reading than the record itself; what could not be
    /// read is added to `notes`.
    fn origins(
        &self,
        scene: &Scene,
        at: &Installation,
        items: &[Item],
        notes: &mut Vec<String>,
    ) -> Option<Vec<Option<Origin>>> {
        let _ = (scene, at, items, notes);
        None
    }
}

/// Lists of files, package by package, of a manager whose files lie among those of others.
pub trait Lists {
    /// Hands every wanted path to `take`, with the number of its package and the line that names it; what
    /// could not be read is added to `notes`.
    fn each(
        &self,
        scene: &Scene,
        items: &[Item],
        wanted: &Wanted,
        notes: &mut Vec<String>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    );

    /// The list of a package.
    fn file(&self, item: &Item) -> Text;

    /// The digest that is recorded for a settled path.
    fn digest(&self, scene: &Scene, item: &Item, path: &[u8]) -> Option<Digest> {
        let _ = (scene, item, path);
        None
    }

    /// The command that puts a package's own files back.
    fn restore(&self, item: &Item) -> Option<Remedy> {
        let _ = item;
        None
    }
}

/// Where the link at a path leads by its own text, the folders of that settled; `None` where there is no link.
pub fn link_target(scene: &Scene, link: &[u8]) -> Option<Text> {
    let text = scene.root.read_link(link).ok()?;
    Some(scene.root.settle(&path::absolute(&text, path::folder(link))))
}

/// The links in a folder whose own text leads into a tree, each with where it leads.
pub fn links_into(scene: &Scene, folder: &Text, tree: &[u8]) -> Vec<(Text, Text)> {
    let names = scene.root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
    let links = names.into_iter().filter(|(_, kind)| *kind == Kind::Link).map(|(name, _)| path::join(folder, &name));
    let led = links.filter_map(|link| link_target(scene, &link).map(|target| (link, target)));
    led.filter(|(_, target)| path::within(target, tree)).collect()
}

/// The names of the folders, and of the links if these are wanted, that are not hidden.
pub fn folders_in(scene: &Scene, folder: &[u8], links: bool) -> Vec<(Text, Kind)> {
    let names = scene.root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
    let wanted = |(name, kind): &(Text, Kind)| {
        !name.starts_with(b".") && (*kind == Kind::Folder || (links && *kind == Kind::Link))
    };
    names.into_iter().filter(wanted).collect()
}

/// Whether a folder stands at this path, links followed.
pub fn is_folder(scene: &Scene, at: &[u8]) -> bool {
    scene.root.target(at).is_ok_and(|meta| meta.kind == Kind::Folder)
}

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

/// A package URL (ECMA-427) of a type such as `cargo`; a scope or path before the name becomes its namespace.
pub fn purl(kind: &str, name: &[u8], version: Option<&[u8]>) -> Option<String> {
    let name = std::str::from_utf8(name).ok()?;
    let (namespace, name) = name.rsplit_once('/').map_or((None, name), |(before, name)| (Some(before), name));
    let mut purl = packageurl::PackageUrl::new(kind, name).ok()?;
    if let Some(namespace) = namespace {
        purl.with_namespace(namespace).ok()?;
    }
    if let Some(version) = version {
        purl.with_version(std::str::from_utf8(version).ok()?).ok()?;
    }
    Some(purl.to_string())
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

    fn restore(&self, package: u32) -> Option<Remedy> {
        self.keeper.lists()?.restore(self.item(package))
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

/// Whose an installation at this settled place is: the person's in whose home it lies, else the system's.
pub fn scope_of(scene: &Scene, place: &[u8]) -> Scope {
    scene.at_home(place).map_or(Scope::System, |person| Scope::User(person.name.clone()))
}

/// The scope of a person.
pub fn of(person: &Person) -> Scope {
    Scope::User(person.name.clone())
}
