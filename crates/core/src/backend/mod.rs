//! The contract of a package manager: what every one has to tell, and one trait per capability that only some have.
//!
//! A [`Manager`] discovers its [`Installation`]s on a host. An installation says which capabilities it has by returning
//! them: [`Installation::file_index`] and its siblings are `None` where a manager records nothing of the kind. A
//! reader of one capability need not know the others. Managers whose record is one small list implement
//! [`simple::SimpleBackend`] instead.

pub mod advice;
pub mod app_bundles;
mod caches;
mod catalogue;
pub(crate) mod closure;
pub(crate) mod components;
pub(crate) mod dependency_graph;
mod environments;
mod file_index;
mod file_records;
mod history;
pub(crate) mod index_settings;
pub mod jobs;
pub(crate) mod keys;
pub mod launcher_files;
mod launching;
pub(crate) mod listed;
pub(crate) mod log;
pub(crate) mod parts;
mod relations;
mod removal;
pub(crate) mod runtimes;
mod shared_dirs;
pub mod simple;
pub(crate) mod sqlite;
mod upkeep;
pub(crate) mod version_dirs;

pub use caches::CachePlace;
pub(crate) use catalogue::mark_candidates;
pub use catalogue::{Catalogue, Unsearched};
pub use environments::{Bypass, Environment, Environments};
pub use file_index::FileIndex;
pub use file_records::FileRecords;
pub(crate) use file_records::{BATCH, wanted};
pub use history::History;
pub use launching::Launching;
pub use log::Log;
pub use relations::{Inner, InnerPackage, Relations, Requirement, Unmet, Unneeded};
pub use removal::{Builds, Rehearsal, Removal, Unattended, unattended};
pub use shared_dirs::SharedDirs;
pub use upkeep::{Automatic, UpgradeCall, Upkeep};

use crate::bytes::ByteString;
use crate::host::Host;
use crate::model::{
    Actor, Coverage, Evidence, Finding, Language, Location, Loss, ManagerId, Owner, Package, Profile, Remedy, Source,
};
use crate::version::Scheme;

/// A package manager whose state can be read from disk.
pub trait Manager: Sync {
    /// The name by which users call it, and by which `--manager` selects it.
    fn id(&self) -> ManagerId;

    /// What is known about the manager without looking at a machine.
    fn profile(&self) -> Profile;

    /// Finds every installation of this manager, system-wide and of each user, and reads which packages it has;
    /// installations of one manager can share what they read. Damage costs the damaged record, never the call: what
    /// was lost is in [`Installation::coverage`].
    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>>;

    /// Where it keeps what it fetched, or can make again.
    fn caches(&self) -> &'static [CachePlace] {
        &[]
    }

    /// The calls of its programs that upgrade everything: each a program with the words of which one must be there.
    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[]
    }

    /// How its commands are written in a script, where nobody answers their questions. None where they ask nothing.
    fn unattended(&self) -> &'static [Unattended] {
        &[]
    }

    /// The indexes that are configured for it apart from any installation: in a user's or a project's settings.
    /// Losses are added to `notes`.
    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        let _ = (host, notes);
        Vec::new()
    }
}

/// One place where a manager keeps its state. Its packages are numbered from 0, and the numbers do not change.
pub trait Installation: Send + Sync {
    /// The manager, the scope and the directory.
    fn location(&self) -> &Location;

    /// Who has to run the commands that change it.
    fn actor(&self, host: &Host) -> Actor {
        advice::actor_of(host, self.location())
    }

    /// How completely it was read so far; later reads can add notes. Empty if nothing was found that could be called
    /// an installation, or if the question had no need of it; several if it covers several directories.
    fn coverage(&self) -> Vec<Coverage>;

    /// Every package in full, in the order of their numbers. What `detail` does not ask for stays `null` or empty and
    /// is not read.
    fn packages(&self, detail: Detail) -> Vec<Package>;

    /// The same, each with its number. An installation whose numbers have gaps gives them here.
    fn numbered(&self, detail: Detail) -> Vec<(u32, Package)> {
        (0..).zip(self.packages(detail)).collect()
    }

    /// One package in full; `None` if there is none with this number.
    fn in_full(&self, package: u32, detail: Detail) -> Option<Package> {
        self.numbered(detail).into_iter().find(|(number, _)| *number == package).map(|(_, package)| package)
    }

    /// One package in short.
    ///
    /// # Panics
    /// If there is no package with this number.
    fn owner(&self, package: u32) -> Owner;

    /// The numbers of the packages that a user means by `name`.
    fn named(&self, name: &[u8]) -> Vec<u32>;

    /// Whether the package's files should exist: not so once it is removed and only its configuration files remain.
    fn is_present(&self, package: u32) -> bool {
        let _ = package;
        true
    }

    /// Where the record of a package itself is, and what it says.
    fn package_evidence(&self, package: u32) -> Vec<Evidence>;

    /// The manager's own commands for a package, the safest first.
    fn remedies(&self, package: u32) -> Vec<Remedy>;

    /// Removes these packages at once and nothing else, with their settings files if `with_settings`. `None` where one
    /// of [`Installation::remedies`] is all there is for each.
    fn removal(&self, packages: &[u32], with_settings: bool) -> Option<Removal> {
        let _ = (packages, with_settings);
        None
    }

    /// What tells whether a package of this name is installed, at this version if one is given. `None` where no command
    /// tells just that.
    fn query(&self, name: &[u8], version: Option<&[u8]>) -> Option<Rehearsal> {
        let _ = (name, version);
        None
    }

    /// Goes to another version of a package, which the machine has or a source offers; `None` where neither does, or
    /// where no command for that is known to work.
    fn go_to_version(&self, package: u32, version: &[u8]) -> Option<Removal> {
        let _ = (package, version);
        None
    }

    /// What a package is at, and was at before, where its versions are told apart by builds: then a build's identity is
    /// what [`Installation::go_to_version`] and [`Installation::query`] take as a version.
    fn builds(&self, package: u32) -> Option<Builds> {
        let _ = package;
        None
    }

    /// The settings files that the manager records for a package, or keeps of one that is removed. `None` where it
    /// records none as such.
    fn settings_files(&self, package: u32) -> Option<Vec<ByteString>> {
        let _ = package;
        None
    }

    /// The directories and files that are a package's own with everything in them, each with its number.
    fn trees(&self) -> Vec<(u32, ByteString)> {
        Vec::new()
    }

    /// Further names that the manager gives each file of a package, and takes away with the package: those in a repository
    /// from which it lays out what is installed.
    fn names_along(&self) -> u64 {
        0
    }

    /// How the manager orders its versions.
    fn scheme(&self) -> Scheme;

    /// Findings that the manager's own records give.
    fn diagnostics(&self) -> Vec<Finding> {
        Vec::new()
    }

    /// Findings that take a look at everything that the manager stores; only asked for where disk space is the question.
    fn storage_diagnostics(&self) -> Vec<Finding> {
        Vec::new()
    }

    /// When the manager deletes what a link of somebody else's leads to, if it does so by itself; as the end of a
    /// sentence. `None` for what stays, and for what is not the manager's.
    fn collects(&self, link: &ByteString, target: &[u8]) -> Option<&'static str> {
        let _ = (link, target);
        None
    }

    /// What identifies the software of each package, beyond its name, its commands and its launchers; in the order of
    /// [`Installation::packages`], or nothing if nothing more is known.
    fn hints(&self) -> Vec<Hint> {
        Vec::new()
    }

    /// Who claims a path.
    fn file_index(&self) -> Option<&dyn FileIndex> {
        None
    }

    /// What was recorded of each file, for comparison with the disk.
    fn file_records(&self) -> Option<&dyn FileRecords> {
        None
    }

    /// What its sources offer.
    fn catalogue(&self) -> Option<&dyn Catalogue> {
        None
    }

    /// Who keeps its packages current, beyond what jobs and remedies tell.
    fn upkeep(&self) -> Option<&dyn Upkeep> {
        None
    }

    /// Which packages need which.
    fn relations(&self) -> Option<&dyn Relations> {
        None
    }

    /// Wrappers, shims, launchers, and the directories where they are.
    fn launching(&self) -> Option<&dyn Launching> {
        None
    }

    /// Directories that another manager fills as well.
    fn shared_dirs(&self) -> Option<&dyn SharedDirs> {
        None
    }

    /// Self-contained environments of a language.
    fn environments(&self) -> Option<&dyn Environments> {
        None
    }

    /// What the manager wrote down of what it did.
    fn log(&self) -> Option<&dyn Log> {
        None
    }

    /// Numbered states that the manager keeps itself.
    fn history(&self) -> Option<&dyn History> {
        None
    }
}

/// What tells which software a package is.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Hint {
    /// The source that its packagers made it from, where that is called otherwise.
    pub source: Option<ByteString>,
    /// The address of upstream.
    pub upstream: Option<ByteString>,
    /// Programs that an app starts inside its sandbox.
    pub starts: Vec<ByteString>,
    /// The languages whose interpreters it depends on; `None` where that is not known.
    pub runtimes: Option<Vec<Language>>,
}

/// What a reader of packages needs beyond their names and versions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Detail {
    /// Commands and launchers, which stand in the lists of files.
    pub programs: bool,
    /// Dates of installation.
    pub dates: bool,
    /// Evidence and package URLs.
    pub evidence: bool,
    /// Where packages came from, where that stands in catalogues.
    pub origins: bool,
    /// Leave out what merely came along, where there is much of it.
    pub asked_for_only: bool,
}

impl Detail {
    /// Everything there is.
    pub const FULL: Detail =
        Detail { programs: true, dates: true, evidence: true, origins: true, asked_for_only: false };
}
