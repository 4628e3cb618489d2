//! Who keeps packages current.

use super::jobs::Job;
use crate::bytes::ByteString;
use crate::model::{CommandLine, Evidence, Package};

/// What upgrades packages by itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Automatic {
    /// What does it: a program, or the job that calls it.
    pub by: String,
    /// When, as it is written.
    pub schedule: Option<String>,
    /// Where that stands.
    pub evidence: Vec<Evidence>,
}

/// A program with the words of which one must stand behind it for a call to upgrade packages.
pub type UpgradeCall = (&'static str, &'static [&'static str]);

/// The capability of a manager that has more to say of upgrades than which calls of its programs do them.
pub trait Upkeep {
    /// What upgrades a package by itself that these sources have, besides jobs that call
    /// [`super::Manager::upgrade_calls`].
    fn automatic(&self, name: &[u8], sources: &[ByteString], jobs: &[Job]) -> Option<Automatic> {
        let _ = (name, sources, jobs);
        None
    }

    /// Whether a job is the manager's own, which does what [`Upkeep::automatic`] says, whatever its script has in it.
    fn is_own(&self, job: &Job) -> bool {
        let _ = job;
        false
    }

    /// Why nobody upgrades a package although its source is there.
    fn prevented(&self, number: u32, package: &Package) -> Option<Evidence> {
        let _ = (number, package);
        None
    }

    /// The command that upgrades a package, where that is none of its remedies.
    fn upgrade_command(&self, number: u32) -> Option<CommandLine> {
        let _ = number;
        None
    }
}
