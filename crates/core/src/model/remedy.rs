//! Remedies: commands for the maintainer, as data.

use std::fmt;

use schemars::JsonSchema;
use serde::Serialize;

use super::Scope;
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
    /// Runs a program in another way.
    Run,
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
            RemedyKind::Run => "run",
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
    /// The command, to be typed into a POSIX shell.
    pub command: String,
    /// The user who has to type it; `null` if any user may, with `sudo` where the command has it.
    pub as_user: Option<ByteString>,
}

impl Remedy {
    /// A remedy whose purpose is its kind.
    pub fn new(kind: RemedyKind, command: impl Into<String>) -> Self {
        Remedy { kind, purpose: kind.to_string(), command: command.into(), as_user: None }
    }

    /// A remedy with this purpose.
    #[must_use]
    pub fn to(self, purpose: impl Into<String>) -> Self {
        Remedy { purpose: purpose.into(), ..self }
    }

    /// A remedy within an installation: a per-user installation is changed by its user.
    #[must_use]
    pub fn within(self, scope: &Scope) -> Self {
        match scope {
            Scope::User(name) => Remedy { as_user: Some(name.clone()), ..self },
            Scope::System | Scope::Environment(_) => self,
        }
    }
}
