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
mod package;
mod relations;

use std::cmp::Ordering;

use hashbrown::HashSet;

pub use catalogue::SimpleCatalogue;
pub use dirs::{MAX_SCRIPT, Script, dirs_in, is_dir, launchers_in, link_target, links_into, parsed, scripts_in};
pub use installation::SimpleInstallation;
pub use lists::{FileLists, cut, each_line, each_list, each_record, whole};
pub use offered::CatalogueQuery;
pub use package::InstalledPackage;

use crate::backend::dependency_graph::Node;
use crate::backend::{Inner, Installation, Rehearsal, Removal};
use crate::bytes::ByteString;
use crate::host::{Host, User};
use crate::model::{
    Actor, Event, Evidence, ExecTarget, FileRecord, Finding, Location, Loss, ManagerId, Origin, Remedy, Scope,
};
use crate::version::Scheme;

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

    /// Whether the manager calls an installation broken in which nothing meets a hard need of [`SimpleBackend::nodes`].
    fn demands_needs(&self) -> bool {
        false
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
    let (mut dirs, mut scopes) = (HashSet::new(), HashSet::new());
    for (scope, dir) in places {
        let dir = host.root.canonicalize_dir(&dir);
        if dirs.contains(&dir) || !is_one(&dir) {
            continue;
        }
        dirs.insert(dir.clone());
        let scope = if scopes.insert(scope.clone()) { scope } else { Scope::Environment(dir.clone()) };
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
