//! Follows what fish's configuration files would do, without doing it. Every variable is a list.

mod autoload;
mod builtins;
mod calls;
mod expansion;
mod follow;
mod functions;
mod input;
mod installed;
mod lookup;
mod output;
mod places;
mod set;
mod string;
mod universal;
mod words;

pub use installed::Directories;

use std::collections::BTreeMap;
use std::sync::Arc;

use self::autoload::FUNCTION_PATH;
use crate::eval::lists::{LISTS, Place, parts, places_after};
use crate::eval::path_helper;
use crate::eval::piece::is_known;
use crate::eval::run::{Flow, Invocation, MAX_DEPTH, MAX_FILE, Run, Scopes, taint_hidden};
use crate::eval::state::{State, Value, Variable};
use crate::syntax::fish::{Block, parse};
use crate::{Files, ReadError, Unknown, UnknownId};
use whodunit_formats::bytes::{ByteString, path};

/// A variable's name, and its elements where it was set.
type Inherited = (Vec<u8>, Option<Vec<Vec<u8>>>);

/// A function, as it was defined.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Defined {
    body: Arc<Block>,
    names: Vec<Vec<u8>>,
    /// Variables with the values that they had when it was defined.
    inherited: Vec<Inherited>,
    /// Whether it sees the variables of whoever calls it.
    shares: bool,
}

/// A fish that is followed. Tests of files, patterns and programs are those of the other shells.
pub struct Fish<'s> {
    run: Run<'s>,
    bodies: BTreeMap<Vec<u8>, Defined>,
    /// Functions that are called whenever a variable changes, by its name.
    watchers: BTreeMap<Vec<u8>, Vec<Vec<u8>>>,
    /// Functions that are called when an event is emitted, by its name.
    listeners: BTreeMap<Vec<u8>, Vec<Vec<u8>>>,
    /// Whether the first `seq` was a program; else fish has a function of that name.
    seq: Option<bool>,
    /// Directories of `fish_user_paths` that were put into the path.
    added: Vec<Vec<u8>>,
    /// Variables that a block or a function hides, innermost last.
    scopes: Scopes,
    /// Which of them are those of functions that are followed.
    calls: Vec<usize>,
    depth: u32,
    /// Whether the words of a command cannot be made, and it is not run: an index was no number, or 0, or what was to
    /// write a part of them is not there.
    is_misworded: bool,
    /// Whether an output of a command that is made into words ends the shell.
    ends: bool,
    /// Whether the last command was not found.
    is_missing: bool,
    holds_line: bool,
    output: Option<Vec<Vec<u8>>>,
    functions: Vec<ByteString>,
    dirs: Directories,
}

impl<'s> Fish<'s> {
    /// A shell that has been started and has read nothing yet.
    pub fn new(at: Invocation<'s>, mut state: State) -> Self {
        // Lists of directories come as texts.
        for (name, variable) in &mut state.variables {
            if let (true, Value::Text(text)) = (is_path(name), &variable.value) {
                variable.value = Value::List(parts(text).into_iter().map(<[u8]>::to_vec).collect());
            }
        }
        Fish {
            run: Run::new(at, state),
            bodies: BTreeMap::new(),
            watchers: BTreeMap::new(),
            listeners: BTreeMap::new(),
            seq: None,
            added: Vec::new(),
            scopes: Vec::new(),
            calls: Vec::new(),
            depth: 0,
            is_misworded: false,
            ends: false,
            is_missing: false,
            holds_line: false,
            output: None,
            functions: Vec::new(),
            dirs: Directories::default(),
        }
    }

    /// The same of a fish with these directories.
    #[must_use]
    pub fn with(self, dirs: Directories) -> Self {
        Fish { dirs, ..self }
    }

    /// Takes over what was not known before it was started.
    pub fn take_unknowns(&mut self, unknowns: Vec<Unknown>) {
        self.run.unknowns = unknowns;
    }

    /// Reads what every fish reads: universal variables, the directories `conf.d`, and both `config.fish`.
    pub fn start(&mut self) {
        let config = self.text_of(b"XDG_CONFIG_HOME").filter(|config| config.starts_with(b"/"));
        let home = self.run.at.user.home.clone();
        let own = config.map_or_else(|| path::join(&home, b".config"), ByteString::from);
        let own = path::join(&own, b"fish");
        self.universal(&path::join(&own, b"fish_variables"));
        let data = self.list_of(b"XDG_DATA_DIRS");
        let of_itself = data.is_none().then(|| self.dirs.data.clone());
        let data = data.unwrap_or_default();
        let data: Vec<&[u8]> = data.iter().flat_map(|list| list.split(|&b| b == b':')).collect();
        let mut vendors = vec![path::join(&home, b".local/share/fish")];
        vendors.extend(data.iter().map(|dir| path::join(dir, b"fish")).chain(of_itself));
        let Directories { settings, vendor_conf, vendor_functions, .. } = self.dirs.clone();
        let vendor = |kind: &[u8], last: ByteString| {
            vendors.iter().map(|dir| path::join(dir, kind)).chain([last]).collect::<Vec<_>>()
        };
        let own_dirs = |kind: &[u8]| vec![path::join(&own, kind), path::join(&settings, kind)];
        self.functions = own_dirs(b"functions");
        self.functions.extend(vendor(b"vendor_functions.d", vendor_functions));
        let last = path::join(&self.dirs.data, b"functions");
        let dirs = self.functions.iter().map(|dir| dir.to_vec()).chain([last.to_vec()]).collect();
        self.run
            .state
            .variables
            .insert(FUNCTION_PATH.to_vec(), Variable { value: Value::List(dirs), ..Variable::text("", false) });
        self.find_functions();
        // Its own configuration asks the files of macOS.
        if self.run.at.is_login && path_helper::is_macos(&self.run) {
            let list = path_helper::search_path(&self.run);
            self.assign(b"PATH", list, true, Some(true));
        }
        self.rebuild();
        let mut seen: Vec<ByteString> = Vec::new();
        for dir in own_dirs(b"conf.d").into_iter().chain(vendor(b"vendor_conf.d", vendor_conf)) {
            let names = self.run.seen().list(&dir);
            let mut names: Vec<ByteString> = names.into_iter().map(|(name, _)| name).collect();
            names.retain(|name| name.ends_with(b".fish") && !name.starts_with(b"."));
            names.sort_by(|a, b| crate::eval::natural::compare(&a.to_ascii_lowercase(), &b.to_ascii_lowercase()));
            for name in names {
                if !seen.contains(&name) {
                    self.file(&path::join(&dir, &name));
                    seen.push(name);
                }
            }
        }
        self.file(&path::join(&settings, b"config.fish"));
        self.file(&path::join(&own, b"config.fish"));
    }

    /// The state at the end, as other shells have it.
    pub fn finish(self) -> (State, Vec<Unknown>) {
        let (mut state, unknowns) = self.run.finish();
        for (name, variable) in &mut state.variables {
            if let Value::List(list) = &variable.value {
                let separator: &[u8] = if has_colons(name, variable) { b":" } else { b" " };
                variable.value = Value::Text(list.join(separator));
            }
        }
        (state, unknowns)
    }

    fn note_unknown(&mut self, says: impl Into<String>) -> UnknownId {
        self.run.note_unknown(says)
    }

    fn unknown_value(&mut self, says: impl Into<String>) -> Vec<u8> {
        self.run.unknown_value(says)
    }

    fn taint_all(&mut self, unknown: UnknownId) {
        self.run.taint_all(unknown);
        taint_hidden(&mut self.scopes, unknown);
    }

    fn list_of(&self, name: &[u8]) -> Option<Vec<Vec<u8>>> {
        self.run.state.variables.get(name).map(|variable| match &variable.value {
            Value::List(list) => list.clone(),
            Value::Text(text) => vec![text.clone()],
            Value::Sparse(_) | Value::Map(_) => Vec::new(), // fish has none.
        })
    }

    /// Whether a variable's elements are joined by colons.
    fn has_colons(&self, name: &[u8]) -> bool {
        self.run.state.variables.get(name).map_or(is_path(name), |variable| has_colons(name, variable))
    }

    fn text_of(&self, name: &[u8]) -> Option<Vec<u8>> {
        self.list_of(name).map(|list| list.join(&b' ')).filter(|text| !text.is_empty())
    }

    fn assign(&mut self, name: &[u8], list: Vec<Vec<u8>>, is_made_of_old: bool, exported: Option<bool>) {
        if self.run.is_too_much(name, &Value::List(list.clone())) {
            return;
        }
        let old = self.run.state.variables.get(name).cloned();
        let mut variable = old.clone().unwrap_or_else(|| Variable::text("", false));
        if LISTS.contains(&name) || name == b"fish_user_paths" {
            let before = self.list_of(name).unwrap_or_default().join(&b':');
            let places = old.as_ref().map_or(&[][..], |old| &old.places);
            variable.places = places_after(&before, places, &list.join(&b':'), is_made_of_old, &self.run.place);
            if !is_made_of_old {
                variable.taints.clear();
            }
            variable.taints.extend(&self.run.state.lasting_taints);
        } else {
            variable.taints.clear();
        }
        variable.taints.extend(&self.run.read_taints);
        let list = if has_colons(name, &variable) {
            // An element with colons is several.
            // What is empty is the current directory.
            let is_dirs = matches!(name, b"PATH" | b"CDPATH");
            let named = |one: &[u8]| if one.is_empty() && is_dirs { b".".to_vec() } else { one.to_vec() };
            list.iter().flat_map(|one| one.split(|&b| b == b':')).map(named).collect()
        } else {
            list
        };
        variable.value = Value::List(list);
        variable.is_perhaps = false;
        if let Some(exported) = exported {
            variable.exported = exported;
        }
        self.run.state.variables.insert(name.to_vec(), variable);
        self.after_change(name);
    }

    /// What fish itself does where a variable was changed.
    pub(super) fn after_change(&mut self, name: &[u8]) {
        match name {
            b"fish_user_paths" => self.rebuild(),
            FUNCTION_PATH if !self.is_hidden(name) => self.find_functions_anew(),
            _ => {}
        }
    }

    /// Puts `fish_user_paths` in front of the path, as its handler does at each change.
    fn rebuild(&mut self) {
        let (mut list, mut places) = (self.list_of(b"PATH").unwrap_or_default(), Vec::new());
        if let Some(path) = self.run.state.variables.get(&b"PATH"[..]) {
            places.clone_from(&path.places);
        }
        places.resize(list.len(), self.run.place.clone());
        let remove = |list: &mut Vec<Vec<u8>>, places: &mut Vec<Place>, one: &[u8]| {
            let at = list.iter().position(|part| part == one);
            if let Some(at) = at {
                list.remove(at);
                places.remove(at);
            }
            at.is_some()
        };
        for one in std::mem::take(&mut self.added) {
            remove(&mut list, &mut places, &one);
        }
        if let Some(own) = self.run.state.variables.get(&b"fish_user_paths"[..]).cloned() {
            let of_own = self.list_of(b"fish_user_paths").unwrap_or_default();
            for (number, one) in of_own.iter().enumerate().rev() {
                if !remove(&mut list, &mut places, one) {
                    self.added.push(one.clone());
                }
                list.insert(0, one.clone());
                places.insert(0, own.places.get(number).cloned().unwrap_or_else(|| self.run.place.clone()));
            }
        }
        if let Some(path) = self.run.state.variables.get_mut(&b"PATH"[..]) {
            path.value = Value::List(list);
            path.places = places;
        }
    }

    /// Reads a file where there is one.
    pub fn file(&mut self, file: &[u8]) {
        let _ = self.source(file, None);
    }

    fn source(&mut self, file: &[u8], arguments: Option<Vec<Vec<u8>>>) -> Flow {
        let file = ByteString::from(self.run.absolute(file));
        if *file == *b"/dev/null" {
            self.run.status = None;
            return Flow::Next;
        }
        let content = match self.run.seen().read(&file, MAX_FILE) {
            Ok(content) => content,
            Err(ReadError::Absent(_)) => {
                self.run.status = Some(1);
                return Flow::Next;
            }
            Err(error) => {
                let unknown = self.note_unknown(format!("reads {error}"));
                self.taint_all(unknown);
                self.run.status = None;
                return Flow::Next;
            }
        };
        if self.depth >= MAX_DEPTH {
            self.stop("files are nested too deeply");
            return Flow::Next;
        }
        self.depth += 1;
        let place = std::mem::replace(&mut self.run.place, Place { file, line: 1 });
        let held = std::mem::replace(&mut self.holds_line, false);
        let early = self.run.early.len();
        let flow = self.scoped(|fish| fish.text(&content, arguments));
        self.run.join_early(early, |flow| flow == Flow::Return);
        self.holds_line = held;
        self.run.place = place;
        self.depth -= 1;
        if flow == Flow::Exit { Flow::Exit } else { Flow::Next }
    }

    fn text(&mut self, text: &[u8], arguments: Option<Vec<Vec<u8>>>) -> Flow {
        if !is_known(text) {
            return self.run.text(text);
        }
        match parse(text, self.run.place.line) {
            Ok(block) => {
                let outer = arguments.map(|arguments| {
                    let outer = self.run.state.variables.remove(&b"argv"[..]);
                    self.assign(b"argv", arguments, false, None);
                    outer
                });
                let flow = self.block(&block);
                if let Some(outer) = outer {
                    self.run.state.variables.remove(&b"argv"[..]);
                    self.run.state.variables.extend(outer.map(|outer| (b"argv".to_vec(), outer)));
                }
                flow
            }
            Err(error) => {
                self.run.place.line = error.line;
                let unknown = self.note_unknown(format!("{}: fish rejects this file", error.what));
                self.run.state.taints.insert(unknown);
                self.run.status = None;
                Flow::Next
            }
        }
    }

    fn stop(&mut self, why: &str) {
        self.run.stop(why);
    }

    /// Writes each line of a text.
    fn write_lines(&mut self, text: &[u8]) {
        text.split(|&b| b == b'\n').for_each(|line| self.write(line.to_vec()));
    }

    fn write(&mut self, line: Vec<u8>) {
        if let Some(output) = &mut self.output
            && output.len() < 10_000
        {
            output.push(line);
        }
    }
}

/// A pattern in which nothing but `*` and `?` means anything.
fn only_stars(text: &[u8]) -> Vec<u8> {
    text.iter().flat_map(|&b| if b"[]()|!+@\\".contains(&b) { vec![b'\\', b] } else { vec![b] }).collect()
}

/// Whether a variable's elements are joined by colons.
fn has_colons(name: &[u8], variable: &Variable) -> bool {
    variable.attributes.path.unwrap_or_else(|| is_path(name))
}

/// Variables whose elements are joined by colons from the start.
fn is_path(name: &[u8]) -> bool {
    name.ends_with(b"PATH")
}
