//! Holdings of managers whose whole record is small enough to be read at once, on first use.
//!
//! Such a manager says what is installed ([`Keeper::read`]) and in which folders everything lies that it
//! can claim ([`Keeper::domain`]); a path outside them never makes it read anything. Packages own whole
//! trees, single paths, or both.

mod holdings;

use std::cmp::Ordering;

use rayon::prelude::*;

pub use holdings::Roster;

use crate::model::{
    Asked, Digest, Evidence, Installation, Lead, Offer, Origin, Reason, Recorded, Remedy, Scope, Status, Wanted,
};
use crate::root::{Kind, Limit, Root};
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
    /// Its own record, where another manager may have put it there: see [`crate::managers::Holdings::yields`].
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

    /// What is recorded of every file of these items, each with its number; what could not be read is added to
    /// `notes`.
    fn recorded(&self, scene: &Scene, items: &[(u32, &Item)], notes: &mut Vec<String>) -> Vec<Recorded> {
        self.lists().map_or(Vec::new(), |lists| lists.recorded(scene, items, notes))
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

/// Lists that stand each in a file of its package's own: reads and looks through them in parallel, and hands what
/// `find` found in each (paths with the lines that name them) to `take`. A package that `may_lack` one need have none.
pub fn each_list(
    root: &Root,
    items: &[Item],
    file: impl Fn(&Item) -> Text + Sync,
    may_lack: impl Fn(&Item) -> bool,
    find: impl Fn(&[u8]) -> Vec<(Text, u32)> + Sync,
    notes: &mut Vec<String>,
    take: &mut dyn FnMut(u32, &[u8], u32),
) {
    let read = |item: &Item| root.read(&file(item), Limit::LIST).map(|content| find(&content));
    let read: Vec<_> = items.par_iter().map(read).collect();
    for ((number, item), read) in (0..).zip(items).zip(read) {
        match read {
            Ok(files) => files.iter().for_each(|(file, line)| take(number, file, *line)),
            Err(error) if error.is_missing() && may_lack(item) => {}
            Err(error) => notes.push(format!("{error}: the files of {} are not known", item.name)),
        }
    }
}

/// What is recorded of files where each package has a record of its own: reads them in parallel. What one of them is
/// lost for is added to `notes`.
pub fn each_record(
    items: &[(u32, &Item)],
    of_item: impl Fn(u32, &Item) -> Result<Vec<Recorded>, String> + Sync,
    notes: &mut Vec<String>,
) -> Vec<Recorded> {
    let read: Vec<_> = items.par_iter().map(|(number, item)| of_item(*number, item)).collect();
    let mut found = Vec::new();
    for (read, (_, item)) in read.into_iter().zip(items) {
        match read {
            Ok(files) => found.extend(files),
            Err(cause) => notes.push(format!("{cause}: whether files of {} are altered is not known", item.name)),
        }
    }
    found
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

    /// What is recorded of every file of these items, each with its number; what could not be read is added to
    /// `notes`.
    fn recorded(&self, scene: &Scene, items: &[(u32, &Item)], notes: &mut Vec<String>) -> Vec<Recorded> {
        let _ = (scene, items, notes);
        Vec::new()
    }

    /// The items that cannot stay once some are removed, each with where it says so; `None` where that is not read.
    fn dependents(&self, scene: &Scene, items: &[Item], removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let _ = (scene, items, removed);
        None
    }

    /// The command that puts a package's own files back.
    fn restore(&self, item: &Item) -> Option<String> {
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

/// Whose an installation at this settled place is: the person's in whose home it lies, else the system's.
pub fn scope_of(scene: &Scene, place: &[u8]) -> Scope {
    scene.at_home(place).map_or(Scope::System, |person| Scope::User(person.name.clone()))
}

/// The scope of a person.
pub fn of(person: &Person) -> Scope {
    Scope::User(person.name.clone())
}
