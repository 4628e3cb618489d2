//! Arrays: indexed ones, with and without gaps, associative ones, and their elements.

use std::collections::BTreeMap;

use super::lists::{parts, tied};
use super::piece::is_known;
use super::run::{Mishap, Run};
use super::state::{Value, Variable};
use super::subscript::UNNUMBERED;
use crate::syntax::{Assigned, Dialect, Parser, Part, Word};

/// A larger index is not followed.
const MAX_INDEX: i64 = 100_000;

impl Run<'_> {
    /// A list's parts, where the variable is one. zsh's `path` is `PATH`.
    pub(super) fn list_of(&mut self, name: &[u8]) -> Option<Vec<Vec<u8>>> {
        if let (Dialect::Zsh, Some(tied)) = (self.dialect(), tied(name)) {
            let list = self.state.get(tied).unwrap_or_default();
            return Some(parts(list).into_iter().map(<[u8]>::to_vec).collect());
        }
        if self.dialect() == Dialect::Zsh && matches!(name, b"argv" | b"@" | b"*") {
            return Some(self.state.arguments.clone());
        }
        let Some(Variable { value, .. }) = self.state.variables.get(self.state.meant(name)) else {
            return self.own_list(name);
        };
        match value {
            Value::Text(_) => None,
            Value::List(list) => Some(list.clone()),
            Value::Sparse(list) => Some(list.values().cloned().collect()),
            Value::Map(map) if map.len() < 2 => Some(map.values().cloned().collect()),
            Value::Map(_) => Some(vec![self.unknown_value("the order of an associative array")]),
        }
    }

    /// A list that the shell sets by itself.
    fn own_list(&self, name: &[u8]) -> Option<Vec<Vec<u8>>> {
        let list: &[&[u8]] = match name {
            b"BASH_VERSINFO" => &[b"5", b"2", b"15", b"1", b"release", b"x86_64-pc-linux-gnu"],
            _ => return None,
        };
        (self.dialect() == Dialect::Bash).then(|| list.iter().map(|text| text.to_vec()).collect())
    }

    /// The keys of an array: numbers, or those of an associative one.
    pub(super) fn keys_of(&mut self, name: &[u8]) -> Vec<Vec<u8>> {
        let decimal = |number: i64| number.to_string().into_bytes();
        match self.state.variables.get(self.state.meant(name)).map(|variable| &variable.value) {
            None => Vec::new(),
            Some(Value::Text(_)) => vec![b"0".to_vec()],
            Some(Value::List(list)) => (0..).zip(list).map(|(number, _)| decimal(number)).collect(),
            Some(Value::Sparse(list)) => list.keys().map(|number| decimal(*number)).collect(),
            Some(Value::Map(map)) if map.len() < 2 => map.keys().cloned().collect(),
            Some(Value::Map(_)) => vec![self.unknown_value("the order of an associative array")],
        }
    }

    /// Keys and values in turn, as `${(kv)name}` gives them.
    pub(super) fn pairs_of(&mut self, name: &[u8], keys: bool, values: bool) -> Option<Vec<Vec<u8>>> {
        let Some(Variable { value: Value::Map(map), .. }) = self.state.variables.get(name) else { return None };
        if map.len() > 1 {
            return Some(vec![self.unknown_value("the order of an associative array")]);
        }
        let pair = |(key, value): (&Vec<u8>, &Vec<u8>)| {
            let one = keys.then(|| key.clone());
            one.into_iter().chain(values.then(|| value.clone())).collect::<Vec<_>>()
        };
        Some(map.iter().flat_map(pair).collect())
    }

    /// An element of an array; `None` where there is none.
    pub(super) fn element(&mut self, name: &[u8], index: &[u8]) -> Option<Vec<u8>> {
        let meant = self.state.meant(name).to_vec();
        match self.state.variables.get(&meant).map(|variable| &variable.value) {
            Some(Value::Map(_)) if self.dialect() == Dialect::Zsh && index.starts_with(b"(") => {
                self.unknown_element("a flag of the subscript of an associative array")
            }
            Some(Value::Map(_)) => {
                let key = self.key(index);
                if !is_known(&key) {
                    return self.unknown_element("an element of an array whose key is unknown");
                }
                let Some(Variable { value: Value::Map(map), .. }) = self.state.variables.get(&meant) else {
                    return None;
                };
                map.get(&key).cloned()
            }
            _ if self.dialect() == Dialect::Zsh => match self.list_of(&meant) {
                Some(list) => self.indexed(&list, index),
                None if self.state.get(&meant).is_some() || self.has_own(&meant) => {
                    let _ = self.indexed(&[], index);
                    Some(self.unknown_value("a part of a variable that is no list"))
                }
                None => self.indexed(&[], index),
            },
            _ => {
                let Some(number) = self.computed_index(index) else { return self.unknown_element(UNNUMBERED) };
                if let Some(Variable { value: Value::Sparse(list), .. }) = self.state.variables.get(&meant) {
                    return list.get(&from_start(list, number)).cloned();
                }
                if let Some(list) = self.list_of(&meant) {
                    return self.numbered(&list, number);
                }
                let text = self.text_of(&meant)?;
                if !is_known(&text) {
                    return Some(self.unknown_value("a part of a variable that is no list"));
                }
                (number == 0).then_some(text)
            }
        }
    }

    /// The key in brackets, without its quotes.
    fn key(&mut self, index: &[u8]) -> Vec<u8> {
        if let Some(inner) = index.strip_prefix(b"'").and_then(|rest| rest.strip_suffix(b"'")) {
            return inner.to_vec();
        }
        let Ok(word) = Parser::in_quotes(index, self.dialect()) else {
            return self.unknown_value("the key of an element");
        };
        let mut word = word;
        if let (Some(Part::Double(parts)), Dialect::Bash) = (word.0.first_mut(), self.at.dialect) {
            for part in parts {
                if let Part::Plain(text) | Part::Quoted(text) = part {
                    text.retain(|b| *b != b'"');
                }
            }
        }
        self.one(&word, false)
    }

    /// What is assigned to a variable of this name.
    pub(super) fn assigned_to(&mut self, name: &[u8], value: &Assigned) -> Value {
        let words = match value {
            Assigned::Word(word) => return Value::Text(self.one(word, true)),
            Assigned::List(words) => words,
        };
        let meant = self.state.meant(name).to_vec();
        let is_map = matches!(self.state.variables.get(&meant), Some(Variable { value: Value::Map(_), .. }));
        let has_keys = words.iter().any(|word| keyed(word).is_some());
        if is_map && !has_keys {
            let fields = self.fields(words);
            if fields.iter().any(|field| !is_known(field)) {
                return Value::Text(self.unknown_value("an associative array with unknown keys"));
            }
            if fields.len() % 2 == 1 && self.dialect() == Dialect::Zsh {
                self.fail(Mishap::Expansion); // "bad set of key/value pairs"
            }
            return Value::Map(
                fields.chunks(2).map(|two| (two[0].clone(), two.get(1).cloned().unwrap_or_default())).collect(),
            );
        }
        if !has_keys {
            return Value::List(self.fields(words));
        }
        let mut map = BTreeMap::new();
        let mut list = BTreeMap::new();
        let mut next = i64::from(self.dialect() == Dialect::Zsh);
        for word in words {
            let Some((key, value)) = keyed(word) else {
                for field in self.fields(std::slice::from_ref(word)) {
                    list.insert(next, field);
                    next += 1;
                }
                continue;
            };
            let key = self.one(&key, false);
            let value = match (is_map, self.dialect()) {
                // `~` means itself there.
                (true, Dialect::Bash) => self.one(&without_tilde(value), false),
                (_, dialect) => self.one(&value, dialect == Dialect::Bash),
            };
            if is_map && is_known(&key) {
                map.insert(key, value);
                continue;
            }
            let number = if is_map { None } else { self.computed_index(&key) };
            let Some(number) = number.filter(|number| (0..MAX_INDEX).contains(number)) else {
                return Value::Text(self.unknown_value("an array that is assigned by subscripts"));
            };
            list.insert(number, value);
            next = number + 1;
        }
        match (is_map, self.dialect()) {
            (true, _) => Value::Map(map),
            (false, Dialect::Zsh) => {
                let last = list.keys().next_back().copied().unwrap_or(0);
                Value::List((1..=last).map(|number| list.remove(&number).unwrap_or_default()).collect())
            }
            _ => dense(list),
        }
    }

    /// A list with other elements at an index, or in zsh at a range of them; `None` where it cannot be followed.
    pub(super) fn with_elements(
        &mut self,
        name: &[u8],
        list: Option<Vec<Vec<u8>>>,
        index: &[u8],
        new: Value,
    ) -> Option<Value> {
        let is_zsh = self.dialect() == Dialect::Zsh;
        let meant = self.state.meant(name).to_vec();
        let current = self.state.variables.get(&meant).map(|variable| variable.value.clone());
        // What is unknown may be several elements, or none.
        if list.iter().flatten().any(|one| !is_known(one)) {
            return None;
        }
        if let (Some(Value::Map(mut map)), Value::Text(text)) = (current.clone(), &new) {
            let key = Some(self.key(index)).filter(|key| is_known(key))?;
            if key.is_empty() && !is_zsh {
                self.fail(Mishap::Expansion); // "bad array subscript"
            }
            map.insert(key, text.clone());
            return Some(Value::Map(map));
        }
        if !is_zsh {
            let Value::Text(text) = new else { return None };
            let listed = || (0..).zip(list.unwrap_or_default()).collect();
            let mut elements = current.map_or_else(listed, numbered);
            let Some(number) = self.computed(index) else {
                // Where it is no expression, bash reads no further.
                self.taint_for_good("assigns to a subscript that cannot be computed");
                return None;
            };
            let number = from_start(&elements, number);
            if !(0..MAX_INDEX).contains(&number) {
                return None;
            }
            elements.insert(number, text);
            return Some(dense(elements));
        }
        // In zsh an index of a text is that of a character.
        let mut list = match (list, current) {
            (Some(list), _) => list,
            (None, None) => Vec::new(),
            (None, Some(_)) => return None,
        };
        let length = i64::try_from(list.len()).ok()?;
        // Each is expanded once: `$((i++))` counts.
        let comma = memchr::memchr(b',', index).filter(|_| !index.starts_with(b"("));
        let first = self.place_in(&list, &index[..comma.unwrap_or(index.len())])?;
        let last = comma.map_or(Some(first), |comma| self.place_in(&list, &index[comma + 1..]))?;
        let place = |number: i64| if number < 0 { length + number } else { number - 1 };
        let start = usize::try_from(place(first)).ok().filter(|start| (*start as i64) < MAX_INDEX)?;
        let new = match new {
            Value::Text(text) => vec![text],
            Value::List(new) => new,
            _ => return None,
        };
        if start > list.len() {
            list.resize(start, Vec::new());
        }
        let end = usize::try_from(place(last) + 1).ok()?.clamp(start, list.len());
        list.splice(start..end, new);
        Some(Value::List(list))
    }

    /// The number of an element in zsh: a number, or where an element fits (`(i)…`, `(r)…`).
    fn place_in(&mut self, list: &[Vec<u8>], index: &[u8]) -> Option<i64> {
        if index.starts_with(b"(") {
            let index = [&b"(i)"[..], &index[memchr::memchr(b')', index)? + 1..]].concat();
            let found = self.indexed(list, &index)?;
            return std::str::from_utf8(&found).ok()?.parse().ok();
        }
        self.computed_index(index)
    }

    /// `unset NAME[index]`.
    pub(super) fn unset_element(&mut self, name: &[u8], index: &[u8]) {
        let meant = self.state.meant(name).to_vec();
        let Some(value) = self.state.variables.get(&meant).map(|variable| variable.value.clone()) else { return };
        let value = match value {
            Value::Map(mut map) => {
                let key = self.key(index);
                if is_known(&key) {
                    map.remove(&key);
                    Value::Map(map)
                } else {
                    Value::Text(self.unknown_value("which element of an array is unset"))
                }
            }
            Value::List(_) | Value::Sparse(_) => {
                let mut elements = numbered(value);
                match self.computed_index(index) {
                    Some(number) if self.dialect() == Dialect::Bash => {
                        elements.remove(&from_start(&elements, number));
                        dense(elements)
                    }
                    _ => Value::Text(self.unknown_value("which element of an array is unset")),
                }
            }
            Value::Text(_) => return,
        };
        self.assign(name, value, true);
    }
}

/// A word in which `~` at the start means itself.
fn without_tilde(mut word: Word) -> Word {
    if let Some(part @ Part::Plain(_)) = word.0.first_mut()
        && let Part::Plain(text) = part
        && text.starts_with(b"~")
    {
        *part = Part::Quoted(std::mem::take(text));
    }
    word
}

/// The elements of an indexed array by number; a text is the first.
fn numbered(value: Value) -> BTreeMap<i64, Vec<u8>> {
    match value {
        Value::Sparse(elements) => elements,
        Value::List(list) => (0..).zip(list).collect(),
        Value::Text(text) => BTreeMap::from([(0, text)]),
        Value::Map(_) => BTreeMap::new(),
    }
}

/// A number counted from the start; a negative one is given from behind the last element.
fn from_start(elements: &BTreeMap<i64, Vec<u8>>, number: i64) -> i64 {
    let end = elements.keys().next_back().map_or(0, |last| last + 1);
    if number < 0 { end + number } else { number }
}

/// A list without gaps where there are none.
fn dense(elements: BTreeMap<i64, Vec<u8>>) -> Value {
    let has_gaps = (0..).zip(elements.keys()).any(|(number, key)| number != *key);
    if has_gaps { Value::Sparse(elements) } else { Value::List(elements.into_values().collect()) }
}

/// The key and the value of an element that names its subscript: `[key]=value`.
fn keyed(word: &Word) -> Option<(Word, Word)> {
    let Some(Part::Plain(first)) = word.0.first() else { return None };
    if !first.starts_with(b"[") {
        return None;
    }
    let end = |part: &Part| match part {
        Part::Plain(text) => memchr::memmem::find(text, b"]="),
        _ => None,
    };
    let (number, at) = word.0.iter().enumerate().find_map(|(number, part)| Some((number, end(part)?)))?;
    let Part::Plain(last) = &word.0[number] else { return None };
    let plain = |text: &[u8]| Part::Plain(text.to_vec());
    let mut key: Vec<Part> = word.0[..number].to_vec();
    key.push(plain(&last[..at]));
    if let Some(Part::Plain(text)) = key.first_mut() {
        text.remove(0);
    }
    let mut value = vec![plain(&last[at + 2..])];
    value.extend(word.0[number + 1..].iter().cloned());
    let kept = |parts: Vec<Part>| Word(parts.into_iter().filter(|part| *part != plain(b"")).collect());
    Some((kept(key), kept(value)))
}
