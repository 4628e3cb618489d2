//! The package managers: one file or folder each, none of which knows another. [`ALL`] is the registry.

pub mod apk;
pub mod appimage;
pub mod cargo;
pub mod conda;
pub mod dpkg;
pub mod eopkg;
pub mod flatpak;
pub mod gem;
pub mod go;
pub mod homebrew;
pub mod javascript;
mod kept;
mod listed;
pub mod macports;
pub mod nix;
pub mod pacman;
pub mod portage;
pub mod python;
mod relations;
pub mod roster;
pub mod rpm;
pub mod rustup;
pub mod snap;
mod sqlite;
pub mod stow;
pub mod versions;

use std::cmp::Ordering;

use hashbrown::HashMap;

use crate::formats::shell::pattern::fits;

use crate::model::{
    Asked, Claim, Claimant, Coverage, Depth, Digest, Evidence, Finding, Installation, Lead, ManagerId, Mark, Offer,
    Owner, Package, PathClaim, Recorded, Remedy, State, Wanted,
};
use crate::scene::Scene;
use crate::text::Text;

/// Every manager that is read.
pub const ALL: &[&dyn Manager] = &[
    &dpkg::Dpkg,
    &rpm::Rpm,
    &pacman::Pacman,
    &apk::Apk,
    &portage::Portage,
    &eopkg::Eopkg,
    &macports::MacPorts,
    &nix::Nix,
    &flatpak::Flatpak,
    &snap::Snap,
    &appimage::AppImage,
    &homebrew::Homebrew,
    &python::Pip,
    &python::Pipx,
    &python::Uv,
    &conda::Conda,
    &javascript::Npm,
    &javascript::Pnpm,
    &javascript::Yarn,
    &cargo::Cargo,
    &rustup::Rustup,
    &go::Go,
    &gem::Gem,
    &versions::Sdkman,
    &versions::PYENV,
    &versions::RBENV,
    &versions::NODENV,
    &versions::GOENV,
    &versions::JENV,
    &versions::Nvm,
    &versions::Fnm,
    &versions::Volta,
    &versions::Asdf,
    &versions::Mise,
    &stow::Stow,
];

/// Whether a manager keeps versions of one thing side by side on purpose.
#[must_use]
pub fn keeps_versions(id: ManagerId) -> bool {
    ALL.iter().any(|manager| manager.id() == id && manager.keeps_versions())
}

/// A package manager whose state can be read from disk.
pub trait Manager: Sync {
    /// The name by which people call it, and by which `--manager` selects it.
    fn id(&self) -> ManagerId;

    /// Whether it keeps versions of one thing side by side on purpose, of which one is chosen.
    fn keeps_versions(&self) -> bool {
        false
    }

    /// Finds every installation of this manager, system-wide and of each person, and reads which
    /// packages it has; installations of one manager can share what they read. Damage costs the damaged
    /// record, never the call: what was lost is in [`Holdings::coverage`].
    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>>;
}

/// What one installation holds. Its packages are numbered from 0.
pub trait Holdings: Sync + Send {
    /// Where this is.
    fn installation(&self) -> &Installation;

    /// How completely it was read so far; later reads can add notes. Nothing where nothing was found that
    /// could be called an installation, or where the question had no need of it; several where the
    /// holdings are those of several places.
    fn coverage(&self) -> Vec<Coverage>;

    /// Every package in full, in the order of their numbers. What `detail` does not ask for stays
    /// `null` or empty and is not read.
    fn packages(&self, detail: Detail) -> Vec<Package>;

    /// One package in short.
    ///
    /// # Panics
    /// When there is no package with this number.
    fn owner(&self, package: u32) -> Owner;

    /// The numbers of the packages that a person means by `name`.
    fn named(&self, name: &[u8]) -> Vec<u32>;

    /// Hands every wanted claim on a single path to `take`, in any order.
    fn claims(&self, wanted: &Wanted, take: &mut dyn FnMut(Claim<'_>)) {
        let _ = (wanted, take);
    }

    /// Claims on one settled path by a manager whose own places tell at once whether the path can be
    /// its business: one that keeps whole trees, such as store paths and deployed bundles, or one whose
    /// records lie with the files, such as a language's environments.
    fn claims_on(&self, settled: &[u8]) -> Vec<PathClaim> {
        let _ = settled;
        Vec::new()
    }

    /// Where a file that this manager made leads when it is started, if that is not the file itself: a
    /// wrapper that starts an app, a shim that chooses a version.
    fn leads_to(&self, settled: &[u8]) -> Option<Lead> {
        let _ = settled;
        None
    }

    /// Folders in which this manager puts programs, whether or not a search path names them.
    fn program_folders(&self) -> Vec<Text> {
        Vec::new()
    }

    /// Packages that stand in a folder which another manager fills as well, each with the path of its
    /// own record: where the other one claims that path, the package is the other's and not this one's.
    fn yields(&self) -> Vec<(u32, Text)> {
        Vec::new()
    }

    /// Whether the package is among those of [`Holdings::yields`].
    fn may_yield(&self, package: u32) -> bool {
        let _ = package;
        false
    }

    /// What a person should know of a program of this package that was found at `path`.
    fn remarks(&self, package: u32, path: &[u8]) -> Vec<Evidence> {
        let _ = (package, path);
        Vec::new()
    }

    /// The data folders in which this manager puts launchers, each with what would make a session search it.
    fn launcher_folders(&self) -> Vec<(Text, String)> {
        Vec::new()
    }

    /// The package whose app a command line starts through this manager's own program.
    fn started_by(&self, words: &[String]) -> Option<u32> {
        let _ = words;
        None
    }

    /// Apps that a person means by a command's name and that no search path reaches, each with what starts it.
    fn starts_as(&self, name: &[u8]) -> Vec<(u32, Text)> {
        let _ = name;
        Vec::new()
    }

    /// Folders that a marker leaves to another manager: each with the marker, and the packages that are in it all the
    /// same.
    fn bypasses(&self) -> Vec<(Text, Evidence, Vec<u32>)> {
        Vec::new()
    }

    /// The packages that cannot stay as they are once these are removed, by what they themselves declare, each with
    /// where it says so; `None` where that is not read of this manager.
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        let _ = removed;
        None
    }

    /// What the manager's own records say that a maintainer should know.
    fn peculiar(&self) -> Vec<Finding> {
        Vec::new()
    }

    /// What tells which software each package is, beyond its name, its commands and its launchers; in the order of
    /// [`Holdings::packages`], or nothing where nothing more is known.
    fn hints(&self) -> Vec<Hint> {
        Vec::new()
    }

    /// The self-contained environments of Python that are found here.
    fn environments(&self) -> Vec<Environment> {
        Vec::new()
    }

    /// The numbered states that the manager keeps itself, oldest first.
    fn states(&self) -> Vec<State> {
        Vec::new()
    }

    /// Whether the package's files should be there: not so once it is removed and only settings remain.
    fn is_present(&self, package: u32) -> bool {
        let _ = package;
        true
    }

    /// Where the record of a package itself stands, and what it says.
    fn package_evidence(&self, package: u32) -> Vec<Evidence>;

    /// Where a claim on `path`, as the record spells it, stands, and what it says.
    /// Where whole trees are owned, that is where the package itself stands.
    fn claim_evidence(&self, claimant: Claimant, path: &[u8], mark: Mark) -> Vec<Evidence> {
        let _ = (path, mark);
        match claimant {
            Claimant::Package(package) => self.package_evidence(package).into_iter().take(1).collect(),
            Claimant::Group(_) => Vec::new(),
        }
    }

    /// The name under which a group of links is known, such as `alternatives/GROUP`, and what
    /// its manager says of the present choice.
    ///
    /// Asked only for groups that this manager has claimed for.
    fn group(&self, group: u32) -> (Text, Vec<Evidence>) {
        (Text::from(format!("{}/{group}", self.installation().manager)), Vec::new())
    }

    /// The digest recorded for a path of a package.
    fn digest(&self, package: u32, path: &[u8]) -> Option<Digest> {
        let _ = (package, path);
        None
    }

    /// What the manager recorded of each file of all its packages, or of these; nothing where it records no files. For
    /// [`Depth::Presence`] only the paths need be there.
    fn recorded(&self, packages: Option<&[u32]>, depth: Depth) -> Vec<Recorded> {
        let _ = (packages, depth);
        Vec::new()
    }

    /// Commands of the manager's own with which a person acts on the package, the safest first.
    fn remedies(&self, package: u32) -> Vec<Remedy>;

    /// What this manager's sources offered of what is asked about, when they were last asked.
    fn offers(&self, asked: &Asked) -> Vec<Offer> {
        let _ = asked;
        Vec::new()
    }

    /// The command with which a person takes an offer of this manager's.
    fn take(&self, offer: &Offer) -> Option<String> {
        let _ = offer;
        None
    }

    /// The command that lets a package be upgraded again which is held back.
    fn release(&self, package: &[u8]) -> Option<String> {
        let _ = package;
        None
    }

    /// What a maintainer should know of the sources themselves: configured twice, not checked.
    fn on_sources(&self) -> Vec<String> {
        Vec::new()
    }

    /// The command that puts a package's own files back where another's have replaced them.
    fn restore(&self, package: u32) -> Option<Remedy> {
        let _ = package;
        None
    }

    /// The manager's ordering of two of its versions.
    fn order(&self, a: &[u8], b: &[u8]) -> Ordering;
}

/// Marks what a manager would take that has no policy but the newest version: of each package the newest that is not
/// held back, else what is installed.
fn mark_candidates(offers: &mut [Offer], order: &dyn Fn(&[u8], &[u8]) -> Ordering) {
    let marks: Vec<bool> = {
        let mut newest: HashMap<(&Text, Option<&Text>), &Text> = HashMap::new();
        for one in offers.iter() {
            let Some(version) = &one.version else { continue };
            let known = newest.entry((&one.name, one.arch.as_ref())).or_insert(version);
            if order(version, known) == Ordering::Greater {
                *known = version;
            }
        }
        let is_newest = |one: &Offer| match (&one.version, newest.get(&(&one.name, one.arch.as_ref()))) {
            (Some(version), Some(newest)) => order(newest, version) != Ordering::Greater,
            _ => true,
        };
        offers.iter().map(|one| if one.held { one.installed } else { is_newest(one) }).collect()
    };
    offers.iter_mut().zip(marks).for_each(|(one, mark)| one.candidate = mark);
}

/// What tells which software a package is.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Hint {
    /// The source that its packagers made it from, where that is called otherwise.
    pub source: Option<Text>,
    /// The address of upstream.
    pub upstream: Option<Text>,
    /// Programs that an app starts inside its sandbox.
    pub starts: Vec<Text>,
}

/// A self-contained environment of Python: a folder with modules of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Environment {
    /// Its folder.
    pub location: Text,
    /// Its folders of modules.
    pub folders: Vec<Text>,
    /// The version of its interpreter: `3.11`.
    pub python: Option<Text>,
    /// That version in full, as it was when the environment was made.
    pub base: Option<Text>,
    /// Whether the modules of the system are imported as well.
    pub sees_system: bool,
    /// In whose home it lies.
    pub person: Option<Text>,
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
