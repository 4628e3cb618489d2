//! Functions of fish: their definitions, their calls, and the variables that they see.

use std::sync::Arc;

use super::set::full_option;
use super::{Defined, Fish};
use crate::eval::builtin_names::among;
use crate::eval::run::{Flow, MAX_DEPTH};
use crate::eval::state::{Function, Variable};
use crate::syntax::fish::{Block, Word};
use whodunit_formats::bytes::path;

/// Names that no function can have.
const RESERVED: &str = "_ [ and argparse begin break builtin case command continue echo else end eval exec for function if \
                        not or read return set status string switch test time while";

/// The long options of `function`.
const LONG: [&[u8]; 9] = [
    b"--argument-names",
    b"--description",
    b"--inherit-variable",
    b"--no-scope-shadowing",
    b"--on-event",
    b"--on-job-exit",
    b"--on-process-exit",
    b"--on-variable",
    b"--wraps",
];

impl Fish<'_> {
    pub(super) fn define(&mut self, words: &[Word], body: &Arc<Block>) -> Flow {
        let words = self.words(words);
        if self.is_misworded() {
            return Flow::Next;
        }
        let Some(name) = words.first().cloned() else { return Flow::Next };
        if among(RESERVED, &name) {
            self.run.status = Some(2);
            return Flow::Next;
        }
        let (mut names, mut inherited, mut shares) = (Vec::new(), Vec::new(), false);
        let (mut takes, mut watches, mut of_event, mut inherits) = (false, false, false, false);
        for word in &words[1..] {
            if std::mem::take(&mut inherits) {
                inherited.push((word.clone(), self.list_of(word)));
                continue;
            }
            if std::mem::take(&mut watches) {
                self.watchers.entry(word.clone()).or_default().push(name.clone());
                continue;
            }
            if std::mem::take(&mut of_event) {
                self.listeners.entry(word.clone()).or_default().push(name.clone());
                continue;
            }
            let word = if word.starts_with(b"--") { full_option(word, &LONG).unwrap_or(word) } else { word };
            match word {
                b"-a" | b"--argument-names" => takes = true,
                b"--on-variable" | b"-v" => (takes, watches) = (false, true),
                b"--on-event" | b"-e" => (takes, of_event) = (false, true),
                b"-V" | b"--inherit-variable" => (takes, inherits) = (false, true),
                b"-S" | b"--no-scope-shadowing" => (takes, shares) = (false, true),
                option if option.starts_with(b"-") => takes = false,
                word if takes => names.push(word.to_vec()),
                _ => {}
            }
        }
        let place = self.run.place.clone();
        let function = Function::new(None, place);
        self.run.state.functions.insert(name.clone(), function);
        self.bodies.insert(name, Defined { body: Arc::clone(body), names, inherited, shares });
        Flow::Next
    }

    /// A function's definition, read from its file where it was not yet.
    pub(super) fn load(&mut self, name: &[u8]) -> Option<Defined> {
        if let Some(defined) = self.bodies.get(name) {
            return Some(defined.clone());
        }
        let function = self.run.state.functions.get(name)?;
        let file = function.place.file.clone();
        if !file.ends_with(b".fish") || path::name(&file) != [name, b".fish"].concat() {
            return None;
        }
        self.file(&file);
        self.bodies.get(name).cloned()
    }

    pub(super) fn call(&mut self, defined: &Defined, arguments: Vec<Vec<u8>>) -> Flow {
        if self.depth >= MAX_DEPTH {
            self.stop("functions call each other too deeply");
            return Flow::Next;
        }
        self.depth += 1;
        let held = std::mem::replace(&mut self.holds_line, true);
        let early = self.run.early.len();
        let outer = (!defined.shares).then(|| (self.without_locals(), std::mem::take(&mut self.scopes)));
        self.calls.push(self.scopes.len());
        if defined.body.is_empty() {
            self.run.status = Some(0);
        }
        let flow = self.scoped(|fish| {
            for (number, name) in defined.names.iter().enumerate() {
                fish.hide(name);
                fish.assign(name, arguments.get(number).cloned().into_iter().collect(), false, None);
            }
            for (name, list) in &defined.inherited {
                if let Some(list) = list {
                    fish.hide(name);
                    fish.assign(name, list.clone(), false, None);
                }
            }
            fish.hide(b"argv");
            fish.assign(b"argv", arguments, false, None);
            fish.block(&defined.body)
        });
        self.calls.pop();
        self.is_missing = false;
        self.run.join_early(early, |flow| flow == Flow::Return);
        if let Some((hidden, scopes)) = outer {
            self.scopes = scopes;
            self.with_locals(hidden);
        }
        self.holds_line = held;
        self.depth -= 1;
        if flow == Flow::Return { Flow::Next } else { flow }
    }

    /// Takes away the variables of the blocks around: a function sees none of them that is not exported.
    fn without_locals(&mut self) -> Vec<(Vec<u8>, Variable)> {
        let mut hidden: Vec<(Vec<u8>, Variable)> = Vec::new();
        for (name, before) in self.scopes.iter().flatten() {
            if hidden.iter().any(|(known, _)| known == name) {
                continue;
            }
            let Some(local) = self.run.state.variables.get(name).filter(|local| !local.exported).cloned() else {
                continue;
            };
            match before {
                Some(before) => drop(self.run.state.variables.insert(name.clone(), before.clone())),
                None => drop(self.run.state.variables.remove(name)),
            }
            hidden.push((name.clone(), local));
        }
        hidden
    }

    /// Gives them back. What the function made of the outer ones is kept for when their block ends.
    fn with_locals(&mut self, hidden: Vec<(Vec<u8>, Variable)>) {
        for (name, local) in hidden {
            let outer = self.run.state.variables.insert(name.clone(), local);
            if let Some((_, kept)) = self.scopes.iter_mut().flatten().find(|(known, _)| *known == name) {
                *kept = outer;
            }
        }
    }

    pub(super) fn in_function(&self) -> bool {
        !self.calls.is_empty()
    }

    /// Makes a variable one of the function that is followed.
    pub(super) fn hide_in_function(&mut self, name: &[u8]) {
        let Some(scope) = self.calls.last().and_then(|at| self.scopes.get_mut(*at)) else { return };
        if !scope.iter().any(|(known, _)| known == name) {
            scope.push((name.to_vec(), None));
        }
    }

    pub(super) fn hide(&mut self, name: &[u8]) {
        let before = self.run.state.variables.get(name).cloned();
        if let Some(scope) = self.scopes.last_mut()
            && !scope.iter().any(|(known, _)| known == name)
        {
            scope.push((name.to_vec(), before));
            self.run.state.variables.remove(name);
        }
    }
}
