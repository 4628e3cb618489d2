//! The revisions of all snaps.

use std::cmp::Ordering;
use std::sync::{Mutex, OnceLock, PoisonError};

use hashbrown::HashMap;

use super::revision::{self, About};
use super::state::{self, FileRecord};
use super::{ID, MOUNTS, SNAPD, offers};
use crate::backend::{Catalogue, Detail, FileIndex, History, Installation, Launching, mark_candidates};
use crate::bytes::{ByteString, path, shell_word};
use crate::fs::Kind;
use crate::host::Host;
use crate::model::{
    Change, Coverage, CoverageState, Evidence, ExecTarget, Location, Offer, OfferQuery, Origin, Owner, Package,
    PathClaim, Reason, Remedy, RemedyKind, Scope, State, Status,
};
use crate::version::debian;

/// One revision of one snap.
struct Revision {
    snap: usize,
    name: ByteString,
    snap_id: Option<String>,
    about: OnceLock<Result<About, String>>,
}

/// All of them.
pub struct SnapInstallation<'s> {
    host: &'s Host,
    location: Location,
    snaps: Vec<FileRecord>,
    revisions: Vec<Revision>,
    by_state: bool,
    notes: Vec<String>,
    /// What could not be read when it was needed.
    late: Mutex<Vec<String>>,
}

impl<'s> SnapInstallation<'s> {
    /// Reads which revisions there are, and what each says of itself.
    pub fn read(host: &'s Host) -> Self {
        let mut notes = Vec::new();
        let (snaps, by_state) = state::read(&host.root, &mut notes);
        let mut revisions = Vec::new();
        for (place, snap) in snaps.iter().enumerate() {
            for (name, snap_id) in &snap.revisions {
                revisions.push(Revision {
                    snap: place,
                    name: name.clone(),
                    snap_id: snap_id.clone(),
                    about: OnceLock::new(),
                });
            }
        }
        let location = Location { manager: ID, scope: Scope::System, location: SNAPD.into() };
        SnapInstallation { host, location, snaps, revisions, by_state, notes, late: Mutex::default() }
    }

    fn snap(&self, revision: &Revision) -> &FileRecord {
        &self.snaps[revision.snap]
    }

    /// What the revision says of itself; read on first use, for it may have to be unpacked.
    fn about<'r>(&self, revision: &'r Revision) -> Result<&'r About, &'r String> {
        let read = || revision::about(&self.host.root, &self.snap(revision).instance, &revision.name);
        revision.about.get_or_init(read).as_ref()
    }

    fn is_active(&self, revision: &Revision) -> bool {
        let snap = self.snap(revision);
        snap.active && snap.current.as_ref() == Some(&revision.name)
    }

    fn number_of(&self, fits: impl Fn(&Revision) -> bool) -> Option<u32> {
        self.revisions.iter().position(fits).and_then(|place| u32::try_from(place).ok())
    }

    fn active(&self, instance: &[u8]) -> Option<u32> {
        self.number_of(|revision| self.is_active(revision) && *self.snap(revision).instance == *instance)
    }

    fn id(&self, revision: &Revision) -> ByteString {
        let place = format!("{ID}/{}/", Scope::System);
        path::join(&ByteString::from([place.as_bytes(), &self.snap(revision).instance].concat()), &revision.name)
    }

    fn status(&self, revision: &Revision) -> Status {
        let image = revision::image(&self.snap(revision).instance, &revision.name);
        // Not being mounted is no damage; to have no image is.
        let is_lost = self.about(revision).is_err() && self.by_state && self.host.root.entry(&image).is_err();
        match (is_lost, self.is_active(revision)) {
            (true, _) => Status::Broken,
            (false, true) => Status::Installed,
            (false, false) => Status::Disabled,
        }
    }

    /// The command's name in `/snap/bin`.
    fn command(instance: &ByteString, app: &str) -> ByteString {
        let bare = instance.split(|&b| b == b'_').next().unwrap_or_default();
        match bare == app.as_bytes() {
            true => instance.clone(),
            false => [instance.as_bytes(), b".", app.as_bytes()].concat().into(),
        }
    }

    fn commands(&self, revision: &Revision) -> Vec<ByteString> {
        let (Ok(about), true) = (self.about(revision), self.is_active(revision)) else { return Vec::new() };
        let snap = self.snap(revision);
        let apps = about.apps.iter().filter(|(_, _, is_service)| !is_service);
        let names = apps.map(|(app, _, _)| Self::command(&snap.instance, app));
        let aliases = snap.aliases.iter().map(|(alias, _)| ByteString::from(alias.as_str()));
        let links = names.chain(aliases).map(|name| path::join(&path::join(MOUNTS, b"bin"), &name));
        links.filter(|link| self.host.root.entry(link).is_ok()).collect()
    }

    fn launchers(&self, revision: &Revision) -> Vec<ByteString> {
        if !self.is_active(revision) {
            return Vec::new();
        }
        // In a parallel instance the underscore is written as a plus.
        let instance: Vec<u8> =
            self.snap(revision).instance.iter().map(|&b| if b == b'_' { b'+' } else { b }).collect();
        let start = [instance.as_slice(), b"_"].concat();
        let dir = path::join(SNAPD, b"desktop/applications");
        let names = self.host.root.dir(&dir).and_then(|dir| dir.list()).unwrap_or_default();
        let fitting = names.into_iter().filter(|(name, _)| name.starts_with(&start) && name.ends_with(b".desktop"));
        fitting.map(|(name, _)| name).collect()
    }

    fn origin(&self, revision: &Revision) -> Option<Origin> {
        if revision.name.starts_with(b"x") {
            let (name, kind) = ("a local file".into(), "file".to_owned());
            return Some(Origin { name, kind, url: None, trust: Some("local".to_owned()) });
        }
        let (name, _, _) = revision::publisher(&self.host.root, revision.snap_id.as_ref()?)?;
        Some(Origin { name, kind: "publisher".to_owned(), url: None, trust: None })
    }

    fn confinement(&self, revision: &Revision) -> Option<String> {
        let flags = &self.snap(revision).flags;
        let loose = flags.iter().find(|flag| matches!(**flag, "classic" | "devmode")).map(|flag| (*flag).to_owned());
        loose.or_else(|| self.about(revision).ok()?.confinement.clone())
    }

    fn package(&self, number: u32, detail: Detail) -> Package {
        let revision = &self.revisions[number as usize];
        let snap = self.snap(revision);
        let about = self.about(revision).ok();
        let kind = snap
            .kind
            .clone()
            .or_else(|| about.and_then(|about| about.kind.clone()))
            .unwrap_or_else(|| "app".to_owned());
        let is_active = self.is_active(revision);
        let current = path::join(&path::join(MOUNTS, &snap.instance), b"current");
        let image = revision::image(&snap.instance, &revision.name);
        Package {
            id: self.id(revision),
            manager: ID,
            scope: Scope::System,
            location: SNAPD.into(),
            name: snap.instance.clone(),
            version: about.and_then(|about| about.version.clone()),
            arch: about.and_then(|about| about.arch.clone()),
            reason: if kind == "app" { Reason::Explicit } else { Reason::Dependency },
            kind,
            channel: snap.channel.clone(),
            revision: Some(revision.name.clone()),
            origin: self.origin(revision),
            held: false,
            active: is_active,
            status: self.status(revision),
            confinement: self.confinement(revision),
            installed_at: self.host.root.entry(&current).ok().filter(|_| is_active).map(|meta| meta.modified),
            size: self.host.root.entry(&image).ok().filter(|meta| meta.kind == Kind::File).map(|meta| meta.size),
            commands: if detail.programs { self.commands(revision) } else { Vec::new() },
            launchers: if detail.programs { self.launchers(revision) } else { Vec::new() },
            title: None,
            purl: None,
            evidence: if detail.evidence { self.package_evidence(number) } else { Vec::new() },
        }
    }

    /// The instance and the app that a link in `/snap/bin` names.
    fn of_command<'a>(&self, link: &'a [u8]) -> Option<(u32, &'a [u8])> {
        let name = link.strip_prefix(MOUNTS)?.strip_prefix(b"/bin/")?;
        let (instance, app) = match memchr::memchr(b'.', name) {
            Some(at) => (&name[..at], &name[at + 1..]),
            None => (name, name.split(|&b| b == b'_').next().unwrap_or_default()),
        };
        self.active(instance).map(|number| (number, app))
    }
}

impl SnapInstallation<'_> {
    /// The package that owns the tree in which a canonical path lies, and the tree.
    fn tree_over(&self, canonical: &[u8]) -> Option<(u32, ByteString)> {
        if let Some((number, _)) = self.of_command(canonical) {
            return Some((number, canonical.into()));
        }
        if let Some(name) = canonical.strip_prefix(b"/var/lib/snapd/desktop/applications/") {
            let launches = |revision: &Revision| self.launchers(revision).iter().any(|launcher| **launcher == *name);
            return self.number_of(launches).map(|number| (number, canonical.into()));
        }
        let below = canonical.strip_prefix(MOUNTS)?.strip_prefix(b"/")?;
        let mut parts = below.split(|&b| b == b'/');
        let (instance, name) = (parts.next()?, parts.next()?);
        let is_it = |revision: &Revision| *self.snap(revision).instance == *instance && *revision.name == *name;
        self.number_of(is_it).map(|number| (number, canonical.into()))
    }
}

impl Installation for SnapInstallation<'_> {
    fn location(&self) -> &Location {
        &self.location
    }

    fn coverage(&self) -> Vec<Coverage> {
        let lost = self.revisions.iter().filter_map(|revision| {
            let problem = revision.about.get()?.as_ref().err()?;
            let instance = &self.snap(revision).instance;
            Some(format!("{problem}: version and commands of {instance} at revision {} are unknown", revision.name))
        });
        let late = self.late.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let notes: Vec<String> = self.notes.iter().cloned().chain(lost).chain(late).collect();
        vec![Coverage {
            manager: Some(ID),
            scope: Scope::System,
            location: self.location.location.clone(),
            state: if notes.is_empty() { CoverageState::Read } else { CoverageState::Partial },
            packages: Some(self.revisions.len()),
            notes,
        }]
    }

    fn packages(&self, detail: Detail) -> Vec<Package> {
        (0..).zip(&self.revisions).map(|(number, _)| self.package(number, detail)).collect()
    }

    fn owner(&self, package: u32) -> Owner {
        let revision = &self.revisions[package as usize];
        Owner {
            id: self.id(revision),
            manager: ID,
            scope: Scope::System,
            name: self.snap(revision).instance.clone(),
            version: self.about(revision).ok().and_then(|about| about.version.clone()),
            status: self.status(revision),
        }
    }

    fn named(&self, name: &[u8]) -> Vec<u32> {
        let fits = |revision: &Revision| *self.snap(revision).instance == *name;
        let mut found: Vec<u32> =
            (0..).zip(&self.revisions).filter(|(_, one)| fits(one)).map(|(number, _)| number).collect();
        found.sort_by_key(|&number| !self.is_active(&self.revisions[number as usize]));
        found
    }

    fn package_evidence(&self, package: u32) -> Vec<Evidence> {
        let revision = &self.revisions[package as usize];
        let snap = self.snap(revision);
        let (file, at) = match self.by_state {
            true => (path::join(SNAPD, b"state.json"), format!("data.snaps.{}", snap.instance)),
            false => (path::join(MOUNTS, &snap.instance), "directory".to_owned()),
        };
        let mut evidence = vec![Evidence::at(file.clone(), at.clone(), format!("revision {}", revision.name))];
        if let Ok(about) = self.about(revision) {
            let base = about.base.as_ref().map(|base| ByteString::from(base.as_str()).to_string());
            evidence.extend(base.map(|base| Evidence::at(about.file.clone(), "key base", format!("needs {base}"))));
            for (app, _, _) in about.apps.iter().filter(|(_, _, is_service)| *is_service) {
                let says = format!("{} is a service", ByteString::from(app.as_str()));
                evidence.push(Evidence::at(about.file.clone(), "key apps", says));
            }
        }
        if let Some((name, validation, file)) =
            revision.snap_id.as_ref().and_then(|id| revision::publisher(&self.host.root, id))
        {
            evidence.push(Evidence::at(
                file,
                "key publisher-id",
                format!("{name}, {validation}; the signature is not checked"),
            ));
        }
        for (alias, by_hand) in &snap.aliases {
            let how = if *by_hand { "by hand" } else { "by the store" };
            evidence.push(Evidence::at(
                file.clone(),
                at.clone(),
                format!("alias {}, made {how}", ByteString::from(alias.as_str())),
            ));
        }
        for user in &self.host.users {
            let data = path::join(&path::join(&user.home, b"snap"), &snap.instance);
            if self.host.root.entry(&data).is_ok() {
                evidence.push(Evidence::directory(data, format!("data of {}", user.name)));
            }
        }
        evidence
    }

    fn remedies(&self, package: u32) -> Vec<Remedy> {
        let revision = &self.revisions[package as usize];
        let instance = &self.snap(revision).instance;
        let command = match self.is_active(revision) {
            true => format!("sudo snap remove {instance}"),
            false => format!("sudo snap remove {instance} --revision {}", revision.name),
        };
        vec![Remedy::new(RemedyKind::Remove, command)]
    }

    /// Versions are free text without an order of their own; Debian's is the closest to what users mean.
    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        debian::compare(a, b)
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

impl FileIndex for SnapInstallation<'_> {
    fn claims_on(&self, canonical: &[u8]) -> Vec<PathClaim> {
        self.tree_over(canonical).map(|(package, tree)| PathClaim::tree(package, tree)).into_iter().collect()
    }
}

impl Catalogue for SnapInstallation<'_> {
    fn offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        let is_asked = |name: &[u8]| match asked {
            OfferQuery::Installed => self.snaps.iter().any(|snap| *snap.instance == *name),
            OfferQuery::Names(_) => asked.has(name),
        };
        let (mut offers, lost) = offers::offers(self.host, &is_asked);
        self.late.lock().unwrap_or_else(PoisonError::into_inner).extend(lost);
        for (number, revision) in (0..).zip(&self.revisions) {
            let name = &self.snap(revision).instance;
            if !is_asked(name) || !self.is_active(revision) {
                continue;
            }
            let version = self.about(revision).ok().and_then(|about| about.version.clone());
            // The same version: one offer, with the date of the store's list.
            let listed = offers.iter_mut().find(|offer| offer.name == *name && offer.version == version);
            if let Some(listed) = listed.filter(|listed| listed.version.is_some()) {
                listed.installed = true;
                listed.channel = self.snap(revision).channel.clone();
                continue;
            }
            offers.push(Offer {
                version,
                channel: self.snap(revision).channel.clone(),
                source: self.origin(revision),
                installed: true,
                evidence: self.package_evidence(number).into_iter().take(1).collect(),
                ..Offer::bare(ID, Scope::System, name.clone(), ByteString::default(), None, false)
            });
        }
        mark_candidates(&mut offers, &debian::compare);
        let installed: Vec<ByteString> =
            offers.iter().filter(|one| one.installed).map(|one| one.name.clone()).collect();
        for one in offers.iter_mut().filter(|one| one.version.is_none()) {
            one.candidate = one.installed || !installed.contains(&one.name);
        }
        offers.sort_by(|a, b| a.name.cmp(&b.name));
        offers
    }

    fn install_command(&self, offer: &Offer) -> Option<String> {
        let is_here = self.snaps.iter().any(|snap| snap.instance == offer.name);
        Some(format!("sudo snap {} {}", if is_here { "refresh" } else { "install" }, shell_word(&offer.name)))
    }
}

impl Launching for SnapInstallation<'_> {
    fn exec_target(&self, canonical: &[u8]) -> Option<ExecTarget> {
        let (number, app) = self.of_command(canonical)?;
        let revision = &self.revisions[number as usize];
        let apps = &self.about(revision).ok()?.apps;
        let command = apps.iter().find(|(name, _, _)| name.as_bytes() == app)?.1.as_ref()?;
        let program = command.split(' ').next()?;
        let mount = path::join(&path::join(MOUNTS, &self.snap(revision).instance), &revision.name);
        Some(ExecTarget::wrapper(path::join(&mount, program.trim_start_matches('/').as_bytes())))
    }

    fn launcher_dirs(&self) -> Vec<(ByteString, String)> {
        let how = "a login adds it, by /etc/profile.d/apps-bin-path.sh or environment.d".to_owned();
        vec![(path::join(SNAPD, b"desktop"), how)]
    }

    fn started_by(&self, words: &[String]) -> Option<u32> {
        words.iter().find_map(|word| self.of_command(word.as_bytes())).map(|(number, _)| number)
    }

    fn starts_as(&self, name: &[u8]) -> Vec<(u32, ByteString)> {
        let active = self.active(name).into_iter();
        active.map(|number| (number, ByteString::from([b"snap run ", name].concat()))).collect()
    }
}

impl History for SnapInstallation<'_> {
    /// The revisions that are kept of each snap of which there are several.
    fn states(&self) -> Vec<State> {
        let mut states: Vec<State> = Vec::new();
        let mut before: HashMap<usize, Option<ByteString>> = HashMap::new();
        for (number, revision) in (0..).zip(&self.revisions) {
            let snap = self.snap(revision);
            if snap.revisions.len() < 2 {
                continue;
            }
            let version = self.about(revision).ok().and_then(|about| about.version.clone());
            let from = before.insert(revision.snap, version.clone());
            let name = snap.instance.clone();
            states.push(State {
                manager: ID,
                scope: Scope::System,
                holder: name.clone(),
                number: revision.name.clone(),
                made_at: None,
                current: self.is_active(revision),
                added: Vec::new(),
                removed: Vec::new(),
                changed: from.map(|from| Change { name, from, to: version }).into_iter().collect(),
                evidence: self.package_evidence(number).into_iter().take(1).collect(),
            });
        }
        states
    }
}
