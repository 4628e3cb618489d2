//! Sets variables, and remembers who did.

use std::collections::BTreeSet;

use super::{Run, once_each};
use crate::eval::state::{LISTS, Value, Variable, places_after};
use crate::eval::substitute;
use crate::syntax::{Assigned, Assignment, Dialect, Part};

/// Longer lists of directories are not followed.
const MAX_DIRS: usize = 1000;
/// Longer values are not.
const LONGEST_VALUE: usize = 4 << 20;

impl Run<'_> {
    /// Whether a value is larger than is carried along; nothing is known after that.
    pub(in crate::eval) fn is_too_much(&mut self, name: &[u8], value: &Value) -> bool {
        let (length, count) = match value {
            Value::Text(text) if LISTS.contains(&name) => (text.len(), memchr::memchr_iter(b':', text).count()),
            Value::Text(text) => (text.len(), 0),
            Value::List(list) => (list.iter().map(|one| one.len() + 1).sum(), list.len()),
        };
        let is_dirs = LISTS.contains(&name) || name == b"fish_user_paths";
        let is_too_much = length > LONGEST_VALUE || (is_dirs && count > MAX_DIRS);
        if is_too_much {
            self.stop("a value that is too long");
        } else {
            self.step(u32::try_from(length / 4096).unwrap_or(0));
        }
        is_too_much
    }

    /// Sets a variable, and remembers who did.
    pub(in crate::eval) fn assign(&mut self, name: &[u8], value: Value, is_made_of_old: bool) {
        let by_list = self.dialect() == Dialect::Zsh && substitute::tied(name).is_some();
        let (name, value) = match (self.dialect(), substitute::tied(name)) {
            (Dialect::Zsh, Some(tied)) => (
                tied,
                match value {
                    Value::List(list) => Value::Text(list.join(&b':')),
                    text => text,
                },
            ),
            _ => (name, value),
        };
        if self.is_too_much(name, &value) {
            return;
        }
        let old = self.state.variables.get(name);
        let value = match (value, old.is_some_and(|old| if by_list { old.unique_list } else { old.unique })) {
            (Value::Text(text), true) => Value::Text(once_each(&text, b':')),
            (Value::List(list), true) => {
                let mut seen = BTreeSet::new();
                Value::List(list.into_iter().filter(|one| seen.insert(one.clone())).collect())
            }
            (value, _) => value,
        };
        let mut variable = match old {
            Some(old) => Variable { value, ..old.clone() },
            None => {
                let exported = self.state.has(b"allexport") || self.state.to_export.remove(name);
                Variable { value, ..Variable::text("", exported) }
            }
        };
        if LISTS.contains(&name) {
            let before = old.map_or(&b""[..], Variable::as_text);
            let places = old.map_or(&[][..], |old| &old.places);
            variable.places = places_after(before, places, variable.as_text(), is_made_of_old, &self.place);
            if !is_made_of_old {
                variable.taints.clear();
            }
        }
        self.state.variables.insert(name.to_vec(), variable);
    }

    /// One assignment of a command.
    pub(in crate::eval) fn assignment(&mut self, assignment: &Assignment) {
        let Assignment { name, index, append, value } = assignment;
        let refers = *append || mentions(value, name);
        let new = self.assigned(value);
        let list = self.list_of(name);
        let value = match (index, new, list) {
            (Some(_), new, Some(mut list)) => {
                // Which element it is matters to nothing here.
                if let Value::Text(text) = new {
                    list.push(text);
                }
                Value::List(list)
            }
            (Some(_), _, None) => return,
            (None, Value::List(new), Some(mut list)) if *append => {
                list.extend(new);
                Value::List(list)
            }
            (None, Value::List(new), None) if *append => {
                let first = self.state.get(name).map(<[u8]>::to_vec);
                Value::List(first.into_iter().chain(new).collect())
            }
            (None, Value::Text(text), Some(mut list)) if *append => {
                match self.dialect() {
                    Dialect::Zsh => list.push(text),
                    _ => match list.first_mut() {
                        Some(first) => first.extend(text),
                        None => list.push(text),
                    },
                }
                Value::List(list)
            }
            (None, Value::Text(text), Some(mut list)) if self.dialect() == Dialect::Bash => {
                // A text given to a list is its first element.
                match list.first_mut() {
                    Some(first) => *first = text,
                    None => list.push(text),
                }
                Value::List(list)
            }
            (None, Value::Text(text), None) if *append => {
                Value::Text([self.state.get(name).unwrap_or_default(), &text].concat())
            }
            (None, new, _) => new,
        };
        self.assign(name, value, refers);
    }
}

/// Whether a value is made of the variable's old one.
fn mentions(value: &Assigned, name: &[u8]) -> bool {
    fn in_parts(parts: &[Part], name: &[u8]) -> bool {
        parts.iter().any(|part| match part {
            Part::Parameter(parameter) => {
                parameter.name == name
                    || substitute::tied(&parameter.name) == Some(name)
                    || substitute::tied(name).is_some_and(|tied| tied == parameter.name)
                    || parameter.inner.as_ref().is_some_and(|inner| inner.name == name)
                    || in_parts(&parameter.argument.0, name)
            }
            Part::Double(inner) => in_parts(inner, name),
            Part::Output(_) => true,
            _ => false,
        })
    }
    match value {
        Assigned::Word(word) => in_parts(&word.0, name),
        Assigned::List(words) => words.iter().any(|word| in_parts(&word.0, name)),
    }
}
