//! Follows what fish's configuration files would do, without doing it. Every variable is a list.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::pattern;
use super::run::{Flow, Run, Surroundings};
use super::state::{Alias, AliasKind, Function, LISTS, Place, State, Value, Variable, is_known, parts, places_after};
use crate::formats::shell::fish::{Block, Kind, Part, Statement, Word, parse, plain};
use crate::model::Evidence;
use crate::root::{Kind as FileKind, Limit};
use crate::text::{Text, path};

const LARGEST: Limit = Limit::bytes(2 << 20);
const MOST_STEPS: u32 = 60_000;
const DEEPEST: u32 = 40;

/// A function, as it was defined.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Defined {
    body: Arc<Block>,
    names: Vec<Vec<u8>>,
}

/// A fish that is followed. Tests of files, patterns and programs are those of the other shells.
pub struct Fish<'s> {
    run: Run<'s>,
    bodies: BTreeMap<Vec<u8>, Defined>,
    /// Folders of `fish_user_paths` that were put into the path.
    added: Vec<Vec<u8>>,
    /// Variables that a block or a function hides, innermost last.
    scopes: Vec<Vec<(Vec<u8>, Option<Variable>)>>,
    steps: u32,
    depth: u32,
    holds_line: bool,
    output: Option<Vec<Vec<u8>>>,
    functions: Vec<Text>,
}

impl<'s> Fish<'s> {
    /// A shell that has been started and has read nothing yet.
    pub fn new(at: Surroundings<'s>, mut state: State) -> Self {
        // Lists of folders come as texts.
        for (name, variable) in &mut state.variables {
            if let (true, Value::Text(text)) = (is_path(name), &variable.value) {
                variable.value = Value::List(parts(text).into_iter().map(<[u8]>::to_vec).collect());
            }
        }
        Fish {
            run: Run::new(at, state),
            bodies: BTreeMap::new(),
            added: Vec::new(),
            scopes: Vec::new(),
            steps: 0,
            depth: 0,
            holds_line: false,
            output: None,
            functions: Vec::new(),
        }
    }

    /// Takes over what was not known before it was started.
    pub fn take_doubts(&mut self, doubts: Vec<Evidence>) {
        self.run.doubts = doubts;
    }

    /// Reads what every fish reads: universal variables, the folders `conf.d`, and both `config.fish`.
    pub fn start(&mut self) {
        let config = self.text_of(b"XDG_CONFIG_HOME").filter(|config| config.starts_with(b"/"));
        let home = self.run.at.person.home.clone();
        let own = config.map_or_else(|| path::join(&home, b".config"), Text::from);
        let own = path::join(&own, b"fish");
        self.universal(&path::join(&own, b"fish_variables"));
        let data = self.list_of(b"XDG_DATA_DIRS").unwrap_or_default();
        let mut vendors = vec![path::join(&home, b".local/share/fish")];
        vendors.extend(data.iter().map(|folder| path::join(folder, b"fish")));
        vendors.push("/usr/share/fish".into());
        let vendor = |kind: &[u8]| vendors.iter().map(|folder| path::join(folder, kind)).collect::<Vec<_>>();
        let own_folders = |kind: &[u8]| vec![path::join(&own, kind), path::join(b"/etc/fish", kind)];
        self.functions = own_folders(b"functions");
        self.functions.extend(vendor(b"vendor_functions.d"));
        self.find_functions();
        self.rebuild();
        let mut seen: Vec<Text> = Vec::new();
        for folder in own_folders(b"conf.d").into_iter().chain(vendor(b"vendor_conf.d")) {
            let names = self.run.at.scene.root.folder(&folder).and_then(|folder| folder.list()).unwrap_or_default();
            let mut names: Vec<Text> = names.into_iter().map(|(name, _)| name).collect();
            names.retain(|name| name.ends_with(b".fish") && !name.starts_with(b"."));
            names.sort_by(|a, b| crate::version::tokens::compare(&a.to_ascii_lowercase(), &b.to_ascii_lowercase()));
            for name in names {
                if !seen.contains(&name) {
                    self.file(&path::join(&folder, &name));
                    seen.push(name);
                }
            }
        }
        self.file(b"/etc/fish/config.fish");
        self.file(&path::join(&own, b"config.fish"));
    }

    /// The state at the end, as other shells have it.
    pub fn finish(self) -> (State, Vec<Evidence>) {
        let (mut state, doubts) = self.run.finish();
        for (name, variable) in &mut state.variables {
            if let Value::List(list) = &variable.value {
                let separator: &[u8] = if is_path(name) { b":" } else { b" " };
                variable.value = Value::Text(list.join(separator));
            }
        }
        (state, doubts)
    }

    /// `SETUVAR [--export] NAME:VALUE`, parts separated by `\x1e`.
    fn universal(&mut self, file: &Text) {
        let content = self.run.at.scene.root.read(file, LARGEST).unwrap_or_default();
        for (line, text) in (1..).zip(content.split(|&b| b == b'\n')) {
            let Some(rest) = text.strip_prefix(b"SETUVAR ") else { continue };
            let exported = rest.starts_with(b"--export ");
            let rest = rest.strip_prefix(b"--export ").unwrap_or(rest);
            let rest = rest.strip_prefix(b"--path ").unwrap_or(rest);
            let Some(at) = memchr::memchr(b':', rest) else { continue };
            let (name, value) = (&rest[..at], unescaped(&rest[at + 1..]));
            // What is inherited hides it.
            if self.run.state.variables.contains_key(name) {
                continue;
            }
            let list: Vec<Vec<u8>> = match value.is_empty() {
                true => Vec::new(),
                false => value.split(|&b| b == 0x1e).map(<[u8]>::to_vec).collect(),
            };
            let place = Place { file: file.clone(), line };
            let variable =
                Variable { places: vec![place; list.len()], value: Value::List(list), ..Variable::text("", exported) };
            self.run.state.variables.insert(name.to_vec(), variable);
        }
    }

    /// Functions that stand in files of their name.
    fn find_functions(&mut self) {
        for folder in self.functions.clone() {
            let names = self.run.at.scene.root.folder(&folder).and_then(|folder| folder.list()).unwrap_or_default();
            for (name, _) in names {
                let Some(stem) = name.strip_suffix(b".fish") else { continue };
                let place = Place { file: path::join(&folder, &name), line: 1 };
                let function = Function { body: None, place, certain: true, exported: false };
                self.run.state.functions.entry(stem.to_vec()).or_insert(function);
            }
        }
    }

    fn doubt(&mut self, says: impl Into<String>) -> usize {
        self.run.doubt(says)
    }

    fn unknown(&mut self, says: impl Into<String>) -> Vec<u8> {
        self.run.unknown(says)
    }

    fn cloud(&mut self, doubt: usize) {
        self.run.cloud(doubt);
    }

    fn list_of(&self, name: &[u8]) -> Option<Vec<Vec<u8>>> {
        self.run.state.variables.get(name).map(|variable| match &variable.value {
            Value::List(list) => list.clone(),
            Value::Text(text) => vec![text.clone()],
        })
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
        if is_path(name) || name == b"fish_user_paths" {
            let before = self.list_of(name).unwrap_or_default().join(&b':');
            let places = old.as_ref().map_or(&[][..], |old| &old.places);
            variable.places = places_after(&before, places, &list.join(&b':'), is_made_of_old, &self.run.place);
            if !is_made_of_old {
                variable.clouds.clear();
            }
        }
        let list = if is_path(name) {
            // An element with colons is several.
            list.iter().flat_map(|one| one.split(|&b| b == b':')).map(<[u8]>::to_vec).collect()
        } else {
            list
        };
        variable.value = Value::List(list);
        if let Some(exported) = exported {
            variable.exported = exported;
        }
        self.run.state.variables.insert(name.to_vec(), variable);
        if name == b"fish_user_paths" {
            self.rebuild();
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
        let file = Text::from(self.run.absolute(file));
        let content = match self.run.at.scene.root.read(&file, LARGEST) {
            Ok(content) => content,
            Err(error) if error.is_missing() => {
                self.run.status = Some(1);
                return Flow::Next;
            }
            Err(error) => {
                let doubt = self.doubt(format!("reads {error}"));
                self.cloud(doubt);
                self.run.status = None;
                return Flow::Next;
            }
        };
        if self.depth >= DEEPEST {
            self.stop("files that read files without an end");
            return Flow::Next;
        }
        self.depth += 1;
        let place = std::mem::replace(&mut self.run.place, Place { file, line: 1 });
        let held = std::mem::replace(&mut self.holds_line, false);
        let flow = self.text(&content, arguments);
        self.holds_line = held;
        self.run.place = place;
        self.depth -= 1;
        if flow == Flow::Exit { Flow::Exit } else { Flow::Next }
    }

    fn text(&mut self, text: &[u8], arguments: Option<Vec<Vec<u8>>>) -> Flow {
        if !is_known(text) {
            let doubt = self.doubt("commands that are not known");
            self.cloud(doubt);
            return Flow::Next;
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
                let doubt = self.doubt(format!("{}: fish refuses this file", error.what));
                self.run.state.clouds.insert(doubt);
                self.run.status = Some(127);
                Flow::Next
            }
        }
    }

    fn stop(&mut self, why: &str) {
        self.run.stop(why);
    }

    fn block(&mut self, block: &Block) -> Flow {
        for statement in block {
            let flow = self.statement(statement);
            if flow != Flow::Next {
                return flow;
            }
        }
        Flow::Next
    }

    /// A block with variables of its own.
    fn scoped(&mut self, inside: impl FnOnce(&mut Self) -> Flow) -> Flow {
        self.scopes.push(Vec::new());
        let flow = inside(self);
        for (name, variable) in self.scopes.pop().unwrap_or_default().into_iter().rev() {
            match variable {
                Some(variable) => self.run.state.variables.insert(name, variable),
                None => self.run.state.variables.remove(&name),
            };
        }
        flow
    }

    fn either(
        &mut self,
        why: &str,
        one: &mut dyn FnMut(&mut Self) -> Flow,
        two: &mut dyn FnMut(&mut Self) -> Flow,
    ) -> Flow {
        let doubt = self.doubt(why);
        let (before, bodies) = (self.run.state.clone(), self.bodies.clone());
        let first = one(self);
        let after_one = std::mem::replace(&mut self.run.state, before);
        self.bodies.extend(bodies);
        let second = two(self);
        let after_two = std::mem::take(&mut self.run.state);
        self.run.state = after_one.merged(&after_two, doubt);
        self.run.status = None;
        if first == second { first } else { Flow::Next }
    }

    fn statement(&mut self, statement: &Statement) -> Flow {
        self.steps += 1;
        if self.steps > MOST_STEPS {
            self.stop("more commands than are followed, perhaps without an end");
        }
        if self.run.is_stopped {
            return Flow::Exit;
        }
        if !self.holds_line {
            self.run.place.line = statement.line;
        }
        match (statement.after, self.run.status) {
            (Some(wanted), Some(status)) if (status == 0) != wanted => return Flow::Next,
            (Some(_), None) => {
                let bare = Statement { after: None, ..statement.clone() };
                let why = "whether a command succeeds that is not run";
                return self.either(why, &mut |fish| fish.statement(&bare), &mut |_| Flow::Next);
            }
            _ => {}
        }
        self.depth += 1;
        let flow = if self.depth > 4 * DEEPEST {
            self.stop("commands in commands without an end");
            Flow::Exit
        } else {
            self.kind(&statement.kind)
        };
        self.depth -= 1;
        if statement.negated {
            self.run.status = self.run.status.map(|status| u8::from(status == 0));
        }
        flow
    }

    fn kind(&mut self, kind: &Kind) -> Flow {
        match kind {
            Kind::Command(words) => {
                let words = self.words(words);
                let Some((name, arguments)) = words.split_first() else {
                    self.run.status = Some(0);
                    return Flow::Next;
                };
                self.command(&name.clone(), arguments.to_vec())
            }
            Kind::Pipeline(block) => self.pipeline(block),
            Kind::Block(block) => self.scoped(|fish| fish.block(block)),
            Kind::If(branches, otherwise) => self.branches(branches, otherwise.as_ref()),
            Kind::Switch(word, arms) => {
                let text = self.words(std::slice::from_ref(word)).into_iter().next().unwrap_or_default();
                for (patterns, body) in arms {
                    // Quotes keep patterns from names of files; here they mean what they say.
                    let patterns: Vec<Vec<u8>> =
                        patterns.iter().flat_map(|word| self.expand(word)).map(|(text, _)| only_stars(&text)).collect();
                    let fits: Vec<_> = patterns.iter().map(|one| super::run::fits_perhaps(one, &text)).collect();
                    let one_fits = if fits.contains(&Some(true)) {
                        Some(true)
                    } else {
                        fits.iter().all(Option::is_some).then_some(false)
                    };
                    match one_fits {
                        Some(true) => return self.scoped(|fish| fish.block(body)),
                        Some(false) => {}
                        None => {
                            let why = "which way is taken depends on what is not known";
                            return self.either(why, &mut |fish| fish.block(body), &mut |_| Flow::Next);
                        }
                    }
                }
                Flow::Next
            }
            Kind::For(name, words, body) => {
                for value in self.words(words) {
                    self.assign(name, vec![value], false, None);
                    match self.scoped(|fish| fish.block(body)) {
                        Flow::Next | Flow::Continue(_) => {}
                        Flow::Break(_) => break,
                        other => return other,
                    }
                }
                Flow::Next
            }
            Kind::While(condition, body) => loop {
                let flow = self.block(condition);
                if flow != Flow::Next {
                    return flow;
                }
                match self.run.status {
                    Some(0) => match self.scoped(|fish| fish.block(body)) {
                        Flow::Next | Flow::Continue(_) => {}
                        Flow::Break(_) => return Flow::Next,
                        other => return other,
                    },
                    Some(_) => return Flow::Next,
                    None => {
                        let why = "how often a loop runs is not known";
                        return self.either(why, &mut |fish| fish.block(body), &mut |_| Flow::Next);
                    }
                }
            },
            Kind::Function(words, body) => {
                let words = self.words(words);
                let Some(name) = words.first().cloned() else { return Flow::Next };
                let mut names = Vec::new();
                let mut takes = false;
                for word in &words[1..] {
                    match &word[..] {
                        b"-a" | b"--argument-names" => takes = true,
                        b"--on-event" | b"-e" | b"--on-variable" | b"-v" => {
                            takes = false;
                            if word.ends_with(b"variable") || word == b"-v" {
                                let doubt = self.doubt("a function that runs whenever a variable changes");
                                self.run.state.clouds.insert(doubt);
                            }
                        }
                        option if option.starts_with(b"-") => takes = false,
                        word if takes => names.push(word.to_vec()),
                        _ => {}
                    }
                }
                let place = self.run.place.clone();
                let function = Function { body: None, place, certain: true, exported: false };
                self.run.state.functions.insert(name.clone(), function);
                self.bodies.insert(name, Defined { body: Arc::clone(body), names });
                Flow::Next
            }
        }
    }

    fn branches(&mut self, branches: &[(Block, Block)], otherwise: Option<&Block>) -> Flow {
        for (number, (condition, body)) in branches.iter().enumerate() {
            let flow = self.block(condition);
            if flow != Flow::Next {
                return flow;
            }
            match self.run.status {
                Some(0) => return self.scoped(|fish| fish.block(body)),
                Some(_) => {}
                None => {
                    let rest = &branches[number + 1..];
                    let why = "whether a command succeeds that is not run";
                    return self.either(why, &mut |fish| fish.scoped(|fish| fish.block(body)), &mut |fish| {
                        fish.branches(rest, otherwise)
                    });
                }
            }
        }
        self.run.status = Some(0);
        otherwise.map_or(Flow::Next, |block| self.scoped(|fish| fish.block(block)))
    }

    /// `x | source` takes what x writes; everything else runs in the shell itself, and changes last.
    fn pipeline(&mut self, block: &Block) -> Flow {
        let last = block.last().and_then(|statement| match &statement.kind {
            Kind::Command(words) => words.first().and_then(plain),
            _ => None,
        });
        let is_source = matches!(last.as_deref(), Some(b"source" | b"."));
        if is_source && block.len() == 2 {
            let text = self.output_of(&block[..1].to_vec());
            let held = std::mem::replace(&mut self.holds_line, true);
            let flow = self.text(&text.join(&b'\n'), None);
            self.holds_line = held;
            return flow;
        }
        if is_source {
            let doubt = self.doubt("commands that are not known");
            self.cloud(doubt);
            return Flow::Next;
        }
        let outer = self.output.take();
        for statement in block {
            let flow = self.statement(statement);
            if flow != Flow::Next {
                self.output = outer;
                return flow;
            }
        }
        self.output = outer;
        if self.output.is_some() {
            let unknown = self.unknown("what a pipe of commands writes");
            self.write(unknown);
        }
        self.run.status = None;
        Flow::Next
    }

    fn write(&mut self, line: Vec<u8>) {
        if let Some(output) = &mut self.output
            && output.len() < 10_000
        {
            output.push(line);
        }
    }

    /// The lines that commands write.
    fn output_of(&mut self, block: &Block) -> Vec<Vec<u8>> {
        let outer = self.output.replace(Vec::new());
        let _ = self.block(block);
        std::mem::replace(&mut self.output, outer).unwrap_or_default()
    }

    fn words(&mut self, words: &[Word]) -> Vec<Vec<u8>> {
        let mut all = Vec::new();
        for word in words {
            for (text, fitting) in self.expand(word) {
                let is_pattern = pattern::is_pattern(&fitting) && fitting.iter().any(|b| b"*?".contains(b));
                if is_pattern && is_known(&text) {
                    // Brackets and parentheses are text.
                    let found = self.run.matching(&fitting, None);
                    all.extend(found);
                } else {
                    all.push(text);
                }
            }
            if all.len() > 20_000 {
                self.stop("more words than are looked at");
                break;
            }
        }
        all
    }

    /// What a word stands for: each text, with the pattern that it is.
    fn expand(&mut self, word: &Word) -> Vec<(Vec<u8>, Vec<u8>)> {
        let mut all: Vec<(Vec<u8>, Vec<u8>)> = vec![(Vec::new(), Vec::new())];
        for (number, part) in word.0.iter().enumerate() {
            let more: Vec<(Vec<u8>, Vec<u8>)> = match part {
                Part::Plain(text) => vec![self.home(text, number == 0)],
                Part::Quoted(text) => vec![(text.clone(), pattern::escaped(text))],
                Part::Variable(name, quoted, index, more) => {
                    let mut list = self.variable(name, index.as_deref());
                    for _ in 0..*more {
                        list = list.iter().flat_map(|name| self.list_of(name).unwrap_or_default()).collect();
                    }
                    let separator: &[u8] = if is_path(name) { b":" } else { b" " };
                    let list = if *quoted { vec![list.join(separator)] } else { list };
                    list.into_iter().map(|text| (text.clone(), pattern::escaped(&text))).collect()
                }
                Part::Output(block, quoted) => {
                    let lines = self.output_of(block);
                    let lines = if *quoted { vec![lines.join(&b'\n')] } else { lines };
                    lines.into_iter().map(|text| (text.clone(), pattern::escaped(&text))).collect()
                }
                Part::Braces(words) => words.iter().flat_map(|word| self.expand(word)).collect(),
            };
            if all.len() * more.len() > 20_000 {
                self.stop("more words than are looked at");
                return Vec::new();
            }
            let join = |one: &(Vec<u8>, Vec<u8>), two: &(Vec<u8>, Vec<u8>)| {
                ([&one.0[..], &two.0].concat(), [&one.1[..], &two.1].concat())
            };
            all = all.iter().flat_map(|one| more.iter().map(move |two| join(one, two))).collect();
        }
        all
    }

    fn home(&self, text: &[u8], is_first: bool) -> (Vec<u8>, Vec<u8>) {
        let end = text.iter().position(|&b| b == b'/').unwrap_or(text.len());
        if is_first && text.first() == Some(&b'~') {
            let home = match &text[1..end] {
                b"" => self.list_of(b"HOME").map(|home| home.concat()),
                name => self.run.at.homes.get(name).cloned(),
            };
            if let Some(home) = home {
                let (rest, fitting) = (&text[end..], pattern::escaped(&home));
                return ([&home[..], rest].concat(), [&fitting[..], rest].concat());
            }
        }
        (text.to_vec(), only_stars(text))
    }

    fn variable(&mut self, name: &[u8], index: Option<&Word>) -> Vec<Vec<u8>> {
        let list = match name {
            b"status" => vec![match self.run.status {
                Some(status) => status.to_string().into_bytes(),
                None => self.unknown("how a command ended that is not run"),
            }],
            b"__fish_config_dir" => vec![path::join(&self.run.at.person.home, b".config/fish").to_vec()],
            b"hostname" => self.run.at.scene.host().map(|host| host.to_vec()).into_iter().collect(),
            b"version" | b"FISH_VERSION" => vec![b"3.6.0".to_vec()],
            b"fish_pid" => vec![self.unknown("the number of a process")],
            name => self.list_of(name).unwrap_or_default(),
        };
        let Some(index) = index else { return list };
        let length = i64::try_from(list.len()).unwrap_or(0);
        let mut picked = Vec::new();
        for text in self.words(std::slice::from_ref(index)).iter().flat_map(|text| text.split(|&b| b == b' ')) {
            let text = String::from_utf8_lossy(text).into_owned();
            let number = |text: &str| -> Option<i64> {
                let number: i64 = text.trim().parse().ok()?;
                Some(if number < 0 { length + number + 1 } else { number })
            };
            let (from, to) = match text.split_once("..") {
                Some((from, to)) => (number(from).unwrap_or(1), number(to).unwrap_or(length)),
                None => match number(&text) {
                    Some(at) => (at, at),
                    None => continue,
                },
            };
            let step = if from <= to { 1 } else { -1 };
            let (mut at, mut left) = (from, 20_000);
            loop {
                if let Some(one) = usize::try_from(at - 1).ok().and_then(|at| list.get(at)) {
                    picked.push(one.clone());
                }
                left -= 1;
                if at == to || left == 0 || (step > 0 && at > length) || (step < 0 && at < 1) {
                    break;
                }
                at += step;
            }
        }
        picked
    }

    fn command(&mut self, name: &[u8], arguments: Vec<Vec<u8>>) -> Flow {
        if !is_known(name) {
            let doubt = self.doubt("which command this is depends on what is not known");
            self.cloud(doubt);
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
            b"contains" => {
                let index = matches!(first, b"-i" | b"--index");
                let rest: Vec<&Vec<u8>> =
                    arguments.iter().skip(usize::from(index)).skip_while(|word| *word == b"--").collect();
                let at = rest.split_first().and_then(|(wanted, list)| list.iter().position(|one| one == wanted));
                if let (Some(at), true) = (at, index) {
                    self.write((at + 1).to_string().into_bytes());
                }
                self.run.status = Some(u8::from(at.is_none()));
            }
            b"status" => {
                self.run.status = match first {
                    b"is-login" | b"--is-login" | b"-l" => Some(u8::from(!self.run.at.is_login)),
                    b"is-interactive" | b"--is-interactive" | b"-i" => Some(u8::from(!self.run.at.is_interactive)),
                    b"is-command-substitution" => Some(u8::from(self.output.is_none())),
                    b"filename" | b"current-filename" | b"-f" => {
                        self.write(self.run.place.file.to_vec());
                        Some(0)
                    }
                    b"dirname" => {
                        self.write(path::folder(&self.run.place.file).to_vec());
                        Some(0)
                    }
                    _ => None,
                }
            }
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
                if self.run.kind(first) == Some(FileKind::Folder) {
                    self.run.state.folder = self.run.absolute(first);
                }
            }
            b"echo" | b"printf" => {
                let text = arguments.iter().filter(|word| *word != b"-n").cloned().collect::<Vec<_>>().join(&b' ');
                if name == b"printf" && text.contains(&b'%') {
                    let unknown = self.unknown("a form of printf that is not known here");
                    self.write(unknown);
                } else {
                    text.split(|&b| b == b'\n').for_each(|line| self.write(line.to_vec()));
                }
            }
            b"string" => self.string(&arguments),
            b"read" | b"math" | b"random" | b"count" | b"path" | b"argparse" => {
                self.run.status = None;
                if self.output.is_some() {
                    let unknown = self.unknown(format!("{} is not followed", Text::from(name)));
                    self.write(unknown);
                }
            }
            _ => self.program(name, &arguments),
        }
        Flow::Next
    }

    fn program(&mut self, name: &[u8], arguments: &[Vec<u8>]) {
        // The rules speak the language of the other shells; this one's own set-up is told apart.
        let list = self.list_of(b"PATH").unwrap_or_default().join(&b':');
        let known = self.run.state.variables.insert(b"PATH".to_vec(), Variable::text(list, true));
        let kept = self.run.output.replace(Vec::new());
        let is_set_up = super::rules::is_set_up(self.run.which(name).as_deref(), arguments);
        if is_set_up {
            let file = self.run.which(name).unwrap_or_default();
            for line in super::rules::of_program_in_fish(&mut self.run, &file, arguments) {
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

    /// A function's definition, read from its file where it was not yet.
    fn load(&mut self, name: &[u8]) -> Option<Defined> {
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

    fn call(&mut self, defined: &Defined, arguments: Vec<Vec<u8>>) -> Flow {
        if self.depth >= DEEPEST {
            self.stop("functions that call each other without an end");
            return Flow::Next;
        }
        self.depth += 1;
        let held = std::mem::replace(&mut self.holds_line, true);
        let flow = self.scoped(|fish| {
            for (number, name) in defined.names.iter().enumerate() {
                fish.hide(name);
                fish.assign(name, arguments.get(number).cloned().into_iter().collect(), false, None);
            }
            fish.hide(b"argv");
            fish.assign(b"argv", arguments, false, None);
            fish.block(&defined.body)
        });
        self.holds_line = held;
        self.depth -= 1;
        if flow == Flow::Return { Flow::Next } else { flow }
    }

    fn hide(&mut self, name: &[u8]) {
        let before = self.run.state.variables.get(name).cloned();
        if let Some(scope) = self.scopes.last_mut()
            && !scope.iter().any(|(known, _)| known == name)
        {
            scope.push((name.to_vec(), before));
            self.run.state.variables.remove(name);
        }
    }

    fn set(&mut self, arguments: &[Vec<u8>]) {
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

    fn add_path(&mut self, arguments: &[Vec<u8>]) {
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
            let folder = path::absolute(word, &self.run.state.folder).to_vec();
            if self.run.kind(&folder) != Some(FileKind::Folder) || new.contains(&folder) {
                continue;
            }
            if old.contains(&folder) {
                if !moves {
                    continue;
                }
                kept.retain(|one| *one != folder);
            }
            new.push(folder);
        }
        if new.is_empty() {
            self.run.status = Some(1);
            return;
        }
        let list = if append { [kept, new].concat() } else { [new, kept].concat() };
        self.assign(variable, list, true, is_path.then_some(true));
    }

    fn functions_word(&mut self, arguments: &[Vec<u8>]) -> Option<u8> {
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

    fn command_word(&mut self, word: &[u8], arguments: &[Vec<u8>]) -> Flow {
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

    fn alias(&mut self, arguments: &[Vec<u8>]) {
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

    fn string(&mut self, arguments: &[Vec<u8>]) {
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
                let unknown = self.unknown("what `string` makes of it");
                self.write(unknown);
            }
        }
    }
}

/// A pattern in which nothing but `*` and `?` means anything.
fn only_stars(text: &[u8]) -> Vec<u8> {
    text.iter().flat_map(|&b| if b"[]()|!+@\\".contains(&b) { vec![b'\\', b] } else { vec![b] }).collect()
}

/// Variables whose elements are joined by colons.
fn is_path(name: &[u8]) -> bool {
    name.ends_with(b"PATH") || LISTS.contains(&name)
}

/// `\xNN` and `\\` of the file of universal variables.
fn unescaped(text: &[u8]) -> Vec<u8> {
    let mut result = Vec::new();
    let mut at = 0;
    while at < text.len() {
        if text[at] == b'\\' && text.get(at + 1) == Some(&b'x') {
            let digits = text.get(at + 2..at + 4).and_then(|digits| std::str::from_utf8(digits).ok());
            if let Some(byte) = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok()) {
                result.push(byte);
                at += 4;
                continue;
            }
        }
        if text[at] == b'\\' && at + 1 < text.len() {
            at += 1;
        }
        result.push(text[at]);
        at += 1;
    }
    result
}
