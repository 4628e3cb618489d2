//! Ways that part: what nobody knows to be taken, and what lasts in no case.

use std::collections::BTreeSet;

use super::{Flow, MAX_DEPTH, Run};
use crate::UnknownId;
use crate::eval::piece::mark;
use crate::eval::state::Variable;

impl Run<'_> {
    /// Takes in what held where one of two ways ended early.
    pub(in crate::eval) fn join_early(&mut self, from: usize, fits: impl Fn(Flow) -> bool) {
        let mut kept = Vec::new();
        for (flow, state) in self.early.split_off(from) {
            if fits(flow) {
                let unknown = self.note_unknown("an earlier command decides whether the rest of this file is read");
                let now = std::mem::take(&mut self.state);
                self.state = now.merged(&state, unknown);
            } else {
                kept.push((flow, state));
            }
        }
        self.early.extend(kept);
    }

    /// Follows both of two ways, because nobody knows which is taken.
    pub(in crate::eval) fn either(
        &mut self,
        why: &str,
        one: &mut dyn FnMut(&mut Self) -> Flow,
        two: &mut dyn FnMut(&mut Self) -> Flow,
    ) -> Flow {
        let unknown = self.note_unknown(why);
        let before = self.state.clone();
        let scopes = self.scopes.clone();
        let first = one(self);
        let scopes_of_one = std::mem::replace(&mut self.scopes, scopes);
        let status = self.status;
        let after_one = std::mem::replace(&mut self.state, before);
        let second = two(self);
        self.join_scopes(scopes_of_one, unknown);
        match (first, second) {
            (Flow::Next, Flow::Next) => {
                let after_two = std::mem::take(&mut self.state);
                self.state = after_one.merged(&after_two, unknown);
                self.status = self.status.filter(|now| Some(*now) == status);
                Flow::Next
            }
            (flow, Flow::Next) => {
                self.early.push((flow, after_one));
                Flow::Next
            }
            (Flow::Next, flow) => {
                let after_two = std::mem::replace(&mut self.state, after_one);
                self.early.push((flow, after_two));
                Flow::Next
            }
            (flow, _) => {
                let after_two = std::mem::take(&mut self.state);
                self.state = after_one.merged(&after_two, unknown);
                flow
            }
        }
    }

    /// Takes in the variables that only one of two ways made local: what they are outside is not known.
    fn join_scopes(&mut self, other: Vec<Vec<(Vec<u8>, Option<Variable>)>>, unknown: UnknownId) {
        for (scope, other) in self.scopes.iter_mut().zip(other) {
            let names = |scope: &[(Vec<u8>, Option<Variable>)]| scope.iter().map(|(name, _)| name.clone()).collect();
            let (mine, theirs): (BTreeSet<Vec<u8>>, BTreeSet<Vec<u8>>) = (names(scope), names(&other));
            scope.extend(other.into_iter().filter(|(name, _)| !mine.contains(name)));
            for (_, outside) in scope.iter_mut().filter(|(name, _)| mine.contains(name) != theirs.contains(name)) {
                let exported = outside.as_ref().is_some_and(|variable| variable.exported);
                *outside = Some(Variable { is_perhaps: true, ..Variable::text(mark(unknown), exported) });
            }
        }
    }

    /// Follows something whose changes do not last; what it writes is kept where that is wanted.
    pub(in crate::eval) fn apart(&mut self, inside: impl FnOnce(&mut Self)) {
        let state = self.state.clone();
        let early = self.early.len();
        let scopes = self.scopes.len();
        self.depth += 1;
        if self.depth < MAX_DEPTH {
            inside(self);
        } else {
            self.stop("commands are nested too deeply");
        }
        self.depth -= 1;
        self.scopes.truncate(scopes);
        self.early.truncate(early);
        self.failure = None;
        self.state = state;
    }
}
