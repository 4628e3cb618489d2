//! The rest of the store: the paths that no profile has.

use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use super::channels;
use super::installation::{coverage, straight_from_store};
use super::layout::NIX;
use super::roots::Alive;
use super::store::{Row, Store, is_internal};
use hashbrown::{HashMap, HashSet};

use crate::backend::advice;
use crate::backend::{Catalogue, Detail, FileIndex, Installation, Launching, Relations, Requirement};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{
    Actor, CommandLine, Coverage, CoverageState, Evidence, Finding, FindingKind, Location, Loss, Offer, OfferQuery,
    Owner, Package, Reason, Relation, Remedy, Scope, Severity, Status,
};
use crate::version::Scheme;

/// The store paths that no profile has.
pub struct StoreInstallation<'s> {
    host: &'s Host,
    store: Arc<Store<'s>>,
    location: Location,
    of_profiles: HashSet<ByteString>,
    alive: OnceLock<Alive>,
    /// What could not be read when it was needed.
    late: Mutex<Vec<Loss>>,
}

impl<'s> StoreInstallation<'s> {
    /// All of the store but the paths that belong to packages of profiles.
    pub fn new(host: &'s Host, store: Arc<Store<'s>>, of_profiles: Vec<ByteString>) -> Self {
        let location = Location { manager: store.layout.id, scope: Scope::System, dir: store.layout.store.into() };
        StoreInstallation {
            host,
            store,
            location,
            of_profiles: of_profiles.into_iter().collect(),
            alive: OnceLock::new(),
            late: Mutex::default(),
        }
    }

    fn alive(&self) -> &Alive {
        self.alive.get_or_init(|| Alive::of(&self.host.root, &self.store))
    }

    fn path(&self, package: u32) -> &ByteString {
        &self.store.rows()[package as usize].path
    }

    fn software(&self) -> impl Iterator<Item = u32> + '_ {
        let numbered = (0..).zip(self.store.rows());
        numbered
            .filter(|(_, row)| !is_internal(&row.path) && !self.of_profiles.contains(&row.path))
            .map(|(number, _)| number)
    }
}

/// The store paths that a finding names.
const MAX_DEAD: usize = 20;

impl Installation for StoreInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    /// A store without builders of its own belongs to the user who installed it.
    fn actor(&self, host: &Host) -> Actor {
        advice::actor_for(host, &path::join(self.store.layout.store, b"x"))
    }

    fn coverage(&self) -> Vec<Coverage> {
        // An answer that had no need of the database has not read it.
        let count = self.store.is_read().then(|| self.software().count());
        let mut notes = self.store.notes();
        let is_whole = notes.is_empty();
        notes.extend(self.late.lock().unwrap_or_else(PoisonError::into_inner).iter().cloned());
        let state = match (is_whole, count) {
            (true, _) if notes.is_empty() => CoverageState::Read,
            (true, _) => CoverageState::Partial,
            (false, None | Some(0)) => CoverageState::Unreadable,
            (false, Some(_)) => CoverageState::Partial,
        };
        vec![coverage(&self.location, state, count, notes)]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        self.numbered(detail).into_iter().map(|(_, package)| package).collect()
    }

    /// Numbers are places in the store's database, of which profiles have some.
    fn numbered(&self, detail: Detail) -> Vec<(u32, Package)> {
        if detail.asked_for_only {
            return Vec::new();
        }
        let package = |number: u32| {
            let row = &self.store.rows()[number as usize];
            let owner = self.owner(number);
            Package {
                id: owner.id,
                manager: owner.manager,
                scope: Scope::System,
                location: self.location.dir.clone(),
                name: owner.name,
                version: owner.version,
                arch: None,
                kind: "store-path".to_owned(),
                channel: None,
                revision: Some(path::name(&row.path).into()),
                origin: None,
                reason: Reason::Dependency,
                held: false,
                active: true,
                status: Status::Installed,
                confinement: Some("none".to_owned()),
                installed_at: row.registered,
                size: Some(row.size),
                commands: Vec::new(),
                launchers: Vec::new(),
                title: None,
                purl: None,
                evidence: if detail.evidence { self.package_evidence(number) } else { Vec::new() },
            }
        };
        self.software().map(|number| (number, package(number))).collect()
    }

    fn owner(&self, package: u32) -> Owner {
        let path = self.path(package);
        let (name, version) = self.store.name_and_version(path);
        Owner {
            id: self.store.layout.store_id(path),
            manager: self.store.layout.id,
            scope: Scope::System,
            name,
            version,
            status: Status::Installed,
        }
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        self.software().filter(|&number| *self.store.name_and_version(self.path(number)).0 == *name).collect()
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        let row = &self.store.rows()[package as usize];
        vec![Evidence::at(self.store.layout.database, format!("ValidPaths row {}", row.id), row.path.to_string())]
    }

    /// `unreferenced-store-path`, once for the store.
    fn diagnostics(&self) -> Vec<Finding> {
        let rows = self.store.rows();
        let dead: Vec<&Row> = rows.iter().filter(|row| !self.alive().keeps(&self.store, &row.path)).collect();
        // A store that could not be read in full, or whose roots could not, tells nothing of what is dead.
        if dead.is_empty() || !self.store.is_whole() {
            return Vec::new();
        }
        let layout = self.store.layout;
        let store = ByteString::from(layout.store);
        let size: u64 = dead.iter().map(|row| row.size).sum();
        let count = if dead.len() == 1 { "one store path".to_owned() } else { format!("{} store paths", dead.len()) };
        let is = if dead.len() == 1 { "is" } else { "are" };
        let summary = format!("{count} of {store}, {} MiB, {is} referred to by nothing", size.div_ceil(1 << 20));
        let consequence = "they use disk space until the garbage is collected; what running programs use is kept";
        vec![Finding {
            paths: dead.iter().take(MAX_DEAD).map(|row| row.path.clone()).collect(),
            remedies: layout.has_commands.then(super::collect_garbage).into_iter().collect(),
            size: Some(size),
            evidence: vec![Evidence::directory(layout.roots, "no root leads to them")],
            ..Finding::new(FindingKind::UnreferencedStorePath, Severity::Note, store, summary, consequence)
        }]
    }

    fn collects(&self, link: &ByteString, target: &[u8]) -> Option<&'static str> {
        let rooted = self.store.layout.store_path(target)?;
        // A link can be registered as a root itself.
        let is_root = self.alive().roots.get(rooted).is_some_and(|links| links.contains(link));
        (!is_root).then_some("once nothing else refers to it and the garbage is collected")
    }

    fn remedies(&self, _: u32) -> Vec<Remedy> {
        Vec::new()
    }

    fn trees(&self) -> Vec<(u32, ByteString)> {
        self.software().map(|number| (number, self.path(number).clone())).collect()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Nix
    }

    fn file_index(&self) -> Option<&dyn FileIndex> {
        Some(self)
    }

    fn catalogue(&self) -> Option<&dyn Catalogue> {
        // What Guix offers is code, which nobody evaluates here.
        (self.location.manager == NIX.id).then_some(self as &dyn Catalogue)
    }

    fn launching(&self) -> Option<&dyn Launching> {
        Some(self)
    }

    fn relations(&self) -> Option<&dyn Relations> {
        Some(self)
    }
}

impl FileIndex for StoreInstallation<'_> {
    fn tree_over(&self, canonical: &[u8]) -> Option<(u32, ByteString)> {
        let path = self.store.layout.store_path(canonical).filter(|path| !self.of_profiles.contains(*path))?;
        let place = u32::try_from(self.store.place(path)?).ok()?;
        Some((place, path.into()))
    }
}

impl Relations for StoreInstallation<'_> {
    /// What refers to these paths, directly or through others (`nix-store --query --referrers-closure`).
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let references = &self.store.links().references;
        let mut referrers: HashMap<usize, Vec<usize>> = HashMap::new();
        for (from, to) in references.iter().flat_map(|(from, to)| to.iter().map(move |to| (*from, *to))) {
            referrers.entry(to).or_default().push(from);
        }
        let mut open: Vec<usize> = removed.iter().map(|number| *number as usize).collect();
        let mut seen: HashSet<usize> = open.iter().copied().collect();
        let mut found = Vec::new();
        while let Some(place) = open.pop() {
            for from in
                referrers.get(&place).into_iter().flatten().filter(|from| seen.insert(**from)).collect::<Vec<_>>()
            {
                let rows = self.store.rows();
                let says = format!("refers to {}", rows[place].path);
                let row = format!("Refs, referrer {}", rows[*from].id);
                found.push((u32::try_from(*from).ok()?, Evidence::at(self.store.layout.database, row, says)));
                open.push(*from);
            }
        }
        // What a profile holds is told by the profile.
        Some(found)
    }

    fn requirements(&self) -> Option<Vec<Requirement>> {
        let rows = self.store.rows();
        let number = |place: usize| u32::try_from(place).ok();
        let references = self.store.links().references.iter();
        let each =
            references.flat_map(|(from, to)| to.iter().map(move |to| (*from, *to))).filter(|(from, to)| from != to);
        let requirement = |(from, to): (usize, usize)| {
            let row = format!("Refs, referrer {}", rows[from].id);
            let evidence = Evidence::at(self.store.layout.database, row, format!("refers to {}", rows[to].path));
            Some(Requirement { package: number(from)?, needs: number(to)?, relation: Relation::Requires, evidence })
        };
        Some(each.filter_map(requirement).collect())
    }

    /// The links that root these paths.
    fn keepers(&self, packages: &[u32]) -> Vec<(u32, ByteString, Evidence)> {
        let roots = &self.alive().roots;
        let of_package = |number: &u32| {
            let links = roots.get(self.path(*number)).into_iter().flatten();
            let keeper = |link: &ByteString| {
                (*number, link.clone(), Evidence::at(link.clone(), "link", "a root of the garbage collection"))
            };
            links.map(keeper).collect::<Vec<_>>()
        };
        packages.iter().flat_map(of_package).collect()
    }
}

impl Catalogue for StoreInstallation<'_> {
    fn offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        let (offers, lost) = channels::offers(self.host, asked);
        self.late.lock().unwrap_or_else(PoisonError::into_inner).extend(lost);
        offers
    }

    fn is_fetched(&self) -> bool {
        channels::is_fetched(self.host)
    }

    fn install_command(&self, offer: &Offer) -> Option<CommandLine> {
        let attribute = [&**offer.channel.as_ref()?, b".", &*offer.name].concat();
        Some(CommandLine::new("nix-env -iA").operand(attribute))
    }
}

impl Launching for StoreInstallation<'_> {
    fn program_notes(&self, package: u32, found: &[u8]) -> Vec<Evidence> {
        let path = self.path(package);
        let keepers = self.alive().keepers(&self.store, path);
        let kept = match (self.alive().keeps(&self.store, path), keepers.first()) {
            (false, _) => "nothing keeps it: the next garbage collection removes it".to_owned(),
            (true, Some(link)) if keepers.len() == 1 => format!("kept by {link}"),
            (true, Some(link)) => format!("kept by {link} and {} more", keepers.len() - 1),
            (true, None) => "kept as the derivation of a path that is kept".to_owned(),
        };
        straight_from_store(self.store.layout, found)
            .into_iter()
            .chain([Evidence::at(path.clone(), "roots", kept)])
            .collect()
    }
}
