//! Commands that fish has built in, as far as they change what is followed here.

use std::sync::Arc;

use super::{Defined, Fish};
use crate::FileType;
use crate::eval::piece::is_known;
use crate::eval::rules;
use crate::eval::run::Flow;
use crate::eval::state::{Alias, AliasKind, Function, LISTS, Variable};
use crate::syntax::fish::parse;
use crate::syntax::pattern;
use whodunit_formats::bytes::{ByteString, path};

impl Fish<'_> {
    pub(super) fn command(&mut self, name: &[u8], arguments: Vec<Vec<u8>>) -> Flow {
        if !is_known(name) {
            let unknown = self.note_unknown("runs a command whose name is unknown");
            self.taint_all(unknown);
            self.run.status = None;
            return Flow::Next;
        }
        if let Some(defined) = self.load(name) {
            return self.call(&defined, arguments);
        }
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        self.run.status = Some(0);
        match name {
            b"set" => self.set(&arguments),
            b"fish_add_path" => self.add_path(&arguments),
            b"source" | b"." => return self.source(first, Some(arguments[arguments.len().min(1)..].to_vec())),
            b"eval" => return self.text(&arguments.join(&b' '), None),
            b"test" | b"[" => {
                let mut words = arguments;
                if name == b"[" {
                    words.pop();
                }
                let holds = self.run.test(&words);
                self.run.status = holds.map(|holds| u8::from(!holds));
            }
            b"true" | b":" | b"abbr" | b"bind" | b"complete" | b"functions" | b"emit" | b"umask" => {
                self.run.status = if name == b"functions" { self.functions_word(&arguments) } else { Some(0) };
            }
            b"false" => self.run.status = Some(1),
            b"contains" => self.contains(&arguments),
            b"status" => self.status(&arguments),
            b"type" | b"command" | b"builtin" => return self.command_word(name, &arguments),
            b"alias" => self.alias(&arguments),
            b"return" => {
                self.run.status = std::str::from_utf8(first).ok().and_then(|text| text.parse().ok()).or(Some(0));
                return Flow::Return;
            }
            b"exit" | b"exec" => return Flow::Exit,
            b"break" => return Flow::Break(1),
            b"continue" => return Flow::Continue(1),
            b"cd" => {
                if self.run.kind(first) == Some(FileType::Dir) {
                    self.run.state.dir = self.run.absolute(first);
                }
            }
            b"echo" | b"printf" => {
                let text = arguments.iter().filter(|word| *word != b"-n").cloned().collect::<Vec<_>>().join(&b' ');
                if name == b"printf" && text.contains(&b'%') {
                    let unknown = self.unknown_value("an unsupported form of printf");
                    self.write(unknown);
                } else {
                    text.split(|&b| b == b'\n').for_each(|line| self.write(line.to_vec()));
                }
            }
            b"string" => self.string(&arguments),
            b"read" | b"math" | b"random" | b"count" | b"path" | b"argparse" => {
                self.run.status = None;
                if self.output.is_some() {
                    let unknown = self.unknown_value(format!("{} is not supported", ByteString::from(name)));
                    self.write(unknown);
                }
            }
            _ => self.program(name, &arguments),
        }
        Flow::Next
    }

    fn contains(&mut self, arguments: &[Vec<u8>]) {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        let index = matches!(first, b"-i" | b"--index");
        let rest: Vec<&Vec<u8>> = arguments.iter().skip(usize::from(index)).skip_while(|word| *word == b"--").collect();
        let at = rest.split_first().and_then(|(wanted, list)| list.iter().position(|one| one == wanted));
        if let (Some(at), true) = (at, index) {
            self.write((at + 1).to_string().into_bytes());
        }
        self.run.status = Some(u8::from(at.is_none()));
    }

    fn status(&mut self, arguments: &[Vec<u8>]) {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        self.run.status = match first {
            b"is-login" | b"--is-login" | b"-l" => Some(u8::from(!self.run.at.is_login)),
            b"is-interactive" | b"--is-interactive" | b"-i" => Some(u8::from(!self.run.at.is_interactive)),
            b"is-command-substitution" => Some(u8::from(self.output.is_none())),
            b"filename" | b"current-filename" | b"-f" => {
                self.write(self.run.place.file.to_vec());
                Some(0)
            }
            b"dirname" => {
                self.write(path::parent(&self.run.place.file).to_vec());
                Some(0)
            }
            _ => None,
        }
    }

    pub(super) fn program(&mut self, name: &[u8], arguments: &[Vec<u8>]) {
        // The rules speak the language of the other shells; this one's own set-up is told apart.
        let list = self.list_of(b"PATH").unwrap_or_default().join(&b':');
        let known = self.run.state.variables.insert(b"PATH".to_vec(), Variable::text(list, true));
        let kept = self.run.output.replace(Vec::new());
        let is_set_up = rules::is_set_up(self.run.which(name).as_deref(), arguments);
        if is_set_up {
            let file = self.run.which(name).unwrap_or_default();
            for line in rules::of_program_in_fish(&mut self.run, &file, arguments) {
                self.write(line);
            }
            self.run.status = Some(0);
        } else {
            self.run.program(name, arguments);
            let text = self.run.output.take().unwrap_or_default();
            if !text.is_empty() {
                let lines = text.strip_suffix(b"\n").unwrap_or(&text);
                lines.split(|&b| b == b'\n').for_each(|line| self.write(line.to_vec()));
            }
        }
        self.run.output = kept;
        if let Some(known) = known {
            self.run.state.variables.insert(b"PATH".to_vec(), known);
        }
    }

    pub(super) fn set(&mut self, arguments: &[Vec<u8>]) {
        let (mut exported, mut local, mut erase, mut query, mut append, mut prepend) =
            (None, false, false, false, false, false);
        let mut at = 0;
        while let Some(word) = arguments.get(at).filter(|word| word.len() > 1 && word.starts_with(b"-")) {
            at += 1;
            match &word[..] {
                b"--" => break,
                b"--export" => exported = Some(true),
                b"--unexport" => exported = Some(false),
                b"--local" | b"--function" => local = true,
                b"--erase" => erase = true,
                b"--query" => query = true,
                b"--append" => append = true,
                b"--prepend" => prepend = true,
                word if word.starts_with(b"--") => {}
                letters => {
                    for letter in &letters[1..] {
                        match letter {
                            b'x' => exported = Some(true),
                            b'u' => exported = Some(false),
                            b'l' | b'f' => local = true,
                            b'e' => erase = true,
                            b'q' => query = true,
                            b'a' => append = true,
                            b'p' => prepend = true,
                            _ => {}
                        }
                    }
                }
            }
        }
        let rest = &arguments[at..];
        if query {
            let missing = rest.iter().filter(|name| !self.run.state.variables.contains_key(*name)).count();
            self.run.status = Some(u8::try_from(missing).unwrap_or(255));
            return;
        }
        let Some((name, values)) = rest.split_first() else { return };
        let (name, index) = match memchr::memchr(b'[', name) {
            Some(open) => (name[..open].to_vec(), Some(name[open + 1..].to_vec())),
            None => (name.clone(), None),
        };
        let old = self.list_of(&name).unwrap_or_default();
        if let Some(index) = index {
            let number: Option<i64> = String::from_utf8_lossy(&index).trim_end_matches(']').trim().parse().ok();
            let length = i64::try_from(old.len()).unwrap_or(0);
            let place = number.map(|number| if number < 0 { length + number } else { number - 1 });
            let mut list = old;
            if let Some(place) = place.and_then(|place| usize::try_from(place).ok()).filter(|place| *place < list.len())
            {
                if erase {
                    list.remove(place);
                } else if let Some(value) = values.first() {
                    list[place].clone_from(value);
                }
            }
            return self.assign(&name, list, true, exported);
        }
        if erase {
            self.run.state.variables.remove(&name);
            if name == b"fish_user_paths" {
                self.rebuild();
            }
            return;
        }
        if local && !(LISTS.contains(&name.as_slice()) && self.scopes.is_empty()) {
            self.hide(&name);
        }
        let values = values.to_vec();
        // Whether it was made of the old one is seen by what is in it.
        let holds_old = !old.is_empty() && values.windows(old.len()).any(|some| some == old);
        let list = match (append, prepend) {
            (true, _) => [old, values].concat(),
            (_, true) => [values, old].concat(),
            _ => values,
        };
        self.assign(&name, list, append || prepend || holds_old, exported);
    }

    pub(super) fn add_path(&mut self, arguments: &[Vec<u8>]) {
        let has = |letter: u8, long: &[u8]| {
            let is_it = |word: &Vec<u8>| {
                word == long || (word.starts_with(b"-") && !word.starts_with(b"--") && word[1..].contains(&letter))
            };
            arguments.iter().any(is_it)
        };
        let (append, moves, is_path) = (has(b'a', b"--append"), has(b'm', b"--move"), has(b'P', b"--path"));
        let variable: &[u8] = if is_path { b"PATH" } else { b"fish_user_paths" };
        let old = self.list_of(variable).unwrap_or_default();
        let (mut new, mut kept) = (Vec::new(), old.clone());
        for word in arguments.iter().filter(|word| !word.starts_with(b"-")) {
            if !is_known(word) {
                new.push(word.clone());
                continue;
            }
            let dir = path::absolute(word, &self.run.state.dir).to_vec();
            if self.run.kind(&dir) != Some(FileType::Dir) || new.contains(&dir) {
                continue;
            }
            if old.contains(&dir) {
                if !moves {
                    continue;
                }
                kept.retain(|one| *one != dir);
            }
            new.push(dir);
        }
        if new.is_empty() {
            self.run.status = Some(1);
            return;
        }
        let list = if append { [kept, new].concat() } else { [new, kept].concat() };
        self.assign(variable, list, true, is_path.then_some(true));
    }

    pub(super) fn functions_word(&mut self, arguments: &[Vec<u8>]) -> Option<u8> {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        let names = arguments.iter().skip(1);
        match first {
            b"-e" | b"--erase" => {
                for name in names {
                    self.run.state.functions.remove(name);
                    self.bodies.remove(name);
                }
                Some(0)
            }
            b"-q" | b"--query" => {
                let all = names.clone().all(|name| self.run.state.functions.contains_key(name));
                Some(u8::from(!all))
            }
            b"-c" | b"--copy" => {
                if let [_, from, to] = arguments
                    && let Some(defined) = self.load(from)
                {
                    let place = self.run.place.clone();
                    let function = Function { body: None, place, certain: true, exported: false };
                    self.run.state.functions.insert(to.clone(), function);
                    self.bodies.insert(to.clone(), defined);
                }
                Some(0)
            }
            _ => None,
        }
    }

    pub(super) fn command_word(&mut self, word: &[u8], arguments: &[Vec<u8>]) -> Flow {
        let (options, names): (Vec<_>, Vec<_>) = arguments.iter().partition(|one| one.starts_with(b"-"));
        let has = |short: u8, long: &[u8]| {
            options.iter().any(|option| *option == long || (!option.starts_with(b"--") && option.contains(&short)))
        };
        let asks = word == b"type" || has(b'v', b"--search") || has(b's', b"--search") || has(b'q', b"--query");
        if !asks {
            let Some((name, rest)) = arguments.split_first() else { return Flow::Next };
            if word == b"builtin" {
                let (defined, function) = (self.bodies.remove(name), self.run.state.functions.remove(name));
                let flow = self.command(&name.clone(), rest.to_vec());
                self.bodies.extend(defined.map(|defined| (name.clone(), defined)));
                self.run.state.functions.extend(function.map(|function| (name.clone(), function)));
                return flow;
            }
            self.program(name, rest);
            return Flow::Next;
        }
        let is_quiet = has(b'q', b"--query") || (word == b"type" && !has(b'p', b"--path"));
        let mut found = false;
        let list = self.list_of(b"PATH").unwrap_or_default().join(&b':');
        let known = self.run.state.variables.insert(b"PATH".to_vec(), Variable::text(list, true));
        for name in names {
            let is_function = word == b"type" && self.run.state.functions.contains_key(name);
            let file = self.run.which(name);
            found |= is_function || file.is_some();
            if let Some(file) = file.filter(|_| !is_quiet) {
                self.write(file);
            }
        }
        if let Some(known) = known {
            self.run.state.variables.insert(b"PATH".to_vec(), known);
        }
        self.run.status = Some(u8::from(!found));
        Flow::Next
    }

    pub(super) fn alias(&mut self, arguments: &[Vec<u8>]) {
        let words: Vec<&Vec<u8>> = arguments.iter().filter(|word| !word.starts_with(b"-")).collect();
        let (name, value) = match words[..] {
            [one] => match memchr::memchr(b'=', one) {
                Some(at) => (one[..at].to_vec(), one[at + 1..].to_vec()),
                None => return,
            },
            [name, ..] => (name.clone(), words[1..].iter().map(|word| word.as_slice()).collect::<Vec<_>>().join(&b' ')),
            [] => return,
        };
        let place = self.run.place.clone();
        let alias = Alias { value: value.clone(), place: place.clone(), certain: true, kind: AliasKind::Command };
        self.run.state.aliases.insert(name.clone(), alias);
        let function = Function { body: None, place, certain: true, exported: false };
        self.run.state.functions.insert(name.clone(), function);
        // A function of the name with the arguments behind.
        let is_self = value.starts_with(&[&name[..], b" "].concat()) || value == name;
        let text = [if is_self { &b"command "[..] } else { b"" }, &value, b" $argv"].concat();
        if let Ok(body) = parse(&text, self.run.place.line) {
            self.bodies.insert(name, Defined { body: Arc::new(body), names: Vec::new() });
        }
    }

    pub(super) fn string(&mut self, arguments: &[Vec<u8>]) {
        let rest: Vec<Vec<u8>> = arguments.iter().skip(1).filter(|word| !word.starts_with(b"-")).cloned().collect();
        let has = |option: &[u8]| arguments.iter().any(|word| word == option);
        match (arguments.first().map(Vec::as_slice), &rest[..]) {
            (Some(b"match"), [wanted, texts @ ..]) if has(b"-q") || has(b"--quiet") => {
                let is_plain = !has(b"-r") && !has(b"--regex");
                let known = texts.iter().all(|text| is_known(text));
                self.run.status =
                    (is_plain && known).then(|| u8::from(!texts.iter().any(|text| pattern::fits(wanted, text))));
            }
            (Some(b"split"), [separator, texts @ ..]) if separator.len() == 1 => {
                for text in texts {
                    text.split(|b| *b == separator[0]).for_each(|part| self.write(part.to_vec()));
                }
            }
            (Some(b"join"), [separator, texts @ ..]) => {
                let text = texts.join(&separator[..]);
                self.write(text);
            }
            _ => {
                self.run.status = None;
                let unknown = self.unknown_value("the output of `string`");
                self.write(unknown);
            }
        }
    }
}
