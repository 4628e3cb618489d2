//! Python distributions of the system, or of one user: those of each interpreter's directories, and those of
//! every environment. An environment is read when a path in it is asked about, or when all are.

use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use hashbrown::HashSet;
use rayon::prelude::*;

use super::distribution::Distribution;
use super::site::{self, Place, Site, is_dir, programs};
use super::{PIP, UV, find};
use crate::backend::Detail;
use crate::bytes::{ByteString, path};
use crate::host::{Host, User};
use crate::model::{CommandLine, Evidence, Location, Loss, ManagerId, Owner, Package, Reason, Scope, Status};

/// The distributions of one user, or of the system.
pub struct PythonInstallation<'s> {
    pub(super) host: &'s Host,
    pub(super) location: Location,
    pub(super) user: Option<&'s User>,
    pub(super) known: OnceLock<Vec<Place>>,
    pub(super) has_foreign: OnceLock<bool>,
    pub(super) state: Mutex<State>,
}

/// What has been read so far. Packages are numbered in the order in which places are read.
#[derive(Default)]
pub(super) struct State {
    pub(super) shelves: Vec<Arc<Shelf>>,
    pub(super) places: HashSet<ByteString>,
    pub(super) tails: HashSet<(Scope, Vec<u8>)>,
    pub(super) all_known: bool,
    pub(super) complete: bool,
}

/// A place with the numbers of its packages.
pub(super) struct Shelf {
    pub(super) site: Site,
    pub(super) base: u32,
    pub(super) tails: Vec<ByteString>,
    /// The distributions' own records, in a directory that a distribution's manager fills as well.
    pub(super) records: Vec<ByteString>,
}

impl Shelf {
    pub(super) fn end(&self) -> u32 {
        self.base + u32::try_from(self.tails.len()).unwrap_or(u32::MAX)
    }
}

impl<'s> PythonInstallation<'s> {
    /// The user; none for the system.
    pub fn new(host: &'s Host, user: Option<&'s User>) -> Self {
        let (scope, location) = match user {
            Some(user) => (Scope::User(user.name.clone()), host.root.canonicalize_dir(&user.home)),
            None => (Scope::System, "/".into()),
        };
        PythonInstallation {
            host,
            location: Location { manager: PIP, scope, dir: location },
            user,
            known: OnceLock::new(),
            has_foreign: OnceLock::new(),
            state: Mutex::default(),
        }
    }

    /// The directories of interpreters, which need no looking for.
    pub(super) fn known(&self) -> &[Place] {
        self.known.get_or_init(|| match self.user {
            Some(user) => find::of_user(self.host, user),
            None => find::of_system(&self.host.root),
        })
    }

    pub(super) fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reads places that are not read yet. Nothing is locked meanwhile: a thread that waits for others may be given
    /// work that asks here as well.
    pub(super) fn add(&self, places: Vec<Place>) {
        let is_new = |place: &Place| !self.state().places.contains(&place.location);
        let new: Vec<Place> = places.into_iter().filter(is_new).collect();
        let root = &self.host.root;
        let read: Vec<Site> = new.into_par_iter().map(|place| Site::read(root, place)).collect();
        let mut state = self.state();
        let state = &mut *state;
        for site in read {
            // Somebody else may have been sooner.
            if !state.places.insert(site.place.location.clone()) {
                continue;
            }
            let base = state.shelves.last().map_or(0, |shelf| shelf.end());
            // In a directory that is shared, what no installer has noted as its own is the other manager's, most
            // likely, and leaves its name to the rest.
            let mut tails = vec![ByteString::default(); site.distributions.len()];
            for noted in [true, false] {
                let listed = site.distributions.iter().enumerate();
                for (place, one) in listed.filter(|(_, one)| one.installer.is_some() == noted) {
                    tails[place] = tail(&mut state.tails, &site.place, one);
                }
            }
            let is_shared = self.user.is_none() && site.place.shared;
            let is_uncertain = if is_shared { &site.distributions[..] } else { &[] };
            let records = is_uncertain.iter().map(|one| record_of(root, one)).collect();
            state.shelves.push(Arc::new(Shelf { site, base, tails, records }));
        }
    }

    /// What has been read so far.
    pub(super) fn read_so_far(&self) -> Vec<Arc<Shelf>> {
        self.state().shelves.clone()
    }

    /// Everything there is, in the order of the numbers.
    pub(super) fn everything(&self) -> Vec<Arc<Shelf>> {
        if !self.state().complete {
            self.add_known();
            let found = match self.user {
                Some(user) => find::environments_of(self.host, user),
                None => find::environments_of_system(self.host),
            };
            let mut places: Vec<ByteString> = found.into_iter().filter(|place| self.is_mine(place)).collect();
            places.sort();
            places.dedup();
            places.retain(|place| !self.state().places.contains(place));
            let root = &self.host.root;
            self.add(places.into_par_iter().filter_map(|dir| Place::environment(root, &dir)).collect());
            self.state().complete = true;
        }
        self.state().shelves.clone()
    }

    pub(super) fn add_known(&self) {
        if !self.state().all_known {
            self.add(self.known().to_vec());
            self.state().all_known = true;
        }
    }

    /// Whether a path is in the home of this user; or, for the system, in nobody's.
    pub(super) fn is_mine(&self, canonical: &[u8]) -> bool {
        match (self.host.home_owner(canonical), self.user) {
            (Some(other), Some(user)) => other == user,
            (None, None) => true,
            _ => false,
        }
    }

    /// Whether the directories that a distribution's manager fills hold anything that an installer noted as its own.
    pub(super) fn has_foreign(&self) -> bool {
        *self.has_foreign.get_or_init(|| {
            let shared = self.known().iter().filter(|place| place.shared);
            shared.into_iter().any(|place| {
                let names = self.host.root.names_in(&place.location);
                names.iter().any(|(name, _)| {
                    let metadata = path::join(&place.location, name);
                    name.ends_with(b".dist-info") && self.host.root.entry(&path::join(&metadata, b"INSTALLER")).is_ok()
                })
            })
        })
    }

    /// The places that can claim a path, read.
    pub(super) fn around(&self, canonical: &[u8]) -> Vec<Arc<Shelf>> {
        let root = &self.host.root;
        let in_known = |place: &&Place| {
            let is_inside = place.dirs.iter().any(|dir| path::within(canonical, dir));
            is_inside || (path::within(canonical, &place.prefix) && (!place.shared || self.has_foreign()))
        };
        let known: Vec<ByteString> = self.known().iter().filter(in_known).map(|place| place.location.clone()).collect();
        let border = match self.user {
            Some(_) => self.location.dir.clone(),
            None if path::within(canonical, b"/usr/local") => "/usr/local".into(),
            None if path::within(canonical, b"/usr") => return self.read_known(&known),
            None => "/".into(),
        };
        let mut places = self.read_known(&known);
        if let Some(place) = find::around(root, canonical, &border) {
            let location = place.location.clone();
            self.add_known();
            self.add(vec![place]);
            places.extend(self.state().shelves.iter().find(|shelf| shelf.site.place.location == location).cloned());
        }
        places
    }

    pub(super) fn read_known(&self, locations: &[ByteString]) -> Vec<Arc<Shelf>> {
        if locations.is_empty() {
            return Vec::new();
        }
        self.add_known();
        self.state().shelves.iter().filter(|shelf| locations.contains(&shelf.site.place.location)).cloned().collect()
    }

    pub(super) fn shelf(&self, package: u32) -> Arc<Shelf> {
        let state = self.state();
        let place = state.shelves.partition_point(|shelf| shelf.end() <= package);
        state.shelves[place].clone()
    }

    pub(super) fn with<T>(&self, package: u32, work: impl FnOnce(&Shelf, &Distribution) -> T) -> T {
        let shelf = self.shelf(package);
        work(&shelf, &shelf.site.distributions[(package - shelf.base) as usize])
    }

    pub(super) fn manager(site: &Site) -> ManagerId {
        if site.is_of_uv() { UV } else { PIP }
    }

    pub(super) fn owner_in(shelf: &Shelf, place: usize) -> Owner {
        let (site, one) = (&shelf.site, &shelf.site.distributions[place]);
        let manager = Self::manager(site);
        Owner {
            id: [format!("{manager}/{}/", site.place.scope).as_bytes(), &shelf.tails[place]].concat().into(),
            manager,
            scope: site.place.scope.clone(),
            name: one.name.clone(),
            version: one.version.clone(),
            status: Status::Installed,
        }
    }

    pub(super) fn package(&self, shelf: &Shelf, place: usize, detail: Detail) -> Package {
        let (site, one) = (&shelf.site, &shelf.site.distributions[place]);
        let root = &self.host.root;
        let owner = Self::owner_in(shelf, place);
        let (commands, size) = if detail.programs { programs(root, site, one) } else { (Vec::new(), None) };
        Package {
            purl: one
                .version
                .as_ref()
                .filter(|_| detail.evidence)
                .and_then(|version| crate::backend::simple::purl("pypi", &one.normal_name(), Some(version))),
            id: owner.id,
            manager: owner.manager,
            scope: owner.scope,
            location: site.place.location.clone(),
            name: owner.name,
            version: owner.version,
            arch: None,
            kind: "distribution".to_owned(),
            channel: None,
            revision: one.direct.as_ref().and_then(|direct| Some(direct.commit.as_ref()?.1.as_str().into())),
            origin: one.origin(),
            reason: match (one.requested, site.notes_requests) {
                (true, _) => Reason::Explicit,
                (false, true) => Reason::Dependency,
                // Old installers note nothing, nor does what came with the interpreter.
                (false, false) => Reason::Unknown,
            },
            held: false,
            active: true,
            status: owner.status,
            confinement: Some("none".to_owned()),
            installed_at: if detail.dates { one.installed_at(root) } else { None },
            size,
            commands,
            launchers: Vec::new(),
            title: None,
            evidence: if detail.evidence { self.evidence(site, one) } else { Vec::new() },
        }
    }

    pub(super) fn evidence(&self, site: &Site, one: &Distribution) -> Vec<Evidence> {
        let version = one.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        let mut evidence = vec![Evidence::at(one.metadata.clone(), "metadata", format!("{}{version}", one.name))];
        if let Some(by) = &one.installer {
            evidence.push(Evidence::whole(path::join(&one.metadata, b"INSTALLER"), by.to_string()));
        }
        if let Some(direct) = &one.direct {
            let how =
                if direct.editable { "editable: changes there take effect at once" } else { "installed from there" };
            let says = format!("{}: {how}", ByteString::from(direct.url.as_str()));
            evidence.push(Evidence::at(path::join(&one.metadata, b"direct_url.json"), "url", says));
        }
        if let Some(tool) = site.backend.as_ref().filter(|tool| tool.added.contains(&one.normal_name())) {
            let key = if tool.tool == "pipx" { "injected_packages" } else { "tool.requirements" };
            evidence.push(Evidence::at(tool.file.clone(), key, format!("was put beside {}", tool.name)));
        }
        evidence.extend(self.bypassed(site));
        evidence
    }

    /// A note that a marker file leaves an interpreter's directories to another manager, if there is one.
    pub(super) fn bypassed(&self, site: &Site) -> Option<Evidence> {
        if matches!(site.place.scope, Scope::Environment(_)) {
            return None;
        }
        let marker = self.marker(site)?;
        Some(Evidence::whole(marker, "this interpreter is externally managed: pip was told to ignore that"))
    }

    pub(super) fn marker(&self, site: &Site) -> Option<ByteString> {
        let root = &self.host.root;
        match &site.place.python {
            Some(python) => site::marker(root, &[b"/usr/lib/python", &**python].concat()),
            // A directory that all of the system's interpreters share.
            None => {
                let names = root.names_in(b"/usr/lib");
                let libraries = names.iter().filter(|(name, _)| name.starts_with(b"python3."));
                libraries
                    .map(|(name, _)| path::join(b"/usr/lib", name))
                    .find_map(|library| site::marker(root, &library))
            }
        }
    }

    /// The coverage note about the marker file of the system's interpreter.
    pub(super) fn marker_notes(&self, shelf: &Shelf) -> Vec<Loss> {
        let site = &shelf.site;
        let is_environment = matches!(site.place.scope, Scope::Environment(_));
        if is_environment || site.place.shared || site.distributions.is_empty() {
            return Vec::new();
        }
        let Some(python) = &site.place.python else { return Vec::new() };
        let library = ByteString::from([b"/usr/lib/python", &**python].concat());
        let is_interpreter = is_dir(&self.host.root, &library);
        match site::marker(&self.host.root, &library) {
            Some(marker) => {
                vec![Loss::note(format!(
                    "installed in spite of {marker}, which reserves this interpreter for the system's package manager"
                ))]
            }
            None if is_interpreter => {
                vec![Loss::note(format!(
                    "{library} has no EXTERNALLY-MANAGED marker: pip installs there without a warning"
                ))]
            }
            None => Vec::new(),
        }
    }

    /// The interpreter that has these directories, where it has pip: its own pip is the one that changes them.
    pub(super) fn pip(&self, site: &Site) -> Option<CommandLine> {
        let has = |file: &[u8]| self.host.root.target(file).is_ok();
        let has_own_pip = site.place.dirs.iter().any(|dir| has(&path::join(dir, b"pip")));
        if let Scope::Environment(dir) = &site.place.scope {
            let python = [&b"bin/python3"[..], b"bin/python"].map(|name| path::join(dir, name));
            let python = python.into_iter().find(|file| has(file)).filter(|_| has_own_pip)?;
            return Some(CommandLine::program(python).words("-m pip"));
        }
        let version = site.place.python.as_ref().map_or_else(|| "3".to_owned(), ToString::to_string);
        // What an interpreter calls its directory tells whose build it is: the distribution's, or one below /usr/local.
        let is_local =
            path::within(&site.place.location, b"/usr/local") && path::name(&site.place.location) == b"site-packages";
        let prefixes = if is_local { ["/usr/local", "/usr"] } else { ["/usr", "/usr/local"] };
        let pythons = prefixes.map(|prefix| format!("{prefix}/bin/python{version}"));
        let python = pythons.iter().find(|file| has(file.as_bytes()))?;
        let shared = [
            "/usr/lib/python3/dist-packages/pip".to_owned(),
            format!("/usr/lib/python{version}/site-packages/pip"),
            format!("/usr/lib64/python{version}/site-packages/pip"),
            format!("/usr/local/lib/python{version}/dist-packages/pip"),
            format!("/usr/local/lib/python{version}/site-packages/pip"),
        ];
        let has_pip = has_own_pip || shared.iter().any(|dir| has(dir.as_bytes()));
        has_pip.then(|| CommandLine::new(python).words("-m pip"))
    }
}

/// The last part of a package's id: its name, and a suffix if the name is taken in this scope.
pub(super) fn tail(taken: &mut HashSet<(Scope, Vec<u8>)>, place: &Place, one: &Distribution) -> ByteString {
    let python = place.python.as_ref().map_or_else(
        || path::name(&place.location).into(),
        |version| ByteString::from([b"python", &**version].concat()),
    );
    let version = one.version.clone().unwrap_or_default();
    let tries: [ByteString; 4] = [
        one.name.clone(),
        path::join(&one.name, &version),
        path::join(&path::join(&one.name, &version), &python),
        path::join(&one.name, &one.metadata),
    ];
    for text in &tries {
        if taken.insert((place.scope.clone(), text.to_ascii_lowercase())) {
            return text.clone();
        }
    }
    tries[3].clone()
}

/// The file by which another manager's claim on a distribution is recognised.
pub(super) fn record_of(root: &crate::fs::Root, one: &Distribution) -> ByteString {
    let inside = [&b"METADATA"[..], b"PKG-INFO"].map(|name| path::join(&one.metadata, name));
    inside.into_iter().find(|file| root.entry(file).is_ok()).unwrap_or_else(|| one.metadata.clone())
}
