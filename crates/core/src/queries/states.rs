//! The numbered states that managers keep themselves.

use schemars::JsonSchema;
use serde::Serialize;

use crate::backend::{History, Installation};
use crate::bytes::{ByteString, path};
use crate::model::{Remedy, State, StateChanges, StateItem};
use crate::survey::Survey;

/// What one state has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Content {
    /// What is numbered.
    pub holder: ByteString,
    /// The state.
    pub number: ByteString,
    /// What it has, in the order of names; `null` where that cannot be read.
    pub packages: Option<Vec<StateItem>>,
    /// The command that makes it the one in force; none for the one that is.
    pub remedies: Vec<Remedy>,
}

/// What differs between two states.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Difference {
    /// What is numbered.
    pub holder: ByteString,
    /// The one state.
    pub from: ByteString,
    /// The other.
    pub to: ByteString,
    /// What differs.
    #[serde(flatten)]
    pub changes: StateChanges,
    /// Whether both could be read; else nothing is known of what differs.
    pub is_known: bool,
    /// The command that makes the other the one in force; none where it is.
    pub remedies: Vec<Remedy>,
}

/// The answer.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct States {
    /// The states; those of one holder together, oldest first.
    pub states: Vec<State>,
    /// What single states have, where that was asked for.
    pub contents: Vec<Content>,
    /// What differs between two states of each holder, where that was asked for.
    pub differences: Vec<Difference>,
    /// Whether only some holders, or states, were asked about.
    #[serde(skip)]
    pub is_selected: bool,
}

/// The word for the state in force.
const NOW: &[u8] = b"now";

/// The states of all holders, or of those whose path or last name is among `names`.
#[must_use]
pub fn states(survey: &Survey<'_>, names: &[ByteString]) -> States {
    let mut states: Vec<State> =
        survey.installations().iter().filter_map(|held| held.history()).flat_map(History::states).collect();
    if !names.is_empty() {
        states.retain(|state| names.iter().any(|name| is_of(state, name)));
    }
    States { states, is_selected: !names.is_empty(), ..States::default() }
}

/// Whether a state is one of the holder that is meant by a name.
fn is_of(state: &State, name: &[u8]) -> bool {
    *name == *state.holder || *name == *path::name(&state.holder)
}

/// What one state of each holder of that name has, or what differs between it and another; `now` is the state in force.
/// Empty where no holder of that name has such states.
#[must_use]
pub fn within(survey: &Survey<'_>, name: &[u8], from: &[u8], to: Option<&[u8]>) -> States {
    let mut answer = States { is_selected: true, ..States::default() };
    for held in survey.installations() {
        let Some(history) = held.history() else { continue };
        let mut states = history.states();
        states.retain(|state| is_of(state, name));
        for of_holder in states.chunk_by(|a, b| a.holder == b.holder) {
            let find = |number: &[u8]| {
                of_holder.iter().find(|state| *state.number == *number || number == NOW && state.current)
            };
            let Some(one) = find(from) else { continue };
            match to {
                None => answer.contents.push(content(survey, &**held, history, one)),
                Some(to) => {
                    let Some(other) = find(to) else { continue };
                    answer.differences.push(difference(survey, &**held, history, one, other));
                    answer.states.push(other.clone());
                }
            }
            answer.states.push(one.clone());
        }
    }
    answer.states.sort_by(|a, b| (&a.holder, a.made_at).cmp(&(&b.holder, b.made_at)));
    answer
}

/// The command that makes a state the one in force.
fn switch(survey: &Survey<'_>, held: &dyn Installation, history: &dyn History, state: &State) -> Vec<Remedy> {
    let remedy = if state.current { None } else { history.switch_to(state) };
    remedy.and_then(|remedy| survey.remedy_within(held, remedy)).into_iter().collect()
}

fn content(survey: &Survey<'_>, held: &dyn Installation, history: &dyn History, state: &State) -> Content {
    Content {
        holder: state.holder.clone(),
        number: state.number.clone(),
        packages: history.content(state),
        remedies: switch(survey, held, history, state),
    }
}

fn difference(
    survey: &Survey<'_>,
    held: &dyn Installation,
    history: &dyn History,
    from: &State,
    to: &State,
) -> Difference {
    let both = history.content(from).zip(history.content(to));
    let is_known = both.is_some();
    let changes = both.map(|(before, now)| StateChanges::between(&before, &now)).unwrap_or_default();
    Difference {
        holder: to.holder.clone(),
        from: from.number.clone(),
        to: to.number.clone(),
        changes,
        is_known,
        remedies: switch(survey, held, history, to),
    }
}
