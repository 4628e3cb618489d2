//! The numbered states that managers keep themselves.

use schemars::JsonSchema;
use serde::Serialize;

use crate::backend::History;
use crate::bytes::{ByteString, path};
use crate::model::State;
use crate::survey::Survey;

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct States {
    /// The states; those of one holder together, oldest first.
    pub states: Vec<State>,
}

/// The states of all holders, or of those whose path or last name is among `names`.
#[must_use]
pub fn states(survey: &Survey<'_>, names: &[ByteString]) -> States {
    let mut states: Vec<State> =
        survey.installations().iter().filter_map(|held| held.history()).flat_map(History::states).collect();
    if !names.is_empty() {
        states.retain(|state| names.iter().any(|name| *name == state.holder || **name == *path::name(&state.holder)));
    }
    States { states }
}
