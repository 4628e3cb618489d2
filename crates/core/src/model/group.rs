//! Findings with one cause.

use schemars::JsonSchema;
use serde::Serialize;

use super::{Remedy, Severity};
use crate::bytes::ByteString;

/// What findings can have in common, so that they are one thing to mend.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Cause {
    /// Several copies of one software, by its title.
    Title(ByteString),
    /// A name that somebody types, or a link or launcher starts.
    Command(ByteString),
    /// A program that stands before another, or hides it.
    Program(ByteString),
    /// A package that was installed over or before another's files, by its id.
    Package(ByteString),
    /// A file or directory that does not exist and is needed.
    Missing(ByteString),
    /// A directory of a search path.
    Directory(ByteString),
    /// A directory that a manager fills and no session searches.
    Unsearched(ByteString),
    /// Packages of one installation that no source has.
    Source(ByteString),
    /// The files or the record of one package, by its id.
    Record(ByteString),
    /// What is left of a package, by its name.
    Remains(ByteString),
    /// Packages of one installation that nothing needs, by where its records are.
    Unneeded(ByteString),
    /// Packages of one installation that depend on what is not installed, by where its records are: its manager mends all
    /// of them at once.
    Unmet(ByteString),
}

/// The sort of a group's cause.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CauseKind {
    /// Several copies of one software are installed.
    SeveralCopies,
    /// A file of nobody's hides a package's program.
    MaskingFile,
    /// A package was installed over another one's files, or before them.
    OverwritingPackage,
    /// The interpreter of scripts is gone.
    MissingInterpreter,
    /// What links or launchers lead to is gone.
    MissingTarget,
    /// A directory of a search path is missing, open to others, or named twice.
    SearchPathDirectory,
    /// A manager's directories are not searched.
    ManagerNotSetUp,
    /// No source of this machine has the packages.
    SourceGone,
    /// A package's files or record are not as they should be.
    PackageState,
    /// Something is left of what was removed, or of what needed it.
    Remains,
    /// It has no other cause than itself.
    Itself,
}

impl CauseKind {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            CauseKind::SeveralCopies => "several-copies",
            CauseKind::MaskingFile => "masking-file",
            CauseKind::OverwritingPackage => "overwriting-package",
            CauseKind::MissingInterpreter => "missing-interpreter",
            CauseKind::MissingTarget => "missing-target",
            CauseKind::SearchPathDirectory => "search-path-directory",
            CauseKind::ManagerNotSetUp => "manager-not-set-up",
            CauseKind::SourceGone => "source-gone",
            CauseKind::PackageState => "package-state",
            CauseKind::Remains => "remains",
            CauseKind::Itself => "itself",
        }
    }
}

/// Findings with one cause, told once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Group {
    /// What it is about.
    pub subject: ByteString,
    /// The sort of its cause.
    pub cause: CauseKind,
    /// The worst of its findings.
    pub severity: Severity,
    /// One sentence.
    pub summary: String,
    /// The safest remedy of its first finding that has one; `null` where there is none.
    pub first_remedy: Option<Remedy>,
    /// The users in whose sessions it is so; empty for what is so whoever asks.
    pub users: Vec<ByteString>,
    /// Its findings, by their places in `findings`, from 0; the one that the summary tells comes first.
    pub findings: Vec<usize>,
}
