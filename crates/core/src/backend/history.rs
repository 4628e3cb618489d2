//! Numbered states.

use crate::model::{Remedy, State};

/// The capability of a manager that keeps numbered states of what was installed, and can go back to them.
pub trait History {
    /// The states, oldest first.
    fn states(&self) -> Vec<State>;

    /// Gives up the states that are not in force. `None` where they are not the manager's to give up as a whole.
    fn forget(&self) -> Option<Remedy> {
        None
    }
}
