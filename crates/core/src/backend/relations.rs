//! Which packages need which.

use crate::model::Evidence;

/// The capability of a manager that records dependencies.
pub trait Relations {
    /// The packages that cannot stay as they are once these are removed, by what they themselves declare, each with
    /// where it says so. `None` if that is not read of this manager: then nothing may be concluded.
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>>;
}
