//! Sets variables, and remembers who did.

use std::collections::BTreeSet;

use super::{Mishap, Run};
use crate::eval::builtin_names::among;
use crate::eval::lists::{self, LISTS, places_after};
use crate::eval::piece::is_known;
use crate::eval::state::{Attributes, Value, Variable};
use crate::syntax::{Assigned, Assignment, Dialect, Part};

/// Longer lists of directories are not followed.
const MAX_DIRS: usize = 1000;
/// Longer values are not.
const LONGEST_VALUE: usize = 2 << 20;

/// So many elements of a list cost a step each time that it is assigned.
const ELEMENTS: usize = 16;

/// Why what follows a value that is not carried along is unknown.
const TOO_LONG: &str = "a value that is too long";

/// Of which zsh's lists and texts think differently.
pub(super) const EMPTY_LIST: &str = "a search path that is empty is a list of one empty element";

impl Run<'_> {
    /// Whether a value is larger than is carried along; nothing is known after that.
    pub(in crate::eval) fn is_too_much(&mut self, name: &[u8], value: &Value) -> bool {
        let (length, count) = match value {
            Value::Text(text) if LISTS.contains(&name) => (text.len(), memchr::memchr_iter(b':', text).count()),
            Value::Text(text) => (text.len(), 0),
            Value::List(list) => (list.iter().map(|one| one.len() + 1).sum(), list.len()),
            Value::Sparse(list) => (list.values().map(|one| one.len() + 1).sum(), list.len()),
            Value::Map(map) => (map.iter().map(|(key, one)| key.len() + one.len() + 1).sum(), map.len()),
        };
        let is_dirs = LISTS.contains(&name) || name == b"fish_user_paths";
        if is_dirs && count > MAX_DIRS {
            self.stop(TOO_LONG);
            return true;
        }
        // Each element is copied on its own, which takes longer than its bytes do.
        self.step(u32::try_from(count / ELEMENTS).unwrap_or(u32::MAX));
        self.is_too_long(length)
    }

    /// Whether a value of so many bytes is more than is carried along; nothing is known after that.
    pub(in crate::eval) fn is_too_long(&mut self, length: usize) -> bool {
        let is_too_much = length > LONGEST_VALUE;
        if is_too_much {
            self.stop(TOO_LONG);
        } else {
            self.step(u32::try_from(length / 1024).unwrap_or(0));
        }
        is_too_much
    }

    /// Sets a variable, and remembers who did. One that is read-only stays as it is.
    pub(in crate::eval) fn assign(&mut self, name: &[u8], value: Value, is_made_of_old: bool) {
        let name = &self.state.meant(name).to_vec()[..];
        let by_list = self.dialect() == Dialect::Zsh && lists::tied(name).is_some();
        let (name, value, odd) = match (self.dialect(), lists::tied(name)) {
            (Dialect::Zsh, Some(tied)) => {
                let is_one_empty = tied != name && value == Value::Text(Vec::new());
                let (value, odd) = as_text(value);
                (tied, value, odd.or(is_one_empty.then_some(EMPTY_LIST)))
            }
            _ => (name, value, None),
        };
        if self.is_too_much(name, &value) {
            return;
        }
        if !self.minds(name, &value) {
            return;
        }
        let Some(value) = self.for_a_variable(name, value) else { return };
        let attributes = self.state.variables.get(name).map(|old| old.attributes).unwrap_or_default();
        if attributes.readonly {
            self.refusals += 1;
            self.status = Some(1);
            if self.dialect() != Dialect::Bash {
                self.fail(Mishap::Expansion);
            }
            return;
        }
        self.may_refuse(attributes);
        let value = self.shaped(value, attributes);
        let value = self.given_to_list(name, value);
        if let Some((unique, unique_list)) = self.unset_lists.remove(name) {
            let list = self.state.variables.entry(name.to_vec()).or_insert_with(|| Variable::text("", false));
            list.exported |= self.state.to_export.remove(name);
            (list.unique, list.unique_list) = (unique, unique_list);
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
            Some(old) => {
                let exported = old.exported || self.state.has(b"allexport");
                Variable { value, exported, is_perhaps: false, ..old.clone() }
            }
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
            } else if old.is_none() {
                variable.taints.clone_from(&self.state.unset_taints);
            }
            variable.taints.extend(&self.state.lasting_taints);
        } else {
            variable.taints.clear();
        }
        variable.taints.extend(&self.read_taints);
        let may_be_empty = self.dialect() == Dialect::Zsh && !by_list && LISTS.contains(&name);
        let empty = (may_be_empty && variable.as_text().is_empty()).then_some(EMPTY_LIST);
        if let Some(says) = odd.or(empty) {
            let unknown = self.note_unknown(says);
            variable.taints.insert(unknown);
        }
        self.state.variables.insert(name.to_vec(), variable);
    }

    /// What a shell makes of a variable of its own; false where it refuses the value.
    fn minds(&mut self, name: &[u8], value: &Value) -> bool {
        let is_number = |text: &[u8]| !is_known(text) || text.iter().all(u8::is_ascii_digit);
        match (self.dialect(), name, value) {
            (Dialect::Posix, b"OPTIND", Value::Text(text)) if !is_number(text) => {
                self.fail(Mishap::Expansion);
                return false;
            }
            (Dialect::Bash, b"POSIXLY_CORRECT", _) => drop(self.option(b"posix", true)),
            _ => {}
        }
        true
    }

    /// What is assigned, unless zsh does something else with a name: its tables, and `argv`.
    fn for_a_variable(&mut self, name: &[u8], value: Value) -> Option<Value> {
        const TABLES: &str = "aliases builtins commands functions galiases nameddirs options saliases";
        if self.dialect() != Dialect::Zsh {
            return Some(value);
        }
        if let (b"options", Value::List(pairs)) = (name, &value) {
            self.assign_options(&pairs.clone());
            return None;
        }
        if among(TABLES, name) {
            self.taint_for_good("an assignment to a table of the shell's own");
            return None;
        }
        if name != b"argv" {
            return Some(value);
        }
        let arguments = match value {
            Value::List(list) => list,
            Value::Text(text) => vec![text],
            Value::Sparse(_) | Value::Map(_) => self.uncounted(Vec::new(), true),
        };
        let taints = self.read_taints.clone();
        self.take_arguments(arguments, taints);
        None
    }

    /// Takes in that the shell may have refused to change a variable, and have left what it runs.
    pub(in crate::eval) fn may_refuse(&mut self, attributes: Attributes) {
        if !attributes.perhaps_readonly {
            return;
        }
        if self.dialect() == Dialect::Posix {
            self.early.push((self.mistake(), self.state.clone()));
        } else {
            self.taint_for_good("changes a variable that may be read-only");
        }
        self.status = None;
    }

    /// In bash a text that is given to a list is its first element.
    fn given_to_list(&self, name: &[u8], value: Value) -> Value {
        let Value::Text(text) = value else { return value };
        if self.dialect() != Dialect::Bash || !is_known(&text) {
            return Value::Text(text);
        }
        match self.state.variables.get(name).map(|old| &old.value) {
            Some(Value::List(list)) => Value::List(std::iter::once(text).chain(list.iter().skip(1).cloned()).collect()),
            Some(Value::Sparse(list)) => Value::Sparse(list.clone().into_iter().chain([(0, text)]).collect()),
            _ => Value::Text(text),
        }
    }

    fn is_integer(&self, name: &[u8]) -> bool {
        self.state.variables.get(self.state.meant(name)).is_some_and(|variable| variable.attributes.integer)
    }

    /// A value as a variable with these attributes keeps it.
    fn shaped(&mut self, value: Value, attributes: Attributes) -> Value {
        match value {
            Value::Text(_) if attributes.formatted => {
                Value::Text(self.unknown_value("a value that zsh keeps in a form of its own"))
            }
            Value::Text(text) if attributes.integer => Value::Text(self.number(&text)),
            Value::Text(mut text) if attributes.lower && attributes.upper => {
                text.make_ascii_lowercase();
                text.iter_mut().take(1).for_each(u8::make_ascii_uppercase);
                Value::Text(text)
            }
            Value::Text(text) if attributes.lower => Value::Text(text.to_ascii_lowercase()),
            Value::Text(text) if attributes.upper => Value::Text(text.to_ascii_uppercase()),
            other => other,
        }
    }

    /// One assignment of a command.
    pub(in crate::eval) fn assignment(&mut self, assignment: &Assignment) {
        let Assignment { name, index, append, value } = assignment;
        let refers = *append || index.is_some() || mentions(value, name);
        let new = self.assigned_to(name, value);
        if self.failure.is_some() {
            return;
        }
        if index.is_some() && self.at.dialect == Dialect::Bash && matches!(new, Value::List(_) | Value::Sparse(_)) {
            return self.fail(Mishap::Expansion); // "Cannot assign list to array member".
        }
        let is_map = matches!(self.state.variables.get(name), Some(Variable { value: Value::Map(_), .. }));
        let list = if is_map { None } else { self.list_of(name) };
        let value = match (index, new, list) {
            (Some(index), new, list) => {
                let new = match (append, new) {
                    (true, Value::Text(text)) => {
                        Value::Text([self.element(name, index).unwrap_or_default(), text].concat())
                    }
                    (_, new) => new,
                };
                let changed = self.with_elements(name, list, index, new);
                changed.unwrap_or_else(|| Value::Text(self.unknown_value("which element of an array is assigned")))
            }
            (None, Value::Map(new), None) if *append => match self.state.variables.get(name).map(|old| &old.value) {
                Some(Value::Map(old)) => Value::Map(old.clone().into_iter().chain(new).collect()),
                _ => Value::Map(new),
            },
            (None, Value::Text(text), None) if *append && self.is_integer(name) => {
                let sum = [self.state.get(name).unwrap_or(b"0"), b"+(", &text, b")"].concat();
                Value::Text(sum)
            }
            (None, Value::Sparse(new), Some(list)) if *append => {
                let old = match self.state.variables.get(name) {
                    Some(Variable { value: Value::Sparse(old), .. }) => old.clone(),
                    _ => (0..).zip(list).collect(),
                };
                // What has no number would follow the last of the old ones.
                match new.contains_key(&0) {
                    true => Value::Text(self.unknown_value("elements that are added to an array")),
                    false => Value::Sparse(old.into_iter().chain(new).collect()),
                }
            }
            (None, Value::List(new), Some(mut list)) if *append => match self.state.variables.get(name) {
                Some(Variable { value: Value::Sparse(old), .. }) => {
                    let next = old.keys().next_back().map_or(0, |last| last + 1);
                    Value::Sparse(old.clone().into_iter().chain((next..).zip(new)).collect())
                }
                _ => {
                    list.extend(new);
                    Value::List(list)
                }
            },
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
                    || lists::tied(&parameter.name) == Some(name)
                    || lists::tied(name).is_some_and(|tied| tied == parameter.name)
                    || parameter.inner.as_deref().is_some_and(|inner| in_parts(std::slice::from_ref(inner), name))
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

/// A list of zsh as the text that is tied to it, and why the two may differ.
fn as_text(value: Value) -> (Value, Option<&'static str>) {
    let Value::List(list) = value else { return (value, None) };
    let odd = match &list[..] {
        [one] if one.is_empty() => Some(EMPTY_LIST),
        list if list.iter().any(|one| one.contains(&b':')) => Some("an element of a search path has a colon in it"),
        _ => None,
    };
    (Value::Text(list.join(&b':')), odd)
}

/// A list with each part once, the first counting.
fn once_each(list: &[u8], separator: u8) -> Vec<u8> {
    let mut seen = BTreeSet::new();
    let kept: Vec<&[u8]> = list.split(|&b| b == separator).filter(|part| seen.insert(part.to_vec())).collect();
    kept.join(&separator)
}
