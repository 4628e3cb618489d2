//! The revisions of all snaps.

use std::sync::{Mutex, OnceLock};

use super::refresh::Refresh;
use super::revision::{self, About};
use super::state::{self, Connection, FileRecord, Recorded};
use super::{ID, MOUNTS, SNAPD, refresh};
use crate::backend::{Detail, Installation};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::Host;
use crate::model::{Location, Loss, Origin, Package, Reason, Scope, Status};

/// One revision of one snap.
pub(super) struct Revision {
    pub(super) snap: usize,
    pub(super) name: ByteString,
    pub(super) snap_id: Option<String>,
    pub(super) about: OnceLock<Result<About, String>>,
}

/// All of them.
pub struct SnapInstallation<'s> {
    pub(super) host: &'s Host,
    pub(super) location: Location,
    pub(super) snaps: Vec<FileRecord>,
    pub(super) revisions: Vec<Revision>,
    /// Which snap uses content of which.
    pub(super) connections: Vec<Connection>,
    pub(super) by_state: bool,
    pub(super) notes: Vec<Loss>,
    /// What could not be read when it was needed.
    pub(super) late: Mutex<Vec<Loss>>,
    /// When snaps are refreshed, and which are held; read on first use.
    pub(super) refresh: OnceLock<Refresh>,
}

impl<'s> SnapInstallation<'s> {
    /// Reads which revisions there are, and what each says of itself.
    pub fn read(host: &'s Host) -> Self {
        let mut notes = Vec::new();
        let Recorded { snaps, connections, by_state } = state::read(&host.root, &mut notes);
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
        let location = Location { manager: ID, scope: Scope::System, dir: SNAPD.into() };
        SnapInstallation {
            host,
            location,
            snaps,
            revisions,
            connections,
            by_state,
            notes,
            late: Mutex::default(),
            refresh: OnceLock::new(),
        }
    }

    pub(super) fn refresh(&self) -> &Refresh {
        self.refresh.get_or_init(|| refresh::read(&self.host.root))
    }

    pub(super) fn snap(&self, revision: &Revision) -> &FileRecord {
        &self.snaps[revision.snap]
    }

    /// What the revision says of itself; read on first use, for it may have to be unpacked.
    pub(super) fn about<'r>(&self, revision: &'r Revision) -> Result<&'r About, &'r String> {
        let read = || revision::about(&self.host.root, &self.snap(revision).instance, &revision.name);
        revision.about.get_or_init(read).as_ref()
    }

    pub(super) fn is_active(&self, revision: &Revision) -> bool {
        let snap = self.snap(revision);
        snap.active && snap.current.as_ref() == Some(&revision.name)
    }

    pub(super) fn number_of(&self, fits: impl Fn(&Revision) -> bool) -> Option<u32> {
        self.revisions.iter().position(fits).and_then(|place| u32::try_from(place).ok())
    }

    pub(super) fn active(&self, instance: &[u8]) -> Option<u32> {
        self.number_of(|revision| self.is_active(revision) && *self.snap(revision).instance == *instance)
    }

    pub(super) fn id(&self, revision: &Revision) -> ByteString {
        let place = format!("{ID}/{}/", Scope::System);
        path::join(&ByteString::from([place.as_bytes(), &self.snap(revision).instance].concat()), &revision.name)
    }

    pub(super) fn status(&self, revision: &Revision) -> Status {
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
    pub(super) fn command(instance: &ByteString, app: &str) -> ByteString {
        let bare = instance.split(|&b| b == b'_').next().unwrap_or_default();
        match bare == app.as_bytes() {
            true => instance.clone(),
            false => [instance.as_bytes(), b".", app.as_bytes()].concat().into(),
        }
    }

    pub(super) fn commands(&self, revision: &Revision) -> Vec<ByteString> {
        let (Ok(about), true) = (self.about(revision), self.is_active(revision)) else { return Vec::new() };
        let snap = self.snap(revision);
        let apps = about.apps.iter().filter(|(_, _, is_service)| !is_service);
        let names = apps.map(|(app, _, _)| Self::command(&snap.instance, app));
        let aliases = snap.aliases.iter().map(|(alias, _)| ByteString::from(alias.as_str()));
        let links = names.chain(aliases).map(|name| path::join(&path::join(MOUNTS, b"bin"), &name));
        links.filter(|link| self.host.root.entry(link).is_ok()).collect()
    }

    pub(super) fn launchers(&self, revision: &Revision) -> Vec<ByteString> {
        if !self.is_active(revision) {
            return Vec::new();
        }
        // In a parallel instance the underscore is written as a plus.
        let instance: Vec<u8> =
            self.snap(revision).instance.iter().map(|&b| if b == b'_' { b'+' } else { b }).collect();
        let start = [instance.as_slice(), b"_"].concat();
        let dir = path::join(SNAPD, b"desktop/applications");
        let names = self.host.root.names_in(&dir);
        let fitting = names.into_iter().filter(|(name, _)| name.starts_with(&start) && name.ends_with(b".desktop"));
        fitting.map(|(name, _)| name).collect()
    }

    pub(super) fn origin(&self, revision: &Revision) -> Option<Origin> {
        if revision.name.starts_with(b"x") {
            return Some(Origin::local("file", "a local file", None));
        }
        let (name, _, _) = revision::publisher(&self.host.root, revision.snap_id.as_ref()?)?;
        Some(Origin::third_party("publisher", name, None))
    }

    pub(super) fn confinement(&self, revision: &Revision) -> Option<String> {
        let flags = &self.snap(revision).flags;
        let loose = flags.iter().find(|flag| matches!(**flag, "classic" | "devmode")).map(|flag| (*flag).to_owned());
        loose.or_else(|| self.about(revision).ok()?.confinement.clone())
    }

    pub(super) fn package(&self, number: u32, detail: Detail) -> Package {
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
            // Whether a base came along with an app is not recorded.
            reason: if kind == "app" { Reason::Explicit } else { Reason::Unknown },
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
    pub(super) fn of_command<'a>(&self, link: &'a [u8]) -> Option<(u32, &'a [u8])> {
        let name = link.strip_prefix(MOUNTS)?.strip_prefix(b"/bin/")?;
        let (instance, app) = match memchr::memchr(b'.', name) {
            Some(at) => (&name[..at], &name[at + 1..]),
            None => (name, name.split(|&b| b == b'_').next().unwrap_or_default()),
        };
        self.active(instance).map(|number| (number, app))
    }
}
