//! Ways that part: what nobody knows to be taken, and what lasts in no case.

use std::collections::BTreeSet;

use super::{Flow, MAX_DEPTH, Run};
use crate::UnknownId;
use crate::eval::made::joined;
use crate::eval::piece::{is_known, mark};
use crate::eval::state::{Attributes, State, Variable};
use crate::eval::stream::Input;

impl Run<'_> {
    /// Takes in what held where one of two ways ended early.
    pub(in crate::eval) fn join_early(&mut self, from: usize, fits: impl Fn(Flow) -> bool) {
        let mut kept = Vec::new();
        for (flow, state) in self.early.split_off(from) {
            if fits(flow) {
                let unknown = self.note_unknown("an earlier command decides whether the rest of this file is read");
                let now = std::mem::take(&mut self.state);
                self.state = self.merged(now, &state, unknown);
                // Each way has a status of its own.
                (self.status, self.unrun) = (None, None);
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
        let input = self.input.clone();
        let written = self.output.as_ref().map_or(0, Vec::len);
        let first = one(self);
        let written_by_one = self.output.as_mut().map(|output| output.split_off(written.min(output.len())));
        let input_of_one = std::mem::replace(&mut self.input, input);
        let scopes_of_one = std::mem::replace(&mut self.scopes, scopes);
        let status = self.status;
        let after_one = std::mem::replace(&mut self.state, before);
        let second = two(self);
        join_scopes(&mut self.scopes, scopes_of_one, unknown);
        if let Some(output) = self.output.as_mut()
            && Some(&output[written.min(output.len())..]) != written_by_one.as_deref()
        {
            output.truncate(written);
            output.extend(mark(unknown));
        }
        self.join_input(input_of_one.as_ref(), unknown);
        self.status = match (first == Flow::Next, second == Flow::Next) {
            (true, false) => status,
            (false, true) => self.status,
            _ => self.status.filter(|now| Some(*now) == status),
        };
        self.join_ways((first, after_one), second, unknown)
    }

    /// Goes on behind two ways, of which the second was followed last. Where only one of them ends early, what held
    /// there is taken in where it ends.
    pub(in crate::eval) fn join_ways(
        &mut self,
        (first, after_one): (Flow, State),
        second: Flow,
        unknown: UnknownId,
    ) -> Flow {
        let after_two = std::mem::take(&mut self.state);
        match (first == Flow::Next, second == Flow::Next) {
            (false, true) => {
                self.early.push((first, after_one));
                self.state = after_two;
                Flow::Next
            }
            (true, false) => {
                self.early.push((second, after_two));
                self.state = after_one;
                Flow::Next
            }
            _ if first == second => {
                self.state = self.merged(after_one, &after_two, unknown);
                first
            }
            // The shell goes on sooner on the one way than on the other.
            _ if self.reach(first) <= self.reach(second) => {
                self.early.push((second, after_two));
                self.state = after_one;
                first
            }
            _ => {
                self.early.push((first, after_one));
                self.state = after_two;
                second
            }
        }
    }

    /// How much a way that ends early leaves out, the least first: loops by their levels, then all else.
    fn reach(&self, flow: Flow) -> (u8, u32) {
        // A line is left within the file, but from within a function the line is the one that called it.
        let is_in_function = self.holds_line && !self.calls.is_empty();
        match flow {
            Flow::Next => (0, 0),
            Flow::Break(levels) | Flow::Continue(levels) => (0, levels),
            Flow::Return if is_in_function => (1, 0),
            Flow::LeaveLine => (2, 0),
            Flow::Return => (3, 0),
            Flow::LeaveFile => (4, 0),
            Flow::LeaveAll => (5, 0),
            Flow::Exit => (6, 0),
        }
    }

    /// Makes everything uncertain, whatever is assigned later: nobody knows whether what follows is done at all.
    pub(in crate::eval) fn taint_for_good(&mut self, why: &str) {
        let unknown = self.note_unknown(why);
        self.taint_all(unknown);
        self.state.lasting_taints.insert(unknown);
    }

    /// Notes what depends on a file of which nobody knows what it is.
    pub(in crate::eval) fn find_back(&mut self) {
        if let Some(why) = self.why_astray.take() {
            self.taint_for_good(why);
        }
    }

    /// What holds whichever of two ways was taken; of arguments that differ not even the number is known.
    fn merged(&mut self, one: State, two: &State, unknown: UnknownId) -> State {
        if one.arguments != two.arguments {
            self.several.insert(unknown);
        }
        one.merged(two, unknown)
    }

    /// Why it is not known whether the last command succeeded.
    pub(in crate::eval) fn why_unknown(&self) -> String {
        match &self.unrun {
            Some(command) => format!("depends on the exit status of `{command}`, which is not run"),
            None => "depends on the exit status of a command that is not run".to_owned(),
        }
    }

    /// Whether commands that run again and again change the search path.
    pub(in crate::eval) fn changes_path(&mut self, commands: &[u8]) -> bool {
        let before = self.variable(b"PATH");
        let mut after = None;
        let (output, made) = (self.output.take(), self.state.made.clone());
        self.apart(|run| {
            let _ = run.text(commands);
            after = run.variable(b"PATH");
        });
        (self.output, self.state.made) = (output, made);
        after != before
    }

    /// Follows a complete command that is taken apart at this moment.
    pub(in crate::eval) fn taken_apart_now(&mut self, inside: impl FnOnce(&mut Self) -> Flow) -> Flow {
        self.moments.last += 1;
        let outer = std::mem::replace(&mut self.moments.now, self.moments.last);
        let flow = inside(self);
        self.moments.now = outer;
        flow
    }

    /// Reads something, and tells whether any variable in it is uncertain.
    pub(in crate::eval) fn reading<T>(&mut self, inside: impl FnOnce(&mut Self) -> T) -> (T, bool) {
        let (found, taints) = self.gathering(inside);
        (found, !taints.is_empty())
    }

    /// Reads something, and gives what is uncertain about it apart from what was read before.
    pub(in crate::eval) fn gathering<T>(&mut self, inside: impl FnOnce(&mut Self) -> T) -> (T, BTreeSet<UnknownId>) {
        let outer = std::mem::take(&mut self.read_taints);
        let found = inside(self);
        (found, std::mem::replace(&mut self.read_taints, outer))
    }

    /// Takes in what one of two ways left to read: where they differ, what is read is unknown.
    pub(in crate::eval) fn join_input(&mut self, of_one: Option<&Input>, unknown: UnknownId) {
        if self.input.as_ref() != of_one {
            self.input = Some(Input { text: mark(unknown).into(), ..Input::default() });
        }
    }

    /// The same while what follows goes on: when the files that it makes are there, nobody knows.
    pub(in crate::eval) fn beside(&mut self, inside: impl FnOnce(&mut Self)) {
        let before = self.state.made.clone();
        self.apart(inside);
        self.state.made = joined(before, &self.state.made);
    }

    /// Follows something whose changes do not last; what it writes is kept where that is wanted. Where it may end early,
    /// nobody knows how it ends and what it has written by then.
    pub(in crate::eval) fn apart(&mut self, inside: impl FnOnce(&mut Self)) {
        let state = self.state.clone();
        let written = self.output.as_ref().map_or(0, Vec::len);
        let early = self.early.len();
        let scopes = self.scopes.len();
        self.depth += 1;
        self.state.at_end = None;
        let outer_calls = std::mem::replace(&mut self.calls_outside, self.calls.len());
        if self.depth < MAX_DEPTH {
            inside(self);
            self.end_subshell();
        } else {
            self.stop("commands are nested too deeply");
        }
        self.depth -= 1;
        self.calls_outside = outer_calls;
        self.scopes.truncate(scopes);
        let ended = self.early.split_off(early);
        let is_in_doubt = self.state.lasting_taints.len() > state.lasting_taints.len();
        if is_in_doubt || !ended.is_empty() {
            (self.status, self.unrun) = (None, None);
            if let Some(mut output) = self.output.take() {
                output.truncate(written);
                output.extend(self.unknown_value("the output of commands that may end early"));
                self.output = Some(output);
            }
        }
        self.failure = None;
        let mut made = std::mem::replace(&mut self.state, state).made;
        for (_, early) in ended {
            made = joined(made, &early.made);
        }
        self.state.made = made;
    }
}

impl Run<'_> {
    /// What a trap of a subshell does at its end.
    fn end_subshell(&mut self) {
        let Some(action) = self.state.at_end.take() else { return };
        let (status, failure) = (self.status, self.failure.take());
        if !is_known(&action) {
            self.taint_for_good("a trap that is unknown");
        }
        let flow = self.text(&action);
        self.failure = failure;
        if flow != Flow::Exit {
            self.status = status;
        }
    }
}

/// Variables that blocks and functions hide, with what they are outside, innermost last.
pub(in crate::eval) type Scopes = Vec<Vec<(Vec<u8>, Option<Variable>)>>;

/// Makes what blocks and functions hide uncertain too: it comes back after them.
pub(in crate::eval) fn taint_hidden(scopes: &mut Scopes, unknown: UnknownId) {
    for hidden in scopes.iter_mut().flatten().filter_map(|(_, outside)| outside.as_mut()) {
        hidden.taints.insert(unknown);
    }
}

/// Takes in the variables that only one of two ways made local, or that each left different outside: what they are
/// outside is not known.
pub(in crate::eval) fn join_scopes(scopes: &mut Scopes, other: Scopes, unknown: UnknownId) {
    for (scope, other) in scopes.iter_mut().zip(other) {
        let in_doubt = |outside: &Option<Variable>| {
            let exported = outside.as_ref().is_some_and(|variable| variable.exported);
            let path = outside.as_ref().and_then(|variable| variable.attributes.path);
            let attributes = Attributes { path, ..Attributes::default() };
            Some(Variable { is_perhaps: true, attributes, ..Variable::text(mark(unknown), exported) })
        };
        for (name, outside) in scope.iter_mut() {
            let same = other.iter().find(|(known, _)| known == name);
            if same.is_none_or(|(_, there)| there != outside) {
                *outside = in_doubt(outside);
            }
        }
        let known: Vec<Vec<u8>> = scope.iter().map(|(name, _)| name.clone()).collect();
        let new = other.into_iter().filter(|(name, _)| !known.contains(name));
        scope.extend(new.map(|(name, outside)| (name, in_doubt(&outside))));
    }
}
