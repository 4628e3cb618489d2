//! The revisions of a snap as numbered states.

use hashbrown::HashMap;

use super::ID;
use super::installation::{Revision, SnapInstallation};
use crate::backend::{History, Installation};
use crate::bytes::ByteString;
use crate::model::{Change, CommandLine, Remedy, RemedyKind, Scope, State, StateChanges, StateItem};

impl History for SnapInstallation<'_> {
    /// The revisions that are kept of each snap of which there are several.
    fn states(&self) -> Vec<State> {
        let mut states: Vec<State> = Vec::new();
        let mut before: HashMap<usize, Option<ByteString>> = HashMap::new();
        for (number, revision) in (0..).zip(&self.revisions) {
            let snap = self.snap(revision);
            if snap.revisions.len() < 2 {
                continue;
            }
            let version = self.about(revision).ok().and_then(|about| about.version.clone());
            let from = before.insert(revision.snap, version.clone());
            let name = snap.instance.clone();
            states.push(State {
                manager: ID,
                scope: Scope::System,
                holder: name.clone(),
                number: revision.name.clone(),
                made_at: None,
                current: self.is_active(revision),
                changes: StateChanges {
                    changed: from.map(|from| Change { name, from, to: version }).into_iter().collect(),
                    ..StateChanges::default()
                },
                evidence: self.package_evidence(number).into_iter().take(1).collect(),
            });
        }
        states
    }

    fn switch_to(&self, state: &State) -> Option<Remedy> {
        let line = CommandLine::new("snap revert").operand(state.holder.clone());
        let to = line.words("--revision").operand(state.number.clone());
        Some(Remedy::new(RemedyKind::Choose, to).to(format!("go to {}", state.number)))
    }

    fn content(&self, state: &State) -> Option<Vec<StateItem>> {
        let is_it = |one: &&Revision| self.snap(one).instance == state.holder && one.name == state.number;
        let revision = self.revisions.iter().find(is_it)?;
        let version = self.about(revision).ok().and_then(|about| about.version.clone());
        Some(vec![StateItem { name: state.holder.clone(), version, build: vec![revision.name.clone()] }])
    }
}
