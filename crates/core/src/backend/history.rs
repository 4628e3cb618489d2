//! Numbered states.

use crate::model::State;

/// The capability of a manager that keeps numbered states of what was installed, and can go back to them.
pub trait History {
    /// The states, oldest first.
    fn states(&self) -> Vec<State>;
}
