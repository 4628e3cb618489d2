//! A package as a small record has it.

use super::purl;
use crate::backend::Detail;
use crate::backend::dependency_graph::{Need, Want};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{
    CommandLine, Evidence, Location, Origin, Owner, Package, Reason, Relation, Remedy, RemedyKind, Status,
};

/// One package as its manager's record has it.
#[derive(Debug, Clone)]
pub struct InstalledPackage {
    /// Its name.
    pub name: ByteString,
    /// Its version.
    pub version: Option<ByteString>,
    /// What its id ends in, where that is not the name.
    pub tail: Option<ByteString>,
    /// What sort of unit it is.
    pub kind: &'static str,
    /// The architecture.
    pub arch: Option<ByteString>,
    /// The channel that it follows.
    pub channel: Option<ByteString>,
    /// The manager's own revision.
    pub revision: Option<ByteString>,
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
    /// Programs that it puts into program directories.
    pub commands: Vec<ByteString>,
    /// The type and name of its package URL; the version is added.
    pub purl: Option<&'static str>,
    /// Canonical directories, or files, that it owns with everything in them.
    pub trees: Vec<ByteString>,
    /// Canonical paths that it owns one by one, and where the record says so.
    pub places: Vec<(ByteString, Evidence)>,
    /// Other names by which users call it.
    pub also: Vec<ByteString>,
    /// The directory or file of its own in the manager's state.
    pub entry: ByteString,
    /// The directory below which the paths of its list are; empty where they are whole.
    pub prefix: ByteString,
    /// Groups that it is a member of.
    pub groups: Vec<ByteString>,
    /// Its own record, where another manager may have put it there: see
    /// [`crate::backend::SharedDirs::foreign_packages`].
    pub record: Option<ByteString>,
    /// What it needs of other packages; see [`super::SimpleBackend::reads_needs`].
    pub needs: Vec<Need>,
    /// What it offers to others besides its name, such as a library or a command.
    pub provides: Vec<ByteString>,
    /// Programs that its record names and that do not exist.
    pub missing: Vec<ByteString>,
    /// Where all this stands.
    pub evidence: Vec<Evidence>,
    /// Commands with which a user acts on it.
    pub remedies: Vec<Remedy>,
}

impl InstalledPackage {
    /// A package of which only the name and the kind are known.
    pub fn new(kind: &'static str, name: impl Into<ByteString>) -> Self {
        InstalledPackage {
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
            entry: ByteString::default(),
            prefix: ByteString::default(),
            groups: Vec::new(),
            record: None,
            needs: Vec::new(),
            provides: Vec::new(),
            missing: Vec::new(),
            evidence: Vec::new(),
            remedies: Vec::new(),
        }
    }

    /// One of several versions that are kept side by side: its id ends in `NAME/VERSION`.
    pub fn kept(kind: &'static str, name: impl Into<ByteString>, version: impl Into<ByteString>) -> Self {
        let (name, version) = (name.into(), version.into());
        let tail = Some(path::join(&name, &version));
        InstalledPackage { version: Some(version), tail, ..InstalledPackage::new(kind, name) }
    }

    /// It as answers tell it, with what `detail` asks for; `dir` is where the installation is.
    pub(super) fn told(&self, owner: Owner, dir: &ByteString, detail: Detail) -> Package {
        let purl =
            self.purl.filter(|_| detail.evidence).and_then(|kind| purl(kind, &self.name, self.version.as_deref()));
        Package {
            id: owner.id,
            manager: owner.manager,
            scope: owner.scope,
            location: dir.clone(),
            name: owner.name,
            version: owner.version,
            arch: self.arch.clone(),
            kind: self.kind.to_owned(),
            channel: self.channel.clone(),
            revision: self.revision.clone(),
            origin: self.origin.clone(),
            reason: self.reason,
            held: self.held,
            active: self.active,
            status: self.status,
            confinement: Some("none".to_owned()),
            installed_at: self.installed_at,
            size: self.size,
            commands: self.commands.clone(),
            launchers: Vec::new(),
            title: None,
            purl,
            evidence: if detail.evidence { self.evidence.clone() } else { Vec::new() },
        }
    }

    /// Adds something that it needs: a package's name, or what a package provides.
    pub fn need(&mut self, name: &[u8]) {
        self.needs.push(Need::of(name, Relation::Requires));
    }

    /// Adds a need that any of these names meets.
    pub fn need_any(&mut self, names: &[&[u8]]) {
        let says: Vec<String> = names.iter().map(|name| ByteString::from(*name).to_string()).collect();
        let any_of = names.iter().map(|name| Want { name: name.to_vec(), version: None }).collect();
        self.needs.push(Need { any_of, says: says.join(" or "), relation: Relation::Requires });
    }

    /// Adds a program that it puts into a program directory, and where the record says so.
    pub fn bring(&mut self, program: ByteString, evidence: Evidence) {
        self.commands.push(program.clone());
        self.places.push((program, evidence));
    }

    /// Looks at the directory where a record says that it lies: since when, or that it is gone.
    pub fn look_at(&mut self, host: &Host, dir: &[u8]) {
        match host.root.entry(dir) {
            Ok(meta) => self.installed_at = Some(meta.modified),
            Err(_) => self.status = Status::Broken,
        }
    }

    /// Owns a directory that a user's record names: nothing outside the user's home, and not all of that.
    pub fn own_in_home(&mut self, dir: ByteString, home: &ByteString) {
        if path::within(&dir, home) && dir != *home {
            self.trees.push(dir);
        }
    }

    /// Its name and its version, as evidence says them.
    pub fn with_version(&self) -> String {
        format!("{} {}", self.name, self.version.as_deref().map(ByteString::from).unwrap_or_default())
    }

    /// The file in which it is recorded, else the installation's directory.
    pub(super) fn record_file(&self, at: &Location) -> ByteString {
        self.evidence.first().map_or_else(|| at.dir.clone(), |one| one.file.clone())
    }

    /// Adds a way to act on it.
    #[must_use]
    pub fn remedy(mut self, kind: RemedyKind, command: CommandLine) -> Self {
        self.remedies.push(Remedy::new(kind, command));
        self
    }
}
