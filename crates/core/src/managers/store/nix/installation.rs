//! What a profile holds.

use std::sync::{Arc, OnceLock};

use hashbrown::{HashMap, HashSet};

use super::elements::{self, Held, ProfileFormat};
use super::manifest::Element;
use super::profiles::Profile;

use super::layout::Layout;
use super::store::Store;
use crate::backend::{Catalogue, Detail, FileIndex, History, Installation, Launching, Relations, Requirement};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::Host;
use crate::model::{
    CommandLine, Coverage, CoverageState, Described, Evidence, Location, Loss, Offer, OfferQuery, Origin, Owner,
    Package, Reason, Relation, Remedy, RemedyKind, Status,
};
use crate::version::Scheme;

/// One profile.
pub struct ProfileInstallation<'s> {
    pub(super) host: &'s Host,
    pub(super) store: Arc<Store<'s>>,
    pub(super) profile: Profile,
    location: Location,
    held: Option<Held>,
    ids: OnceLock<Vec<ByteString>>,
    by_path: HashMap<ByteString, u32>,
    notes: Vec<Loss>,
}

impl<'s> ProfileInstallation<'s> {
    /// Reads what the profile holds now.
    pub fn read(host: &'s Host, store: Arc<Store<'s>>, profile: Profile) -> Self {
        let mut notes = Vec::new();
        let (_, current) = profile.current(host, store.layout);
        let held = match current {
            None => {
                notes.push(Loss::note(format!("{}: the link points to a missing store path", profile.link)));
                None
            }
            Some(target) => match elements::read(&host.root, &store, &target) {
                Ok(held) => Some(held),
                Err(error) => {
                    notes.push(Loss::because(error, "what the profile holds is unknown"));
                    None
                }
            },
        };
        let location = Location { manager: store.layout.id, scope: profile.scope.clone(), dir: profile.link.clone() };
        let mut by_path = HashMap::new();
        for (number, element) in (0..).zip(held.iter().flat_map(|held| &held.elements)) {
            for path in &element.paths {
                by_path.entry(path.clone()).or_insert(number);
            }
        }
        ProfileInstallation { host, store, profile, location, held, ids: OnceLock::new(), by_path, notes }
    }

    /// The store paths that its packages consist of.
    pub fn store_paths(&self) -> Vec<ByteString> {
        self.by_path.keys().cloned().collect()
    }

    fn elements(&self) -> &[Element] {
        self.held.as_ref().map_or(&[], |held| &held.elements)
    }

    /// Gives each element an id of its own: two of one name get their place in the profile as well.
    fn ids(&self) -> &[ByteString] {
        self.ids.get_or_init(|| self.number())
    }

    fn number(&self) -> Vec<ByteString> {
        let id = self.store.layout.id;
        let place = match self.profile.usual {
            true => format!("{id}/{}/", self.profile.scope),
            false => format!("{id}/{}/{}/", self.profile.scope, ByteString::from(self.profile.name())),
        };
        let mut taken = HashSet::new();
        let mut ids = Vec::new();
        for (number, element) in (0_u32..).zip(self.elements()) {
            let name = self.name_and_version(element).0;
            let plain = ByteString::from([place.as_bytes(), &name].concat());
            let id = match taken.insert(plain.clone()) {
                true => plain,
                false => ByteString::from([&plain, format!("#{number}").as_bytes()].concat()),
            };
            ids.push(id);
        }
        ids
    }

    fn name_and_version(&self, element: &Element) -> (ByteString, Option<ByteString>) {
        let recorded = self.held.as_ref().map_or(ProfileFormat::Configuration, |held| held.recorded);
        recorded.name_and_version(&self.store, element)
    }

    fn element(&self, package: u32) -> &Element {
        &self.elements()[package as usize]
    }

    /// The names in a directory of the element's outputs that the profile shows.
    fn shown(&self, element: &Element, dir: &[u8]) -> Vec<ByteString> {
        let outputs = element
            .paths
            .iter()
            .filter_map(|path| self.host.root.dir(&path::join(path, dir)).and_then(|dir| dir.list()).ok());
        outputs.flatten().filter(|(_, kind)| *kind != Kind::Dir).map(|(name, _)| name).collect()
    }

    fn status(&self, element: &Element) -> Status {
        match element.active {
            true if element.paths.iter().all(|path| self.host.root.entry(path).is_ok()) => Status::Installed,
            true => Status::Broken,
            false => Status::Disabled,
        }
    }

    fn package(&self, number: u32, detail: Detail) -> Package {
        let element = self.element(number);
        let (name, version) = self.name_and_version(element);
        let rows: Vec<_> = element.paths.iter().filter_map(|path| self.store.row(path)).collect();
        let in_profile =
            |dir: &str, name: &ByteString| path::join(&path::join(&self.profile.link, dir.as_bytes()), name);
        let programs = detail.programs && element.active;
        Package {
            id: self.ids()[number as usize].clone(),
            manager: self.store.layout.id,
            scope: self.profile.scope.clone(),
            location: self.profile.link.clone(),
            name,
            version,
            arch: None,
            kind: "package".to_owned(),
            channel: None,
            revision: element.paths.first().map(|path| path::name(path).into()),
            origin: element.asked.as_ref().map(|asked| origin(asked, element.locked.clone())),
            reason: Reason::Explicit,
            held: false,
            active: element.active,
            status: self.status(element),
            confinement: Some("none".to_owned()),
            installed_at: rows.iter().filter_map(|row| row.registered).max(),
            size: (!rows.is_empty()).then(|| rows.iter().map(|row| row.size).sum()),
            commands: if programs {
                self.shown(element, b"bin").iter().map(|name| in_profile("bin", name)).collect()
            } else {
                Vec::new()
            },
            launchers: if programs {
                let names = self.shown(element, b"share/applications");
                names.into_iter().filter(|name| name.ends_with(b".desktop")).collect()
            } else {
                Vec::new()
            },
            title: None,
            purl: None,
            evidence: if detail.evidence { self.package_evidence(number) } else { Vec::new() },
        }
    }
}

impl Installation for ProfileInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn coverage(&self) -> Vec<Coverage> {
        let state = match (&self.held, self.notes.is_empty()) {
            (None, _) => CoverageState::Unreadable,
            (_, true) => CoverageState::Read,
            (_, false) => CoverageState::Partial,
        };
        vec![coverage(&self.location, state, Some(self.elements().len()), self.notes.clone())]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        (0..).zip(self.elements()).map(|(number, _)| self.package(number, detail)).collect()
    }

    fn owner(&self, package: u32) -> Owner {
        let element = self.element(package);
        let (name, version) = self.name_and_version(element);
        Owner {
            id: self.ids()[package as usize].clone(),
            manager: self.store.layout.id,
            scope: self.profile.scope.clone(),
            name,
            version,
            status: self.status(element),
        }
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        let numbered = (0..).zip(self.elements());
        numbered.filter(|(_, element)| *self.name_and_version(element).0 == *name).map(|(number, _)| number).collect()
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        let Some(held) = &self.held else { return Vec::new() };
        let element = self.element(package);
        let says = match (&element.asked, element.paths.first()) {
            (Some(asked), _) => format!("requested as {asked}"),
            (None, Some(path)) => path.to_string(),
            (None, None) => "an element without a store path".to_owned(),
        };
        vec![Evidence::at(held.file.clone(), format!("element {package}"), says)]
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        let element = self.element(package);
        let name = self.name_and_version(element).0;
        // The profile is named always: which one is the default depends on who asks, and how they logged in.
        let of_profile = |line: &str| CommandLine::new(line).words("--profile").arg(self.profile.link.clone());
        let line = match self.held.as_ref().map(|held| held.recorded) {
            Some(ProfileFormat::NixEnv) => of_profile("nix-env").words("--uninstall").operand(name),
            Some(ProfileFormat::NixProfile) => {
                let Some(path) = element.paths.first() else { return Vec::new() };
                of_profile("nix profile remove").operand(path.clone())
            }
            // It is taken out of the configuration's own text, and no command does that.
            Some(ProfileFormat::Configuration | ProfileFormat::Guix) | None => return Vec::new(),
        };
        let undo = of_profile("nix-env").words("--rollback");
        vec![Remedy::new(RemedyKind::Remove, line).undone_by(undo)]
    }

    fn relations(&self) -> Option<&dyn Relations> {
        Some(self)
    }

    fn trees(&self) -> Vec<(u32, ByteString)> {
        let numbered = (0..).zip(self.elements());
        numbered.flat_map(|(number, element)| element.paths.iter().map(move |path| (number, path.clone()))).collect()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Nix
    }

    fn file_index(&self) -> Option<&dyn FileIndex> {
        Some(self)
    }

    fn catalogue(&self) -> Option<&dyn Catalogue> {
        Some(self)
    }

    fn launching(&self) -> Option<&dyn Launching> {
        Some(self)
    }

    fn history(&self) -> Option<&dyn History> {
        Some(self)
    }
}

impl Relations for ProfileInstallation<'_> {
    /// A profile is a list: without one element the others stay as they are.
    fn dependents(&self, _: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        Some(Vec::new())
    }

    fn requirements(&self) -> Option<Vec<Requirement>> {
        Some(Vec::new())
    }

    /// The elements whose paths refer to these paths of the store.
    fn dependents_on(&self, needed: &[Owner]) -> Vec<Requirement> {
        let by_id: HashMap<&[u8], u32> = (0..).zip(needed).map(|(place, owner)| (&*owner.id, place)).collect();
        let mut found = Vec::new();
        for (package, element) in (0..).zip(self.elements()) {
            for path in &element.paths {
                for row in self.store.references(path) {
                    let Some(&needs) = by_id.get(&*self.store.layout.store_id(&row.path)) else { continue };
                    let evidence =
                        Evidence::at(self.store.layout.database, "Refs", format!("{path} refers to {}", row.path));
                    found.push(Requirement { package, needs, relation: Relation::Requires, evidence });
                }
            }
        }
        found
    }
}

impl FileIndex for ProfileInstallation<'_> {
    fn tree_over(&self, canonical: &[u8]) -> Option<(u32, ByteString)> {
        let path = self.store.layout.store_path(canonical)?;
        self.by_path.get(path).map(|&number| (number, path.into()))
    }
}

impl Catalogue for ProfileInstallation<'_> {
    /// What the profile has; what channels have comes with the store.
    fn offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        let numbered = (0..).zip(self.elements()).filter(|(_, element)| element.active);
        let offer = |(number, element)| {
            let (name, version) = self.name_and_version(element);
            asked.wants(&Described { name: &name, ..Described::default() }).then(|| Offer {
                version,
                installed: true,
                candidate: true,
                evidence: self.package_evidence(number).into_iter().take(1).collect(),
                ..Offer::bare(
                    self.location.manager,
                    self.location.scope.clone(),
                    name,
                    ByteString::default(),
                    None,
                    false,
                )
            })
        };
        numbered.filter_map(offer).collect()
    }
}

impl Launching for ProfileInstallation<'_> {
    fn program_notes(&self, _: u32, found: &[u8]) -> Vec<Evidence> {
        straight_from_store(self.store.layout, found).into_iter().collect()
    }

    fn launcher_dirs(&self) -> Vec<(ByteString, String)> {
        if !self.profile.usual {
            return Vec::new();
        }
        let dir = path::join(&self.profile.link, b"share");
        let how = format!("a line in ~/.profile that appends {dir} to XDG_DATA_DIRS, and a new login, would add it");
        vec![(dir, how)]
    }
}

/// A directory of the store on the search path itself is what a temporary shell puts there.
pub(super) fn straight_from_store(layout: &Layout, found: &[u8]) -> Option<Evidence> {
    let says = "found in the store itself: a temporary shell added it to the search path, not a profile";
    layout.store_path(found).map(|path| Evidence::at(path, "store path", says))
}

pub(super) fn coverage(
    location: &Location,
    state: CoverageState,
    packages: Option<usize>,
    notes: Vec<Loss>,
) -> Coverage {
    Coverage {
        manager: Some(location.manager),
        scope: location.scope.clone(),
        location: location.dir.clone(),
        state,
        packages,
        notes,
    }
}

/// Where a flake is: one that is given by a path is on this machine.
fn origin(asked: &ByteString, locked: Option<ByteString>) -> Origin {
    let is_path = [&b"/"[..], b".", b"path:", b"git+file:"].iter().any(|start| asked.starts_with(start));
    match is_path {
        true => Origin::local("flake", asked.clone(), locked),
        false => Origin::third_party("flake", asked.clone(), locked),
    }
}
