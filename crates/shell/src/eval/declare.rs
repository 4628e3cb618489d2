//! `export`, `local`, `typeset` and the like.

use super::piece::is_known;
use super::run::{Flow, Run};
use super::state::{LISTS, Value, Variable};
use crate::syntax::{Assigned, Assignment, Dialect, Part, Word, is_name};

impl Run<'_> {
    /// Whether a command takes its words as assignments.
    pub(super) fn declares(&self, name: &[u8]) -> bool {
        let of_all: [&[u8]; 3] = [b"export", b"readonly", b"local"];
        let of_more: [&[u8]; 4] = [b"declare", b"typeset", b"integer", b"float"];
        (of_all.contains(&name) || (self.dialect() != Dialect::Posix && of_more.contains(&name)))
            && !self.state.functions.contains_key(name)
    }

    /// `export`, `local`, `declare` and the like.
    pub(super) fn declare(&mut self, command: &[u8], words: &[Word]) -> Flow {
        let mut exported = command == b"export";
        let in_function = !self.scopes.is_empty();
        let mut is_local = command == b"local" || (in_function && !exported && command != b"readonly");
        let (mut unexport, mut unique, mut of_functions, mut is_list) = (false, None, false, false);
        self.status = Some(0);
        for word in words {
            if let Some(assignment) = as_assignment(word) {
                if is_local {
                    self.make_local(&assignment.name);
                }
                self.assignment(&assignment);
                self.mark(&assignment.name, exported, unexport, unique);
                continue;
            }
            for text in self.fields(std::slice::from_ref(word)) {
                if let Some(letters) = text.strip_prefix(b"-").filter(|letters| !letters.is_empty()) {
                    exported |= letters.contains(&b'x') && command != b"export";
                    unexport |= letters.contains(&b'n') && command == b"export";
                    is_local &= !letters.contains(&b'g');
                    of_functions |= letters.contains(&b'f') || letters.contains(&b'F');
                    is_list |= letters.contains(&b'a') && command != b"export";
                    if letters.contains(&b'U') {
                        unique = Some(true);
                    }
                    continue;
                }
                if let Some(letters) = text.strip_prefix(b"+") {
                    unexport |= letters.contains(&b'x');
                    if letters.contains(&b'U') {
                        unique = Some(false);
                    }
                    continue;
                }
                if !is_known(&text) {
                    let unknown = self.note_unknown("declares a variable whose name is unknown");
                    self.taint_all(unknown);
                    continue;
                }
                let split = memchr::memchr(b'=', &text).map(|at| (text[..at].to_vec(), text[at + 1..].to_vec()));
                let (name, value) = split.map_or((text.clone(), None), |(name, value)| (name, Some(value)));
                if !is_name(&name) {
                    continue;
                }
                if of_functions {
                    if let Some(function) = self.state.functions.get_mut(&name) {
                        function.exported = !unexport;
                    }
                    continue;
                }
                if is_local {
                    self.make_local(&name);
                }
                if let Some(value) = value {
                    self.assign(&name, Value::Text(value), false);
                } else if is_list && is_local {
                    self.assign(&name, Value::List(Vec::new()), false);
                } else if is_local && self.dialect() == Dialect::Zsh && !self.state.variables.contains_key(&name) {
                    self.assign(&name, Value::Text(Vec::new()), false);
                }
                self.mark(&name, exported, unexport, unique);
            }
        }
        Flow::Next
    }

    /// Keeps what a variable is outside this function. In bash it is unset inside, in dash it keeps its value.
    pub(super) fn make_local(&mut self, name: &[u8]) {
        let name = super::substitute::tied(name).filter(|_| self.dialect() == Dialect::Zsh).unwrap_or(name);
        let before = self.state.variables.get(name).cloned();
        let Some(scope) = self.scopes.last_mut() else { return };
        if scope.iter().any(|(known, _)| known == name) {
            return;
        }
        scope.push((name.to_vec(), before));
        if self.dialect() != Dialect::Posix && !LISTS.contains(&name) {
            self.state.variables.remove(name);
        }
    }

    pub(super) fn mark(&mut self, name: &[u8], exported: bool, unexport: bool, unique: Option<bool>) {
        let given = name;
        let name = super::substitute::tied(name).filter(|_| self.dialect() == Dialect::Zsh).unwrap_or(name);
        if unique.is_some() && !self.state.variables.contains_key(name) {
            self.state.variables.insert(name.to_vec(), Variable::text("", false));
        }
        let Some(variable) = self.state.variables.get_mut(name) else {
            if exported && !unexport {
                self.state.to_export.insert(name.to_vec());
            }
            return;
        };
        variable.exported = (variable.exported || exported) && !unexport;
        if let Some(unique) = unique {
            if given == name {
                variable.unique = unique;
            } else {
                variable.unique_list = unique;
            }
            let value = variable.value.clone();
            if unique {
                self.assign(given, value, true);
            }
        }
    }
}

/// `NAME=value` as a word of a command that declares.
fn as_assignment(word: &Word) -> Option<Assignment> {
    let Some(Part::Plain(text)) = word.0.first() else { return None };
    let at = memchr::memchr(b'=', text)?;
    let (name, append) = match text[..at].strip_suffix(b"+") {
        Some(name) => (name, true),
        None => (&text[..at], false),
    };
    if !is_name(name) {
        return None;
    }
    let value = match word.0.get(1) {
        Some(Part::List(words)) if at + 1 == text.len() => Assigned::List(words.clone()),
        _ => {
            let rest = (text.len() > at + 1).then(|| Part::Plain(text[at + 1..].to_vec()));
            Assigned::Word(Word(rest.into_iter().chain(word.0[1..].iter().cloned()).collect()))
        }
    };
    Some(Assignment { name: name.to_vec(), index: None, append, value })
}
