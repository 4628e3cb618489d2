//! Follows what start-up files would do, without doing it.

mod assign;
mod calls;
mod follow;
mod loops;
mod redirects;
mod ways;

pub(in crate::eval) use ways::{Scopes, join_scopes, taint_hidden};

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::eval::lists::Place;
use crate::eval::moments::Moments;
use crate::eval::piece::{self, mark};
use crate::eval::state::{Alias, AliasKind, State, Variable};
use crate::eval::stream::Input;
use crate::syntax::Dialect;
use crate::{Files, Unknown, UnknownId};
use whodunit_formats::bytes::ByteString;

/// More commands than this are not followed.
const MAX_STEPS: u32 = 60_000;
/// Files that read files, and functions that call functions, to this depth.
pub(in crate::eval) const MAX_DEPTH: u32 = 40;
/// A larger start-up file is not read.
pub(in crate::eval) const MAX_FILE: u64 = 2 << 20;
/// Files that programs such as `cat` read are smaller than this.
pub(in crate::eval) const SMALL: u64 = 1 << 20;

/// The account of the user who starts a shell.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account {
    /// Login name.
    pub name: ByteString,
    /// User id.
    pub uid: u32,
    /// Home directory.
    pub home: ByteString,
}

/// Who starts which shell, and how.
#[derive(Debug, Clone)]
pub struct Invocation<'s> {
    /// The machine's files.
    pub files: &'s dyn Files,
    /// The machine's name.
    pub hostname: Option<ByteString>,
    /// Who starts it.
    pub user: &'s Account,
    /// Numbers of the groups that the user is in.
    pub groups: BTreeSet<u32>,
    /// Homes by name.
    pub homes: Arc<BTreeMap<Vec<u8>, Vec<u8>>>,
    /// The language that it speaks.
    pub dialect: Dialect,
    /// What the shell calls itself.
    pub name: Vec<u8>,
    /// Whether it is the first of a session.
    pub is_login: bool,
    /// Whether a user types into it.
    pub is_interactive: bool,
}

/// How a command ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::eval) enum Flow {
    Next,
    Return,
    Exit,
    Break(u32),
    Continue(u32),
    /// The rest of the file that is read is given up.
    LeaveFile,
    /// All files that are being read are given up; the shell goes on with the next one of its own.
    LeaveAll,
    /// The rest of the line is given up, with all that it is in; the file is read on.
    LeaveLine,
}

/// What a shell gives up commands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::eval) enum Mishap {
    /// A variable that must be set is not (`${name:?}`).
    Unset,
    /// A variable is not set, under `set -u`.
    Unbound,
    /// Anything else that cannot be expanded or assigned.
    Expansion,
}

/// A shell that is followed.
pub struct Run<'s> {
    pub(in crate::eval) at: Invocation<'s>,
    pub(in crate::eval) state: State,
    /// The unknowns, by number.
    pub unknowns: Vec<Unknown>,
    pub(in crate::eval) place: Place,
    /// How the last command ended; none where that is not known.
    pub(in crate::eval) status: Option<u8>,
    /// The output so far, inside `$(…)`.
    pub(in crate::eval) output: Option<Vec<u8>>,
    pub(in crate::eval) input: Option<Input>,
    pub(in crate::eval) scopes: Scopes,
    /// Ends that one of two ways took, with what held there.
    pub(in crate::eval) early: Vec<(Flow, State)>,
    steps: u32,
    pub(in crate::eval) depth: u32,
    /// Whether lines are those of a call, because a function is followed.
    pub(in crate::eval) holds_line: bool,
    /// How the command that is followed ends because of a mishap in it.
    pub(in crate::eval) failure: Option<Flow>,
    /// How often a variable took nothing because it is read-only.
    pub(in crate::eval) refusals: u32,
    /// How many conditions the command stands in, whose status `set -e` takes no notice of.
    pub(in crate::eval) unchecked: u32,
    /// Lists of zsh's own that were unset, with whether each part is kept once when they are set again: the variable's
    /// and the list's way.
    pub(in crate::eval) unset_lists: BTreeMap<Vec<u8>, (bool, bool)>,
    /// Whether the words of a `test` make no sense to it.
    pub(in crate::eval) is_misused: bool,
    /// Whether no file fitted a pattern.
    pub(in crate::eval) is_unmatched: bool,
    /// Doubts about what the command that is followed reads.
    pub(in crate::eval) read_taints: BTreeSet<UnknownId>,
    /// Those of them that are about its words, until it takes the words.
    pub(in crate::eval) word_taints: BTreeSet<UnknownId>,
    /// Why what a file was asked about is not known, where it was.
    pub(in crate::eval) why_astray: Cell<Option<&'static str>>,
    /// Whether any file has another time than the disk tells.
    pub(in crate::eval) has_touched: bool,
    /// The command that nobody ran and whose exit status is therefore unknown.
    pub(in crate::eval) unrun: Option<String>,
    /// Unknowns that stand for any number of words.
    pub(in crate::eval) several: BTreeSet<UnknownId>,
    /// The search path at the start.
    pub(in crate::eval) first_path: Vec<u8>,
    /// Whether bash gave up a line before, after which it reads from no process any more.
    pub(in crate::eval) had_mishap: bool,
    /// How many loops `break` may leave here.
    pub(in crate::eval) loops: u32,
    /// Whether descriptors beyond the three that every program gets have been opened.
    pub(in crate::eval) has_descriptors: bool,
    /// Whether one of those was closed.
    pub(in crate::eval) has_closed: bool,
    /// How the last output of a command that was made into words ended.
    pub(in crate::eval) substituted: Option<u8>,
    /// Whether a signal, once it is sent, would change the search path.
    pub(in crate::eval) traps_signals: bool,
    /// How many outputs of commands were made into words.
    pub(in crate::eval) substitutions: u32,
    /// Whether a calculation is one that the shell refuses.
    pub(in crate::eval) is_refused: bool,
    /// Whether the last calculation stands on what is unknown.
    pub(in crate::eval) is_of_unknown: bool,
    /// The functions that are followed, innermost last.
    pub(in crate::eval) calls: Vec<Vec<u8>>,
    /// How many of them are outside of the subshell that is followed.
    pub(in crate::eval) calls_outside: usize,
    /// The position inside a word of grouped options (`getopts`).
    pub(in crate::eval) option_at: usize,
    /// When what is followed, and what it uses, was taken apart.
    pub(in crate::eval) moments: Moments,
    expanding: Vec<Vec<u8>>,
    pub(in crate::eval) is_stopped: bool,
}

impl<'s> Run<'s> {
    /// A shell that has been started and has read nothing yet.
    pub fn new(at: Invocation<'s>, mut state: State) -> Self {
        // What a shell sets by itself can be unset like everything else.
        state.variables.insert(b"IFS".to_vec(), Variable::text(" \t\n", false));
        if at.dialect == Dialect::Zsh {
            for name in [&b"MANPATH"[..], b"CDPATH"] {
                state.variables.entry(name.to_vec()).or_insert_with(|| Variable::text("", false));
            }
        }
        Run {
            unset_lists: BTreeMap::new(),
            is_misused: false,
            is_unmatched: false,
            moments: Moments::default(),
            read_taints: BTreeSet::new(),
            word_taints: BTreeSet::new(),
            why_astray: Cell::new(None),
            has_touched: false,
            unrun: None,
            several: BTreeSet::new(),
            first_path: state.get(b"PATH").unwrap_or_default().to_vec(),
            at,
            state,
            unknowns: Vec::new(),
            place: Place { file: ByteString::default(), line: 0 },
            status: Some(0),
            output: None,
            input: None,
            scopes: Vec::new(),
            early: Vec::new(),
            steps: 0,
            depth: 0,
            holds_line: false,
            failure: None,
            refusals: 0,
            unchecked: 0,
            had_mishap: false,
            loops: 0,
            has_descriptors: false,
            has_closed: false,
            substituted: Some(0),
            traps_signals: false,
            substitutions: 0,
            is_refused: false,
            is_of_unknown: false,
            calls: Vec::new(),
            calls_outside: 0,
            option_at: 0,
            expanding: Vec::new(),
            is_stopped: false,
        }
    }

    /// The state at the end.
    pub fn finish(mut self) -> (State, Vec<Unknown>) {
        self.join_early(0, |_| true);
        (self.state, self.unknowns)
    }

    pub(in crate::eval) fn dialect(&self) -> Dialect {
        self.at.dialect
    }

    /// Counts steps; `false` where there are too many.
    pub(in crate::eval) fn step(&mut self, count: u32) -> bool {
        self.steps = self.steps.saturating_add(count);
        if self.steps > MAX_STEPS {
            self.stop("too many commands");
        }
        !self.is_stopped
    }

    /// Gives up: everything after this is uncertain.
    pub(in crate::eval) fn stop(&mut self, why: &str) {
        if !self.is_stopped {
            self.is_stopped = true;
            let unknown = self.note_unknown(format!("{why}: what follows is unknown"));
            self.taint_all(unknown);
        }
    }

    /// Gives up what the shell itself would give up.
    pub(in crate::eval) fn fail(&mut self, mishap: Mishap) {
        self.status = Some(if self.at.dialect == Dialect::Posix { 2 } else { 1 });
        self.failure = Some(match (self.at.dialect, mishap) {
            (Dialect::Posix, _) => self.mistake(),
            (Dialect::Bash, Mishap::Unset | Mishap::Unbound) if !self.at.is_interactive => Flow::Exit,
            (Dialect::Zsh, Mishap::Unset) if !self.at.is_interactive => Flow::Exit,
            (Dialect::Bash, _) => Flow::LeaveLine,
            (Dialect::Zsh, _) => Flow::LeaveFile,
        });
    }

    /// Notes something that is not known at this place.
    pub(in crate::eval) fn note_unknown(&mut self, says: impl Into<String>) -> UnknownId {
        let line = Some(self.place.line).filter(|line| *line > 0);
        let unknown = Unknown { file: self.place.file.clone(), line, says: says.into() };
        if let Some(known) = self.unknowns.iter().position(|known| *known == unknown) {
            return UnknownId(known);
        }
        self.unknowns.push(unknown);
        UnknownId(self.unknowns.len() - 1)
    }

    /// A text that is not known.
    pub(in crate::eval) fn unknown_value(&mut self, says: impl Into<String>) -> Vec<u8> {
        let number = self.note_unknown(says);
        mark(number)
    }

    /// Everything that programs get, and aliases and functions, may be others than they look.
    pub(in crate::eval) fn taint_all(&mut self, unknown: UnknownId) {
        self.state.taints.insert(unknown);
        self.state.taint_lists(unknown);
        self.state.unset_taints.insert(unknown);
        let path = self.state.variables.entry(b"PATH".to_vec()).or_insert_with(|| Variable::text("", true));
        path.taints.insert(unknown);
        taint_hidden(&mut self.scopes, unknown);
    }

    /// The effect of a syntax error: the POSIX shell exits, or, if interactive, drops the rest of what it reads.
    pub(in crate::eval) fn mistake(&self) -> Flow {
        match (self.at.dialect, self.at.is_interactive) {
            (Dialect::Posix, true) => Flow::LeaveAll,
            (Dialect::Posix, false) => Flow::Exit,
            _ => Flow::LeaveFile,
        }
    }

    /// An alias that the shell has by itself.
    pub fn alias_of_its_own(&mut self, name: &[u8], value: &[u8]) {
        let place = Place { file: "zsh".into(), line: 0 };
        let alias = Alias { value: value.to_vec(), place, certain: true, kind: AliasKind::Command };
        self.state.aliases.insert(name.to_vec(), alias);
    }

    /// Runs what the shell does before each prompt: if that changes the search path, the path becomes unknown.
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
            if self.changes_path(&hook) {
                let shown = piece::shown(&hook, 60);
                let unknown = self.note_unknown(format!("`{shown}` changes the search path at each prompt"));
                if let Some(path) = self.state.variables.get_mut(&b"PATH"[..]) {
                    path.taints.insert(unknown);
                }
            }
        }
    }

    /// A variable's text.
    #[must_use]
    pub fn variable(&self, name: &[u8]) -> Option<Vec<u8>> {
        self.state.get(name).map(<[u8]>::to_vec)
    }

    /// What is not known to be run sets anything, writes anything, and ends in any way.
    pub(in crate::eval) fn anything(&mut self, why: impl Into<String>) -> Flow {
        let unknown = self.note_unknown(why);
        self.taint_all(unknown);
        self.write(&mark(unknown));
        self.status = None;
        Flow::Next
    }

    pub(in crate::eval) fn write(&mut self, text: &[u8]) {
        if let Some(output) = &mut self.output
            && output.len() + text.len() < 4 << 20
        {
            output.extend_from_slice(text);
        }
    }
}
