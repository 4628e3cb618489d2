//! Follows what start-up files would do, without doing it.

mod assign;
mod follow;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::formats::shell::pattern;
use crate::formats::shell::{Dialect, List, Parser};
use crate::model::Evidence;
use crate::root::{Limit, RootError};
use crate::scene::{Person, Scene};
use crate::search::shell::rules;
use crate::search::shell::state::{Alias, AliasKind, LISTS, Place, State, Variable, doubts_in, is_known, mark};
use crate::text::Text;

/// More commands than this are not followed.
const MOST_STEPS: u32 = 60_000;
/// Files that read files, and functions that call functions, to this depth.
pub(in crate::search::shell) const DEEPEST: u32 = 40;
/// A larger start-up file is not read.
pub(in crate::search::shell) const LARGEST: Limit = Limit::bytes(2 << 20);

/// Who starts which shell, and how.
#[derive(Debug, Clone)]
pub struct Surroundings<'s> {
    /// The machine.
    pub scene: &'s Scene,
    /// Who starts it.
    pub person: &'s Person,
    /// Numbers of the groups that the person is in.
    pub groups: BTreeSet<u32>,
    /// Homes by name.
    pub homes: BTreeMap<Vec<u8>, Vec<u8>>,
    /// The language that it speaks.
    pub dialect: Dialect,
    /// What the shell calls itself.
    pub name: Vec<u8>,
    /// Whether it is the first of a session.
    pub is_login: bool,
    /// Whether a person types into it.
    pub is_interactive: bool,
}

/// How a command ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::search::shell) enum Flow {
    Next,
    Return,
    Exit,
    Break(u32),
    Continue(u32),
    /// The rest of the file that is read is given up.
    LeaveFile,
    /// All files that are being read are given up; the shell goes on with the next one of its own.
    LeaveAll,
}

/// A shell that is followed.
pub struct Run<'s> {
    pub(in crate::search::shell) at: Surroundings<'s>,
    pub(in crate::search::shell) state: State,
    /// What is not known, by number.
    pub doubts: Vec<Evidence>,
    pub(in crate::search::shell) place: Place,
    /// How the last command ended; none where that is not known.
    pub(in crate::search::shell) status: Option<u8>,
    /// What is written, inside `$(…)`.
    pub(in crate::search::shell) output: Option<Vec<u8>>,
    /// What is read, and how far.
    pub(in crate::search::shell) input: Option<(Vec<u8>, usize)>,
    pub(in crate::search::shell) scopes: Vec<Vec<(Vec<u8>, Option<Variable>)>>,
    /// Ends that one of two ways took, with what held there.
    early: Vec<(Flow, State)>,
    steps: u32,
    depth: u32,
    /// Whether lines are those of a call, because a function is followed.
    holds_line: bool,
    pub(in crate::search::shell) failed_file: bool,
    expanding: Vec<Vec<u8>>,
    pub(in crate::search::shell) is_stopped: bool,
}

impl<'s> Run<'s> {
    /// A shell that has been started and has read nothing yet.
    pub fn new(at: Surroundings<'s>, state: State) -> Self {
        Run {
            at,
            state,
            doubts: Vec::new(),
            place: Place { file: Text::default(), line: 0 },
            status: Some(0),
            output: None,
            input: None,
            scopes: Vec::new(),
            early: Vec::new(),
            steps: 0,
            depth: 0,
            holds_line: false,
            failed_file: false,
            expanding: Vec::new(),
            is_stopped: false,
        }
    }

    /// The state at the end.
    pub fn finish(mut self) -> (State, Vec<Evidence>) {
        self.join_early(0, |_| true);
        (self.state, self.doubts)
    }

    pub(in crate::search::shell) fn dialect(&self) -> Dialect {
        self.at.dialect
    }

    /// Counts steps; `false` where there are too many.
    pub(in crate::search::shell) fn step(&mut self, count: u32) -> bool {
        self.steps += count;
        if self.steps > MOST_STEPS {
            self.stop("more commands than are followed, perhaps without an end");
        }
        !self.is_stopped
    }

    /// Gives up: everything after this is in doubt.
    pub(in crate::search::shell) fn stop(&mut self, why: &str) {
        if !self.is_stopped {
            self.is_stopped = true;
            let doubt = self.doubt(format!("{why}: what follows is not known"));
            self.cloud(doubt);
        }
    }

    /// Gives up the file that is read, as the shell itself would.
    pub(in crate::search::shell) fn fail_file(&mut self) {
        self.failed_file = true;
        self.status = Some(1);
    }

    /// Notes something that is not known at this place.
    pub(in crate::search::shell) fn doubt(&mut self, says: impl Into<String>) -> usize {
        let at = if self.place.line > 0 { format!("line {}", self.place.line) } else { "whole file".to_owned() };
        let doubt = Evidence::at(self.place.file.clone(), at, says);
        if let Some(known) = self.doubts.iter().position(|known| *known == doubt) {
            return known;
        }
        self.doubts.push(doubt);
        self.doubts.len() - 1
    }

    /// A text that is not known.
    pub(in crate::search::shell) fn unknown(&mut self, says: impl Into<String>) -> Vec<u8> {
        let number = self.doubt(says);
        mark(number)
    }

    /// Everything that programs get, and aliases and functions, may be others than they look.
    pub(in crate::search::shell) fn cloud(&mut self, doubt: usize) {
        self.state.clouds.insert(doubt);
        for name in LISTS {
            if let Some(variable) = self.state.variables.get_mut(name) {
                variable.clouds.insert(doubt);
            }
        }
        let path = self.state.variables.entry(b"PATH".to_vec()).or_insert_with(|| Variable::text("", true));
        path.clouds.insert(doubt);
    }

    /// Reads a start-up file where there is one. `false` where the shell ends in it.
    pub fn file(&mut self, file: &[u8]) -> bool {
        matches!(self.source(file, None), Flow::Next | Flow::LeaveAll)
    }

    /// What a mistake costs: the POSIX shell ends by it, or where a person types, gives up what it reads.
    pub(in crate::search::shell) fn mistake(&self) -> Flow {
        match (self.at.dialect, self.at.is_interactive) {
            (Dialect::Posix, true) => Flow::LeaveAll,
            (Dialect::Posix, false) => Flow::Exit,
            _ => Flow::LeaveFile,
        }
    }

    /// Reads the file that a variable names.
    pub fn named_file(&mut self, variable: &[u8]) {
        let Some(text) = self.state.get(variable).filter(|text| !text.is_empty()).map(<[u8]>::to_vec) else { return };
        let Ok(word) = Parser::in_quotes(&text, self.at.dialect) else { return };
        let file = self.one(&word, false);
        let _ = self.source(&file, None);
    }

    /// An alias that the shell has by itself.
    pub fn alias_of_its_own(&mut self, name: &[u8], value: &[u8]) {
        let place = Place { file: "zsh".into(), line: 0 };
        let alias = Alias { value: value.to_vec(), place, certain: true, kind: AliasKind::Command };
        self.state.aliases.insert(name.to_vec(), alias);
    }

    /// What the shell does before each prompt: where that changes the search path, nobody can say what it is then.
    pub fn prompt(&mut self) {
        let zsh = self.at.dialect == Dialect::Zsh;
        let mut hooks: Vec<Vec<u8>> = Vec::new();
        if zsh {
            for (name, list) in [(&b"precmd"[..], &b"precmd_functions"[..]), (b"chpwd", b"chpwd_functions")] {
                hooks.extend(self.state.functions.contains_key(name).then(|| name.to_vec()));
                hooks.extend(self.list_of(list).into_iter().flatten());
            }
        } else {
            let list = self.list_of(b"PROMPT_COMMAND");
            hooks = list.or_else(|| self.variable(b"PROMPT_COMMAND").map(|text| vec![text])).unwrap_or_default();
        }
        for hook in hooks.into_iter().filter(|hook| !hook.is_empty()) {
            let before = self.variable(b"PATH");
            let mut after = None;
            self.apart(|run| {
                let _ = run.text(&hook);
                after = run.variable(b"PATH");
            });
            if after != before {
                let shown: String = String::from_utf8_lossy(&hook).replace('\0', "?").chars().take(60).collect();
                let doubt = self.doubt(format!("`{shown}` runs at each prompt and changes the search path"));
                if let Some(path) = self.state.variables.get_mut(&b"PATH"[..]) {
                    path.clouds.insert(doubt);
                }
            }
        }
    }

    /// A variable's text.
    #[must_use]
    pub fn variable(&self, name: &[u8]) -> Option<Vec<u8>> {
        self.state.get(name).map(<[u8]>::to_vec)
    }

    /// Takes a text as commands that stand on one line.
    pub(in crate::search::shell) fn text(&mut self, text: &[u8]) -> Flow {
        let held = std::mem::replace(&mut self.holds_line, true);
        let flow = self.commands(text);
        self.holds_line = held;
        flow
    }

    fn commands(&mut self, text: &[u8]) -> Flow {
        if !is_known(text) {
            let why =
                doubts_in(text).first().and_then(|number| self.doubts.get(*number)).map(|doubt| doubt.says.clone());
            let why = why.map(|why| format!(" ({why})")).unwrap_or_default();
            let doubt = self.doubt(format!("takes what is not known for commands{why}: they may set anything"));
            self.cloud(doubt);
            return Flow::Next;
        }
        for list in Parser::new(text, self.at.dialect) {
            match list {
                Ok(list) => {
                    let flow = self.list(&list);
                    if flow != Flow::Next {
                        return flow;
                    }
                }
                Err(error) => {
                    if !self.holds_line {
                        self.place.line = error.line;
                    }
                    let doubt = self.doubt(format!("{}: shells stop reading here", error.what));
                    self.state.clouds.insert(doubt);
                    self.status = Some(2);
                    return self.mistake();
                }
            }
        }
        Flow::Next
    }

    /// Follows a file: `.`, or one that the shell reads by itself.
    pub(in crate::search::shell) fn source(&mut self, file: &[u8], arguments: Option<Vec<Vec<u8>>>) -> Flow {
        let path = Text::from(self.absolute(file));
        let content = match self.at.scene.root.read(&path, LARGEST) {
            Ok(content) if self.meta(file).is_some_and(|meta| self.may(meta, 4)) => content,
            Ok(_) => {
                self.status = Some(1);
                return Flow::Next;
            }
            Err(RootError::Missing { .. } | RootError::WrongKind { .. }) => {
                self.status = Some(1);
                return Flow::Next;
            }
            Err(error) => {
                let doubt = self.doubt(format!("reads {error}"));
                self.cloud(doubt);
                self.status = None;
                return Flow::Next;
            }
        };
        if self.depth >= DEEPEST {
            self.stop("files that read files without an end");
            return Flow::Next;
        }
        self.depth += 1;
        let place = std::mem::replace(&mut self.place, Place { file: path, line: 1 });
        let held = std::mem::replace(&mut self.holds_line, false);
        let outer = arguments.map(|arguments| std::mem::replace(&mut self.state.arguments, arguments));
        let early = self.early.len();
        self.status = Some(0);
        let mut flow = match rules::of_file(self, file) {
            Some(text) => self.text(&text),
            // Some editors end lines with CR LF; a shell takes the CR for a letter, and so does this. Zero bytes are
            // passed over.
            None => self.commands(&content.into_iter().filter(|&b| b != 0).collect::<Vec<u8>>()),
        };
        if std::mem::take(&mut self.failed_file) {
            flow = self.mistake();
        }
        self.join_early(early, |flow| matches!(flow, Flow::Return | Flow::LeaveFile));
        if let Some(outer) = outer {
            self.state.arguments = outer;
        }
        self.holds_line = held;
        self.place = place;
        self.depth -= 1;
        match flow {
            Flow::Return | Flow::LeaveFile => Flow::Next,
            other => other,
        }
    }

    /// Takes in what held where one of two ways ended early.
    fn join_early(&mut self, from: usize, fits: impl Fn(Flow) -> bool) {
        let mut kept = Vec::new();
        for (flow, state) in self.early.split_off(from) {
            if fits(flow) {
                let doubt = self.doubt("what ran before it decides whether the rest of this file is read");
                let now = std::mem::take(&mut self.state);
                self.state = now.merged(&state, doubt);
            } else {
                kept.push((flow, state));
            }
        }
        self.early.extend(kept);
    }

    /// Follows both of two ways, because nobody knows which is taken.
    pub(in crate::search::shell) fn either(
        &mut self,
        why: &str,
        one: &mut dyn FnMut(&mut Self) -> Flow,
        two: &mut dyn FnMut(&mut Self) -> Flow,
    ) -> Flow {
        let doubt = self.doubt(why);
        let before = self.state.clone();
        let first = one(self);
        let status = self.status;
        let after_one = std::mem::replace(&mut self.state, before);
        let second = two(self);
        match (first, second) {
            (Flow::Next, Flow::Next) => {
                let after_two = std::mem::take(&mut self.state);
                self.state = after_one.merged(&after_two, doubt);
                self.status = self.status.filter(|now| Some(*now) == status);
                Flow::Next
            }
            (flow, Flow::Next) => {
                self.early.push((flow, after_one));
                Flow::Next
            }
            (Flow::Next, flow) => {
                let after_two = std::mem::replace(&mut self.state, after_one);
                self.early.push((flow, after_two));
                Flow::Next
            }
            (flow, _) => {
                let after_two = std::mem::take(&mut self.state);
                self.state = after_one.merged(&after_two, doubt);
                flow
            }
        }
    }

    /// Follows something whose changes do not last; what it writes is kept where that is wanted.
    pub(in crate::search::shell) fn apart(&mut self, inside: impl FnOnce(&mut Self)) {
        let state = self.state.clone();
        let early = self.early.len();
        let scopes = self.scopes.len();
        self.depth += 1;
        if self.depth < DEEPEST {
            inside(self);
        } else {
            self.stop("commands in commands without an end");
        }
        self.depth -= 1;
        self.scopes.truncate(scopes);
        self.early.truncate(early);
        self.failed_file = false;
        self.state = state;
    }

    /// What commands write.
    pub(in crate::search::shell) fn output_of(&mut self, list: &Arc<List>) -> Vec<u8> {
        let outer = self.output.replace(Vec::new());
        self.apart(|run| {
            let _ = run.list(list);
        });
        let mut text = std::mem::replace(&mut self.output, outer).unwrap_or_default();
        while text.last() == Some(&b'\n') {
            text.pop();
        }
        text
    }

    pub(in crate::search::shell) fn write(&mut self, text: &[u8]) {
        if let Some(output) = &mut self.output
            && output.len() + text.len() < 4 << 20
        {
            output.extend_from_slice(text);
        }
    }
}

/// Whether a pattern fits a text of which pieces may be unknown.
pub(in crate::search::shell) fn fits_perhaps(fitting: &[u8], text: &[u8]) -> Option<bool> {
    if is_known(fitting) && is_known(text) {
        return Some(pattern::fits(fitting, text));
    }
    if fitting == b"*" {
        return Some(true);
    }
    // `*x*` fits where a known piece already does.
    let middle = fitting.strip_prefix(b"*").and_then(|rest| rest.strip_suffix(b"*"))?;
    let is_plain = !pattern::is_pattern(middle) && is_known(middle);
    let within = memchr::memmem::find(text, &pattern::plain(middle)).is_some();
    (is_plain && within).then_some(true)
}

/// A list with each part once, the first counting.
pub(in crate::search::shell) fn once_each(list: &[u8], separator: u8) -> Vec<u8> {
    let mut seen = BTreeSet::new();
    let kept: Vec<&[u8]> = list.split(|&b| b == separator).filter(|part| seen.insert(part.to_vec())).collect();
    kept.join(&separator)
}
