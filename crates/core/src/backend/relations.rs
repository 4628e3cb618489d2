//! Which packages need which.

use crate::model::{Evidence, Owner, Remedy};

/// The capability of a manager that records dependencies.
pub trait Relations {
    /// The packages that cannot stay as they are once these are removed, by what they themselves declare, each with
    /// where it says so. `None` if that is not read of this manager: then nothing may be concluded.
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>>;

    /// The packages of this installation that need packages of another installation of the same manager.
    fn dependents_on(&self, removed: &[Owner]) -> Vec<(u32, Evidence)> {
        let _ = removed;
        Vec::new()
    }

    /// The packages that came along with others, and that nothing needs any more, by the manager's own rule. `None` where
    /// that rule is not known here, or what was asked for is not recorded.
    fn unneeded(&self) -> Option<Unneeded> {
        None
    }

    /// Why the manager does not remove a package without being forced to, if it does not.
    fn protection(&self, package: u32) -> Option<Evidence> {
        let _ = package;
        None
    }
}

/// Packages that nothing needs any more.
#[derive(Debug, Clone, Default)]
pub struct Unneeded {
    /// Each, with where it says that it came along with others.
    pub packages: Vec<(u32, Evidence)>,
    /// The command that removes these and nothing else.
    pub remedy: Option<Remedy>,
}
