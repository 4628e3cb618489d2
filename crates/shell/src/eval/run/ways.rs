//! Ways that part: what nobody knows to be taken, and what lasts in no case.

use super::{Flow, MAX_DEPTH, Run};

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
        let first = one(self);
        let status = self.status;
        let after_one = std::mem::replace(&mut self.state, before);
        let second = two(self);
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
