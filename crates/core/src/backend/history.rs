//! Numbered states.

use crate::model::{Remedy, State, StateItem};

/// The capability of a manager that keeps numbered states of what was installed, and can go back to them.
pub trait History {
    /// The states, oldest first.
    fn states(&self) -> Vec<State>;

    /// What a state has, in the order of names. `None` where that cannot be read.
    fn content(&self, state: &State) -> Option<Vec<StateItem>>;

    /// Makes a state the one in force. `None` where no command for that is known to work.
    fn switch_to(&self, state: &State) -> Option<Remedy> {
        let _ = state;
        None
    }

    /// Bytes that are free once these states are given up and what only they hold is deleted. `None` where that is not
    /// known.
    fn frees(&self, states: &[&State]) -> Option<u64> {
        let _ = states;
        None
    }

    /// Gives up these states, none of which is in force. `None` where no command for that is known to work.
    fn forget_these(&self, states: &[&State]) -> Option<Remedy> {
        let _ = states;
        None
    }

    /// Deletes what only states held that were given up.
    fn collect(&self) -> Option<Remedy> {
        None
    }

    /// Gives up the states that are not in force. `None` where they are not the manager's to give up as a whole.
    fn forget(&self) -> Option<Remedy> {
        None
    }
}
