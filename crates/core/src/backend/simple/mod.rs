//! Installations of managers whose whole record is small enough to be read at once, on first use.
//!
//! Such a manager says what is installed ([`SimpleBackend::read`]) and in which directories everything lies that it
//! can claim ([`SimpleBackend::domain`]); a path outside them never makes it read anything. Packages own whole
//! trees, single paths, or both.

mod catalogue;
mod dirs;
mod installation;
mod lists;
mod offered;
mod relations;

use std::cmp::Ordering;

pub use catalogue::SimpleCatalogue;
pub use dirs::{MAX_SCRIPT, Script, dirs_in, is_dir, launchers_in, link_target, links_into, parsed, scripts_in};
pub use installation::SimpleInstallation;
pub use lists::{FileLists, each_line, each_list, each_record, whole};
pub use offered::CatalogueQuery;

use crate::backend::dependency_graph::{Need, Node, Want};
use crate::backend::{Inner, Installation, Rehearsal, Removal};
use crate::bytes::{ByteString, path};
use crate::host::{Host, User};
use crate::model::{
    Actor, CommandLine, Event, Evidence, ExecTarget, FileRecord, Finding, Location, Loss, ManagerId, Origin, Reason,
    Relation, Remedy, RemedyKind, Scope, Status,
};
use crate::version::Scheme;

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
    /// Groups that it is a member of.
    pub groups: Vec<ByteString>,
    /// Its own record, where another manager may have put it there: see
    /// [`crate::backend::SharedDirs::foreign_packages`].
    pub record: Option<ByteString>,
    /// What it needs of other packages; see [`SimpleBackend::reads_needs`].
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

    /// Its name and its version, as evidence says them.
    pub fn with_version(&self) -> String {
        format!("{} {}", self.name, self.version.as_deref().map(ByteString::from).unwrap_or_default())
    }

    /// The file in which it is recorded, else the installation's directory.
    fn record_file(&self, at: &Location) -> ByteString {
        self.evidence.first().map_or_else(|| at.dir.clone(), |one| one.file.clone())
    }

    /// Adds a way to act on it.
    #[must_use]
    pub fn remedy(mut self, kind: RemedyKind, command: CommandLine) -> Self {
        self.remedies.push(Remedy::new(kind, command));
        self
    }
}

/// What one installation holds.
#[derive(Debug, Clone, Default)]
pub struct Record {
    /// Its packages.
    pub items: Vec<InstalledPackage>,
    /// What could not be read, and what that hides.
    pub notes: Vec<Loss>,
    /// What its files contradict one another about.
    pub contradictions: Vec<Finding>,
}

/// A manager's way with one installation.
pub trait SimpleBackend: Send + Sync {
    /// Reads the whole record.
    fn read(&self, host: &Host, at: &Location) -> Record;

    /// Whether [`InstalledPackage::needs`] is complete. A manager whose packages need no others says so too.
    fn reads_needs(&self) -> bool {
        false
    }

    /// What every item needs and offers; `None` where that is not read.
    fn nodes(&self, host: &Host, items: &[InstalledPackage]) -> Option<Vec<Node>> {
        let _ = host;
        let node = |(number, item): (u32, &InstalledPackage)| Node {
            number,
            offers: std::iter::once(&item.name).chain(&item.provides).map(|name| (name.to_vec(), None)).collect(),
            needs: item.needs.clone(),
        };
        self.reads_needs().then(|| (0..).zip(items).map(node).collect())
    }

    /// The manager's ordering of a version against one that is needed.
    fn order_of_needs(&self, version: &[u8], needed: &[u8]) -> Ordering {
        self.scheme().compare(version, needed)
    }

    /// The command that removes these items, which came along with others and which nothing needs, and nothing else.
    /// `None` where it is not known what nothing needs.
    fn remove_unneeded(&self, items: &[&InstalledPackage]) -> Option<Remedy> {
        let _ = items;
        None
    }

    /// Removes these items at once and nothing else; see [`crate::backend::Installation::removal`].
    fn removal(&self, items: &[&InstalledPackage]) -> Option<Removal> {
        let _ = items;
        None
    }

    /// What tells whether an item of this name is installed; see [`crate::backend::Installation::query`].
    fn query(&self, name: &[u8], version: Option<&[u8]>) -> Option<Rehearsal> {
        let _ = (name, version);
        None
    }

    /// Goes to another version of an item; see [`crate::backend::Installation::go_to_version`].
    fn go_to_version(&self, host: &Host, item: &InstalledPackage, version: &[u8]) -> Option<Removal> {
        let _ = (host, item, version);
        None
    }

    /// The packages of a name that lie inside items; see [`crate::backend::Relations::inner`].
    fn inner(&self, host: &Host, items: &[InstalledPackage], name: &[u8]) -> Vec<Inner> {
        let _ = (host, items, name);
        Vec::new()
    }

    /// Where an item declares a need.
    fn need_evidence(&self, at: &Location, item: &InstalledPackage, says: &str) -> Evidence {
        Evidence::at(item.record_file(at), "requirement", format!("needs {says}"))
    }

    /// Whether it installs the distribution itself: where that comes as an image, its commands change nothing.
    fn is_of_distribution(&self) -> bool {
        false
    }

    /// Who has to run the commands that change it.
    fn actor(&self, host: &Host, at: &Location) -> Actor {
        crate::backend::advice::actor_of(host, at)
    }

    /// Canonical directories in which everything lies that can be claimed or that starts something else.
    fn domain(&self, host: &Host, at: &Location) -> Vec<ByteString> {
        let _ = host;
        // Where all stands in lists, no place of its own tells.
        if self.lists().is_some() { Vec::new() } else { vec![at.dir.clone()] }
    }

    /// How the manager orders its versions.
    fn scheme(&self) -> Scheme;

    /// Where a file in the domain leads when it is started.
    fn exec_target(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ExecTarget> {
        let _ = (host, at, canonical);
        None
    }

    /// Where a link in the domain leads, if it is one that this manager places when it leads into a tree of its own.
    fn linked(&self, host: &Host, at: &Location, canonical: &[u8]) -> Option<ByteString> {
        let _ = (host, at, canonical);
        None
    }

    /// Directories in which the manager puts programs.
    fn collects(&self, at: &Location, target: &[u8]) -> Option<&'static str> {
        let _ = (at, target);
        None
    }

    /// Directories with the programs that it installs.
    fn program_dirs(&self, host: &Host, at: &Location) -> Vec<ByteString> {
        let _ = (host, at);
        Vec::new()
    }

    /// What the manager's sources offer, if any of it is kept on the machine.
    fn catalogue(&self) -> Option<&dyn SimpleCatalogue> {
        None
    }

    /// What the manager wrote down of what it did, in the order of its log; losses are added to `notes`.
    fn events(&self, host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Event> {
        let _ = (host, at, notes);
        Vec::new()
    }

    /// The lists of files that the manager keeps, if it does keep any.
    fn lists(&self) -> Option<&dyn FileLists> {
        None
    }

    /// The record of every file of these items, each with its number; losses are added to
    /// `notes`.
    fn file_records(&self, host: &Host, items: &[(u32, &InstalledPackage)], notes: &mut Vec<Loss>) -> Vec<FileRecord> {
        self.lists().map_or(Vec::new(), |lists| lists.file_records(host, items, notes))
    }

    /// Where each package came from, where that takes more reading than the record itself; what could not be
    /// read is added to `notes`.
    fn origins(
        &self,
        host: &Host,
        at: &Location,
        items: &[InstalledPackage],
        notes: &mut Vec<Loss>,
    ) -> Option<Vec<Option<Origin>>> {
        let _ = (host, at, items, notes);
        None
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

/// The scope of an installation at this canonical path: the user in whose home it is, otherwise the system.
pub fn scope_of(host: &Host, place: &[u8]) -> Scope {
    host.home_owner(place).map_or(Scope::System, |user| Scope::User(user.name.clone()))
}

/// The scope of one more installation: of several with the same, the first has it, and each other is told apart by its
/// place.
pub fn scope_apart(held: &[Box<dyn Installation + '_>], scope: Scope, place: &ByteString) -> Scope {
    let is_taken = held.iter().any(|one| one.location().scope == scope);
    if is_taken { Scope::Environment(place.clone()) } else { scope }
}

/// An installation in each of these directories that `is_one`, each directory once, with what `backend` makes of it. One
/// whose scope another has already is told apart by its place.
pub fn at_each<'h, K: SimpleBackend + 'h>(
    host: &'h Host,
    id: ManagerId,
    places: impl IntoIterator<Item = (Scope, ByteString)>,
    is_one: impl Fn(&ByteString) -> bool,
    backend: impl Fn(&ByteString) -> K,
) -> Vec<Box<dyn Installation + 'h>> {
    let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
    for (scope, dir) in places {
        let dir = host.root.canonicalize_dir(&dir);
        if held.iter().any(|one| one.location().dir == dir) || !is_one(&dir) {
            continue;
        }
        let scope = scope_apart(&held, scope, &dir);
        let made = backend(&dir);
        held.push(SimpleInstallation::boxed(host, id, scope, dir, made));
    }
    held
}

/// The installation of each user who has one: `find` looks for its directory, and says how what is there is read.
pub fn of_each_user<'h, K: SimpleBackend + 'h>(
    host: &'h Host,
    id: ManagerId,
    find: impl Fn(&'h User) -> Option<(ByteString, K)>,
) -> Vec<Box<dyn Installation + 'h>> {
    let open = |user| -> Option<Box<dyn Installation + 'h>> {
        let (dir, backend) = find(user)?;
        Some(SimpleInstallation::boxed(host, id, of(user), host.root.canonicalize_dir(&dir), backend))
    };
    host.users.iter().filter_map(open).collect()
}

/// The scope of a user.
pub fn of(user: &User) -> Scope {
    Scope::User(user.name.clone())
}
