//! Sets variables, and remembers who did.

use std::collections::BTreeSet;

use super::{Run, once_each};
use crate::eval::state::{LISTS, Value, Variable, places_after};
use crate::eval::substitute;
use crate::syntax::{Assigned, Assignment, Dialect, Parser, Part, Word};

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
        let refers = *append || index.is_some() || mentions(value, name);
        let new = self.assigned(value);
        let list = self.list_of(name);
        let value = match (index, new, list) {
            (Some(index), new, list) => {
                let changed = if *append { None } else { self.with_elements(name, list, index, new) };
                changed.unwrap_or_else(|| Value::Text(self.unknown_value("which element of an array is assigned")))
            }
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

    /// A list with other elements at an index, or in zsh at a range of them; `None` where the index is no plain
    /// number, as in an associative array, or is behind the end.
    fn with_elements(&mut self, name: &[u8], list: Option<Vec<Vec<u8>>>, index: &[u8], new: Value) -> Option<Value> {
        let is_zsh = self.dialect() == Dialect::Zsh;
        let mut list = match list {
            Some(list) => list,
            // A text is the first element in bash; in zsh an index is that of a character.
            None if is_zsh => return None,
            None => self.state.get(name).map(<[u8]>::to_vec).into_iter().collect(),
        };
        let length = i64::try_from(list.len()).ok()?;
        // Each is expanded once: `$((i++))` counts.
        let comma = memchr::memchr(b',', index).filter(|_| is_zsh);
        let first = self.plain_number(&index[..comma.unwrap_or(index.len())])?;
        let last = comma.map_or(Some(first), |comma| self.plain_number(&index[comma + 1..]))?;
        // Counted from 0; zsh counts from 1.
        let place = |number: i64| if number < 0 { length + number } else { number - i64::from(is_zsh) };
        let start = usize::try_from(place(first)).ok().filter(|start| *start <= list.len())?;
        let end = usize::try_from(place(last) + 1).ok()?.clamp(start, list.len());
        let new = match new {
            Value::Text(text) => vec![text],
            Value::List(new) if is_zsh => new,
            Value::List(_) => return None,
        };
        list.splice(start..end, new);
        Some(Value::List(list))
    }

    fn plain_number(&mut self, text: &[u8]) -> Option<i64> {
        let word = Parser::in_quotes(text, self.dialect()).ok()?;
        std::str::from_utf8(&self.one(&word, false)).ok()?.trim().parse().ok()
    }
}

/// Whether an element of a list names its subscript: `[key]=value`.
pub(in crate::eval) fn has_subscript(word: &Word) -> bool {
    let starts = matches!(word.0.first(), Some(Part::Plain(text)) if text.starts_with(b"["));
    starts && word.0.iter().any(|part| matches!(part, Part::Plain(text) if memchr::memmem::find(text, b"]=").is_some()))
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
