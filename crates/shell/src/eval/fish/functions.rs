//! Functions and aliases of fish, and the events that call them.

use std::sync::Arc;

use super::{Defined, Fish};
use crate::FileType;
use crate::eval::run::Flow;
use crate::eval::state::{Alias, AliasKind, Function};
use crate::syntax::fish::parse;

impl Fish<'_> {
    pub(super) fn functions_word(&mut self, arguments: &[Vec<u8>]) -> Option<u8> {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        let names = arguments.iter().skip(1);
        match first {
            b"-e" | b"--erase" => {
                for name in names {
                    self.run.state.functions.remove(name);
                    self.run.state.aliases.remove(name);
                    self.bodies.remove(name);
                    // Its file is not read any more.
                    self.run.state.disabled.insert(name.clone());
                }
                Some(0)
            }
            b"-q" | b"--query" => {
                let is_there = |name: &Vec<u8>| self.run.state.functions.contains_key(name) || self.is_shipped(name);
                let certain = |name: &Vec<u8>| self.run.state.functions.get(name).is_none_or(|one| one.certain);
                let is_certain = self.run.state.taints.is_empty() && names.clone().all(certain);
                is_certain.then(|| u8::from(!names.clone().all(is_there)))
            }
            b"-c" | b"--copy" => {
                if let [_, from, to] = arguments
                    && let Some(defined) = self.load(from)
                {
                    let place = self.run.place.clone();
                    let function = Function::new(None, place);
                    self.run.state.functions.insert(to.clone(), function);
                    self.bodies.insert(to.clone(), defined);
                }
                Some(0)
            }
            _ => None,
        }
    }

    pub(super) fn alias(&mut self, arguments: &[Vec<u8>]) {
        let words: Vec<&Vec<u8>> = arguments.iter().filter(|word| !word.starts_with(b"-")).collect();
        let (name, value) = match words[..] {
            [one] => match memchr::memchr(b'=', one) {
                Some(at) => (one[..at].to_vec(), one[at + 1..].to_vec()),
                None => {
                    self.run.status = None;
                    return;
                }
            },
            [name, ..] => (name.clone(), words[1..].iter().map(|word| word.as_slice()).collect::<Vec<_>>().join(&b' ')),
            [] => return,
        };
        let place = self.run.place.clone();
        let certain = self.run.read_taints.is_empty();
        let alias = Alias { value: value.clone(), place: place.clone(), certain, kind: AliasKind::Command };
        self.run.state.aliases.insert(name.clone(), alias);
        let function = Function { certain, ..Function::new(None, place) };
        self.run.state.functions.insert(name.clone(), function);
        // A function of the name with the arguments behind.
        let is_self = value.starts_with(&[&name[..], b" "].concat()) || value == name;
        let text = [if is_self { &b"command "[..] } else { b"" }, &value, b" $argv"].concat();
        if let Ok(body) = parse(&text, self.run.place.line) {
            self.bodies.insert(
                name,
                Defined { body: Arc::new(body), names: Vec::new(), inherited: Vec::new(), shares: false },
            );
        }
    }

    /// `emit`: calls the functions that wait for an event.
    pub(super) fn emit(&mut self, arguments: &[Vec<u8>]) -> Flow {
        let Some((event, rest)) = arguments.split_first() else { return Flow::Next };
        for function in self.listeners.get(event).cloned().unwrap_or_default() {
            if let Some(defined) = self.load(&function) {
                let flow = self.call(&defined, rest.to_vec());
                if flow != Flow::Next {
                    return flow;
                }
            }
        }
        self.run.status = Some(0);
        Flow::Next
    }

    /// `export` and `setenv`, functions that fish brings.
    pub(super) fn export(&mut self, name: &[u8], arguments: &[Vec<u8>]) {
        let pairs: Vec<(Vec<u8>, Option<Vec<u8>>)> = match (name, arguments) {
            (b"setenv", [name]) => vec![(name.clone(), Some(Vec::new()))],
            (b"setenv", [name, value]) => vec![(name.clone(), Some(value.clone()))],
            (b"export", words) if !words.is_empty() => words
                .iter()
                .map(|word| match memchr::memchr(b'=', word) {
                    Some(at) => (word[..at].to_vec(), Some(word[at + 1..].to_vec())),
                    None => (word.clone(), None),
                })
                .collect(),
            _ => {
                self.run.status = None;
                return;
            }
        };
        for (name, value) in pairs {
            if !crate::syntax::is_name(&name) {
                self.run.taint_for_good("exports a variable whose name is unknown");
                continue;
            }
            let old = self.list_of(&name).unwrap_or_default();
            let values = match value {
                Some(value) if matches!(&name[..], b"PATH" | b"CDPATH" | b"MANPATH") => {
                    value.split(|&b| b == b':').map(<[u8]>::to_vec).collect()
                }
                Some(value) => vec![value],
                None => old.clone(),
            };
            let is_made_of_old = !old.is_empty() && values.windows(old.len()).any(|some| some == old);
            self.assign(&name, values, is_made_of_old, Some(true));
        }
    }

    /// Whether fish brings a function of this name, which is read when it is first called.
    pub(super) fn is_shipped(&self, name: &[u8]) -> bool {
        let file = [&self.dirs.data[..], b"/functions/", name, b".fish"].concat();
        !name.contains(&b'/') && !self.run.state.disabled.contains(name) && self.run.kind(&file) == Some(FileType::File)
    }
}
