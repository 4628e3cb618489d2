//! Remedies: commands for the maintainer, as data.

use std::fmt;

use schemars::JsonSchema;
use serde::Serialize;

use super::{Actor, CommandLine};
use crate::bytes::ByteString;

/// The kind of a remedy.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RemedyKind {
    /// Removes a package, a file or a link.
    Remove,
    /// Removes what a removed package left.
    Purge,
    /// Upgrades a package.
    Upgrade,
    /// Installs a package.
    Install,
    /// Completes or repeats an installation, or recreates an environment.
    Repair,
    /// Restores a package's own files.
    Restore,
    /// Chooses another version or alternative.
    Choose,
    /// Removes a hold.
    Unhold,
    /// Undoes a manager's special arrangement, such as a diversion.
    Undo,
    /// Moves a file elsewhere.
    Move,
    /// Changes permissions.
    Permissions,
    /// Changes a configuration or start-up file.
    Configure,
    /// Fetches a catalogue.
    Fetch,
}

/// For display, after "to".
impl fmt::Display for RemedyKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            RemedyKind::Remove => "remove",
            RemedyKind::Purge => "purge",
            RemedyKind::Upgrade => "upgrade",
            RemedyKind::Install => "install",
            RemedyKind::Repair => "repair",
            RemedyKind::Restore => "restore",
            RemedyKind::Choose => "choose",
            RemedyKind::Unhold => "unhold",
            RemedyKind::Undo => "undo",
            RemedyKind::Move => "move",
            RemedyKind::Permissions => "change permissions",
            RemedyKind::Configure => "configure",
            RemedyKind::Fetch => "fetch",
        })
    }
}

/// A command that changes something, and what it is for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Remedy {
    /// What it does.
    pub kind: RemedyKind,
    /// Its purpose, as a phrase that follows "to".
    pub purpose: String,
    /// The command, to be typed into a POSIX shell. It contains `sudo` where another user's rights are needed and the
    /// machine has sudo.
    pub command: String,
    /// The user who has to type it; `null` if any user may.
    pub as_user: Option<ByteString>,
    /// The user whose files it changes, if they are one user's own.
    pub user: Option<ByteString>,
    /// Whether it fetches something.
    pub needs_network: bool,
    /// The command that undoes it, if there is one.
    pub reversible_by: Option<String>,
    /// Why this copy is the one to act on, if there are others.
    pub because: Option<String>,
    /// What it loses, each as a phrase.
    pub loses: Vec<String>,
    /// The command as a list of words, without the means to become another user.
    #[serde(skip)]
    pub line: CommandLine,
    /// The command that undoes it, in the same form.
    #[serde(skip)]
    pub undo: Option<CommandLine>,
    /// Who it acts as.
    #[serde(skip)]
    pub actor: Actor,
    /// The remedies that it is made of, one after the other, where it is more than one command of one user's.
    #[serde(skip)]
    pub parts: Vec<Remedy>,
}

impl Remedy {
    /// A remedy whose purpose is its kind, and which the owner of the installation has to run.
    pub fn new(kind: RemedyKind, line: CommandLine) -> Self {
        Remedy {
            kind,
            purpose: kind.to_string(),
            command: line.to_string(),
            as_user: None,
            user: None,
            needs_network: matches!(
                kind,
                RemedyKind::Upgrade | RemedyKind::Install | RemedyKind::Restore | RemedyKind::Fetch
            ),
            reversible_by: None,
            because: None,
            loses: Vec::new(),
            line,
            undo: None,
            actor: Actor::Owner,
            parts: Vec::new(),
        }
    }

    /// A remedy with this purpose.
    #[must_use]
    pub fn to(self, purpose: impl Into<String>) -> Self {
        Remedy { purpose: purpose.into(), ..self }
    }

    /// A remedy that acts as someone in particular.
    #[must_use]
    pub fn by(self, actor: Actor) -> Self {
        Remedy { actor, ..self }
    }

    /// A remedy that fetches something.
    #[must_use]
    pub fn online(self) -> Self {
        Remedy { needs_network: true, ..self }
    }

    /// A remedy that this command undoes.
    #[must_use]
    pub fn undone_by(self, line: CommandLine) -> Self {
        Remedy { undo: Some(line), ..self }
    }

    /// A remedy that acts on this copy, and not another, for a reason.
    #[must_use]
    pub fn because(self, why: impl Into<String>) -> Self {
        Remedy { because: Some(why.into()), ..self }
    }

    /// A remedy that loses something.
    #[must_use]
    pub fn losing(mut self, what: impl Into<String>) -> Self {
        self.loses.push(what.into());
        self
    }
}
