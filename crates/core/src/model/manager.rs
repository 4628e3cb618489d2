//! Package managers, as far as they are known without looking at a machine.

use crate::bytes::{ByteString, path};
use crate::version::upstream::Notation;
use std::fmt;

use schemars::JsonSchema;
use serde::Serialize;

/// The name by which users call a package manager, and by which `--manager` selects it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
pub struct ManagerId(pub &'static str);

impl fmt::Display for ManagerId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.0)
    }
}

/// What sort of manager it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ManagerKind {
    /// A distribution installs itself with it.
    System,
    /// Its packages are confined, or single files.
    Sandbox,
    /// Its packages are in a store of their own.
    Store,
    /// It fills a prefix of its own.
    Prefix,
    /// It installs packages of one language.
    Language,
    /// It keeps several versions of a tool.
    Versions,
}

/// A language with a registry of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Language {
    /// The Python Package Index.
    Python,
    /// The npm registry.
    JavaScript,
    /// crates.io.
    Rust,
    /// RubyGems.
    Ruby,
    /// Modules of Go.
    Go,
    /// CPAN.
    Perl,
}

impl Language {
    /// Its name.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Language::Python => "Python",
            Language::JavaScript => "JavaScript",
            Language::Rust => "Rust",
            Language::Ruby => "Ruby",
            Language::Go => "Go",
            Language::Perl => "Perl",
        }
    }
}

/// What a manager adds to the name that upstream gave.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Affix {
    /// Nothing.
    None,
    /// An instance key behind an underscore.
    Instance,
    /// The path of a module, perhaps with its major version.
    ModulePath,
    /// A tap in front, and `@` with a version behind.
    Tap,
    /// A category or scope in front, with a slash.
    Scope,
    /// A word behind a hyphen for how it was built, such as `-git`.
    Build,
}

/// How a manager names packages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Naming {
    /// What it adds to the name that upstream gave.
    pub affix: Affix,
    /// The registry whose names it uses.
    pub registry: Option<Language>,
    /// Whether it puts the language before the name of a library, as in `python3-x`.
    pub has_language_prefix: bool,
}

/// What is known of a manager without looking at a machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Profile {
    /// What sort of manager it is.
    pub kind: ManagerKind,
    /// The language whose environments it fills.
    pub fills: Option<Language>,
    /// How it names packages.
    pub naming: Naming,
    /// Whether its catalogues list everything that its sources offer, so that a package which is in none of them has
    /// no source.
    pub has_full_catalogues: bool,
    /// Whether it keeps several versions of one thing side by side on purpose, of which one is chosen.
    pub keeps_versions: bool,
    /// What its packages add to upstream's version.
    pub notation: Notation,
    /// The directory of a home in which it gives each of its packages one of its own, named like the package.
    pub keeps_data_in: Option<&'static str>,
    /// Where the directories of settings, data and state (*XDG Base Directory Specification*) are below that directory,
    /// or below a home where there is none.
    pub data_dirs: [&'static str; 3],
    /// Whether it deletes that directory when the package is removed.
    pub deletes_data: bool,
}

impl Profile {
    /// The directory below a home that it gives a package of its own; none where its packages share the usual ones.
    #[must_use]
    pub fn own_data_dir(&self, home: &[u8], package: &[u8]) -> Option<ByteString> {
        Some(path::join(&path::join(home, self.keeps_data_in?.as_bytes()), package))
    }

    /// The profile of most managers of a kind.
    #[must_use]
    pub const fn of(kind: ManagerKind) -> Self {
        let has_language_prefix = matches!(kind, ManagerKind::System | ManagerKind::Store);
        Profile {
            kind,
            fills: None,
            naming: Naming { affix: Affix::None, registry: None, has_language_prefix },
            has_full_catalogues: false,
            keeps_versions: matches!(kind, ManagerKind::Versions),
            notation: Notation::Plain,
            keeps_data_in: None,
            data_dirs: [".config", ".local/share", ".local/state"],
            deletes_data: false,
        }
    }

    /// The profile of a manager that installs from a language's registry.
    #[must_use]
    pub const fn language(language: Language, affix: Affix) -> Self {
        let naming = Naming { affix, registry: Some(language), has_language_prefix: false };
        Profile { naming, ..Profile::of(ManagerKind::Language) }
    }

    /// The same with this affix.
    #[must_use]
    pub const fn affix(self, affix: Affix) -> Self {
        Profile { naming: Naming { affix, ..self.naming }, ..self }
    }
}
