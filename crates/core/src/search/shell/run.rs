//! Follows what start-up files would do, without doing it.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::state::{Alias, AliasKind, Function, LISTS, Place, State, Value, Variable, is_known, mark, places_after};
use super::{pattern, substitute};
use crate::formats::shell::{
    Arm, ArmEnd, Assigned, Assignment, Command, Dialect, Kind, List, Parser, Part, Word, literal,
};
use crate::model::Evidence;
use crate::root::{Limit, RootError};
use crate::scene::{Person, Scene};
use crate::text::Text;

/// More commands than this are not followed.
const MOST_STEPS: u32 = 60_000;
/// Files that read files, and functions that call functions, to this depth.
const DEEPEST: u32 = 40;
/// Longer lists of folders are not followed.
const MOST_FOLDERS: usize = 1000;
/// Longer values are not.
const LONGEST_VALUE: usize = 4 << 20;
/// A larger start-up file is not read.
const LARGEST: Limit = Limit::bytes(2 << 20);

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
pub(super) enum Flow {
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
    pub(super) at: Surroundings<'s>,
    pub(super) state: State,
    /// What is not known, by number.
    pub doubts: Vec<Evidence>,
    pub(super) place: Place,
    /// How the last command ended; none where that is not known.
    pub(super) status: Option<u8>,
    /// What is written, inside `$(…)`.
    pub(super) output: Option<Vec<u8>>,
    /// What is read, and how far.
    pub(super) input: Option<(Vec<u8>, usize)>,
    pub(super) scopes: Vec<Vec<(Vec<u8>, Option<Variable>)>>,
    /// Ends that one of two ways took, with what held there.
    early: Vec<(Flow, State)>,
    steps: u32,
    depth: u32,
    /// Whether lines are those of a call, because a function is followed.
    holds_line: bool,
    pub(super) failed_file: bool,
    expanding: Vec<Vec<u8>>,
    pub(super) is_stopped: bool,
    /// Which dialect is spoken for now (`emulate`).
    pub(super) emulated: Option<Dialect>,
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
            emulated: None,
        }
    }

    /// The state at the end.
    pub fn finish(mut self) -> (State, Vec<Evidence>) {
        self.join_early(0, |_| true);
        (self.state, self.doubts)
    }

    pub(super) fn dialect(&self) -> Dialect {
        self.at.dialect
    }

    /// Counts steps; `false` where there are too many.
    pub(super) fn step(&mut self, count: u32) -> bool {
        self.steps += count;
        if self.steps > MOST_STEPS {
            self.stop("more commands than are followed, perhaps without an end");
        }
        !self.is_stopped
    }

    /// Gives up: everything after this is in doubt.
    pub(super) fn stop(&mut self, why: &str) {
        if !self.is_stopped {
            self.is_stopped = true;
            let doubt = self.doubt(format!("{why}: what follows is not known"));
            self.cloud(doubt);
        }
    }

    /// Gives up the file that is read, as the shell itself would.
    pub(super) fn fail_file(&mut self) {
        self.failed_file = true;
        self.status = Some(1);
    }

    /// Notes something that is not known at this place.
    pub(super) fn doubt(&mut self, says: impl Into<String>) -> usize {
        let at = if self.place.line > 0 { format!("line {}", self.place.line) } else { "whole file".to_owned() };
        let doubt = Evidence::at(self.place.file.clone(), at, says);
        if let Some(known) = self.doubts.iter().position(|known| *known == doubt) {
            return known;
        }
        self.doubts.push(doubt);
        self.doubts.len() - 1
    }

    /// A text that is not known.
    pub(super) fn unknown(&mut self, says: impl Into<String>) -> Vec<u8> {
        let number = self.doubt(says);
        mark(number)
    }

    /// Everything that programs get, and aliases and functions, may be others than they look.
    pub(super) fn cloud(&mut self, doubt: usize) {
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
    pub(super) fn mistake(&self) -> Flow {
        match (self.at.dialect, self.at.is_interactive) {
            (Dialect::Posix, true) => Flow::LeaveAll,
            (Dialect::Posix, false) => Flow::Exit,
            _ => Flow::LeaveFile,
        }
    }

    /// Reads the file that a variable names.
    pub fn named_file(&mut self, variable: &[u8]) {
        let Some(text) = self.state.get(variable).filter(|text| !text.is_empty()).map(<[u8]>::to_vec) else { return };
        // The value is expanded as inside double quotes.
        let line = [&b": \""[..], &text, b"\""].concat();
        let list = Parser::new(&line, self.at.dialect).next();
        let Some(Ok(list)) = list else { return };
        let Some(Command { kind: Kind::Simple(_, words), .. }) = list.first() else { return };
        let Some(word) = words.get(1) else { return };
        let file = self.one(word, false);
        let _ = self.source(&file, None);
    }

    /// An alias that the shell has by itself.
    pub fn alias_of_its_own(&mut self, name: &[u8], value: &[u8]) {
        let place = Place { file: "zsh".into(), line: 0 };
        let alias = Alias { value: value.to_vec(), place, certain: true, kind: AliasKind::Command };
        self.state.aliases.insert(name.to_vec(), alias);
    }

    /// A variable's text.
    #[must_use]
    pub fn variable(&self, name: &[u8]) -> Option<Vec<u8>> {
        self.state.get(name).map(<[u8]>::to_vec)
    }

    /// Takes a text as commands that stand on one line.
    pub(super) fn text(&mut self, text: &[u8]) -> Flow {
        let held = std::mem::replace(&mut self.holds_line, true);
        let flow = self.commands(text);
        self.holds_line = held;
        flow
    }

    fn commands(&mut self, text: &[u8]) -> Flow {
        if !is_known(text) {
            let doubt = self.doubt("commands that are not known");
            self.cloud(doubt);
            return Flow::Next;
        }
        let dialect = self.emulated.unwrap_or(self.at.dialect);
        for list in Parser::new(text, dialect) {
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
    pub(super) fn source(&mut self, file: &[u8], arguments: Option<Vec<Vec<u8>>>) -> Flow {
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
        let mut flow = match super::rules::of_file(self, file) {
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

    pub(super) fn list(&mut self, list: &List) -> Flow {
        for command in list {
            let flow = self.command(command);
            if flow != Flow::Next {
                return flow;
            }
            if self.failed_file {
                return Flow::LeaveFile;
            }
            if self.state.has(b"errexit") && self.status != Some(0) {
                let doubt = self.doubt("`set -e` may end the shell at a command that fails");
                self.cloud(doubt);
                self.state.options.remove(&b"errexit"[..]);
            }
        }
        Flow::Next
    }

    /// Follows both of two ways, because nobody knows which is taken.
    pub(super) fn either(
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
    pub(super) fn apart(&mut self, inside: impl FnOnce(&mut Self)) {
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
    pub(super) fn output_of(&mut self, list: &Arc<List>) -> Vec<u8> {
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

    pub(super) fn write(&mut self, text: &[u8]) {
        if let Some(output) = &mut self.output
            && output.len() + text.len() < 4 << 20
        {
            output.extend_from_slice(text);
        }
    }

    pub(super) fn command(&mut self, command: &Command) -> Flow {
        if !self.step(1) {
            return Flow::Exit;
        }
        if !self.holds_line {
            self.place.line = command.line;
        }
        self.nested(|run| run.redirected(command))
    }

    /// Follows a command with its redirections: only what is read, and whether what is written is caught, matters.
    fn redirected(&mut self, command: &Command) -> Flow {
        let mut input = None;
        let mut caught = true;
        for redirect in &command.redirects {
            let descriptor = redirect.descriptor.unwrap_or(u32::from(!redirect.operator.starts_with('<')));
            let target = self.one(&redirect.target, false);
            match redirect.operator {
                "<<" | "<<-" => input = Some(target),
                "<<<" => input = Some([&target[..], b"\n"].concat()),
                "<" if target == b"/dev/null" => input = Some(Vec::new()),
                "<" if target.starts_with(b"/dev/") => input = Some(self.unknown("what a device says")),
                "<" => match self.at.scene.root.read(&self.absolute(&target), LARGEST) {
                    Ok(content) if is_known(&target) => input = Some(content),
                    Err(RootError::Missing { .. }) if is_known(&target) => {
                        self.status = Some(1);
                        return Flow::Next;
                    }
                    _ => input = Some(self.unknown("what is read here")),
                },
                ">&" if descriptor == 1 && target == b"2" => caught = false,
                ">" | ">>" | ">|" | "&>" | "&>>" | ">&" if descriptor == 1 => caught = false,
                _ => {}
            }
        }
        let has_input = input.is_some();
        let outer = input.map(|input| self.input.replace((input, 0)));
        let output = if caught { None } else { Some(self.output.take()) };
        let flow = self.follow(command);
        if let Some(output) = output {
            self.output = output;
        }
        if has_input {
            self.input = outer.flatten();
        }
        flow
    }

    fn follow(&mut self, command: &Command) -> Flow {
        match &command.kind {
            Kind::Simple(assignments, words) => self.simple(assignments, words, command),
            Kind::AndOr(first, more) => {
                let flow = self.command(first);
                if flow == Flow::Next { self.and_or(more) } else { flow }
            }
            Kind::Not(inner) => {
                let flow = self.command(inner);
                self.status = self.status.map(|status| u8::from(status == 0));
                flow
            }
            Kind::Background(inner) => {
                self.apart(|run| {
                    run.output = None;
                    let _ = run.command(inner);
                });
                self.status = Some(0);
                Flow::Next
            }
            Kind::Pipeline(commands) => self.pipeline(commands),
            Kind::Group(list) => self.list(list),
            Kind::Subshell(list) => {
                self.apart(|run| {
                    let _ = run.list(list);
                });
                Flow::Next
            }
            Kind::If(branches, otherwise) => self.branches(branches, otherwise.as_ref()),
            Kind::While(condition, body, until) => self.while_loop(condition, body, *until),
            Kind::For(name, words, body) => {
                let values = match words {
                    Some(words) => self.fields(words),
                    None => self.state.arguments.clone(),
                };
                self.status = Some(0);
                let early = self.early.len();
                for value in values {
                    self.assign(name, Value::Text(value), false);
                    match self.list(body) {
                        Flow::Next | Flow::Continue(1) => {}
                        Flow::Break(1) => break,
                        Flow::Break(count) => return Flow::Break(count - 1),
                        Flow::Continue(count) => return Flow::Continue(count - 1),
                        other => return other,
                    }
                    if self.failed_file || self.is_stopped {
                        break;
                    }
                }
                self.join_early(early, |flow| matches!(flow, Flow::Break(1) | Flow::Continue(1)));
                Flow::Next
            }
            Kind::OtherLoop(body) => self.either(
                "how often a loop runs is not known",
                &mut |run| match run.list(body) {
                    Flow::Break(_) | Flow::Continue(_) => Flow::Next,
                    other => other,
                },
                &mut |_| Flow::Next,
            ),
            Kind::Case(word, arms) => {
                let text = self.one(word, false);
                self.status = Some(0);
                self.case(&text, arms, false)
            }
            Kind::Function(names, body) => {
                for name in names {
                    let place = self.place.clone();
                    let function = Function { body: Some(Arc::clone(body)), place, certain: true, exported: false };
                    self.state.functions.insert(name.clone(), function);
                }
                self.status = Some(0);
                Flow::Next
            }
            Kind::Test(condition) => {
                let holds = self.holds(condition);
                self.status = holds.map(|holds| u8::from(!holds));
                Flow::Next
            }
            Kind::Arithmetic(text) => {
                let value = self.number(text);
                self.status = is_known(&value).then(|| u8::from(value == b"0"));
                Flow::Next
            }
        }
    }

    fn and_or(&mut self, more: &[(bool, Command)]) -> Flow {
        for (is_and, command) in more {
            let flow = match self.status {
                Some(status) if (status == 0) == *is_and => self.command(command),
                Some(_) => Flow::Next,
                None => {
                    let why = "whether a command succeeds that is not run";
                    self.either(why, &mut |run| run.command(command), &mut |run| {
                        run.status = Some(u8::from(*is_and));
                        Flow::Next
                    })
                }
            };
            if flow != Flow::Next {
                return flow;
            }
        }
        Flow::Next
    }

    /// Each part apart; in zsh the last one in the shell itself.
    fn pipeline(&mut self, commands: &[Command]) -> Flow {
        let (mut flow, outer) = (Flow::Next, self.input.take());
        for (number, command) in commands.iter().enumerate() {
            let is_last = number + 1 == commands.len();
            if is_last && self.dialect() == Dialect::Zsh {
                flow = self.command(command);
                break;
            }
            let output = if is_last { None } else { Some(self.output.replace(Vec::new())) };
            self.apart(|run| {
                let _ = run.command(command);
            });
            if let Some(output) = output {
                let text = std::mem::replace(&mut self.output, output).unwrap_or_default();
                self.input = Some((text, 0));
            }
        }
        self.input = outer;
        flow
    }

    fn branches(&mut self, branches: &[(List, List)], otherwise: Option<&List>) -> Flow {
        for (number, (condition, body)) in branches.iter().enumerate() {
            let flow = self.list(condition);
            if flow != Flow::Next {
                return flow;
            }
            match self.status {
                Some(0) => return self.list(body),
                Some(_) => {}
                None => {
                    let rest = &branches[number + 1..];
                    let why = "whether a command succeeds that is not run";
                    return self.nested(|run| {
                        run.either(why, &mut |run| run.list(body), &mut |run| run.branches(rest, otherwise))
                    });
                }
            }
        }
        self.status = Some(0);
        otherwise.map_or(Flow::Next, |list| self.list(list))
    }

    /// One level deeper, as far as that goes.
    fn nested(&mut self, inside: impl FnOnce(&mut Self) -> Flow) -> Flow {
        self.depth += 1;
        let flow = if self.depth > 4 * DEEPEST {
            self.stop("commands in commands without an end");
            Flow::Exit
        } else {
            inside(self)
        };
        self.depth -= 1;
        flow
    }

    fn while_loop(&mut self, condition: &List, body: &List, until: bool) -> Flow {
        let early = self.early.len();
        loop {
            let flow = self.list(condition);
            if flow != Flow::Next {
                return flow;
            }
            match self.status {
                Some(status) if (status == 0) != until => match self.list(body) {
                    Flow::Next | Flow::Continue(1) => {}
                    Flow::Break(1) => break,
                    Flow::Break(count) => return Flow::Break(count - 1),
                    Flow::Continue(count) => return Flow::Continue(count - 1),
                    other => return other,
                },
                Some(_) => break,
                None => {
                    // Once, and not at all: what it changes is in doubt.
                    let why = "how often a loop runs is not known";
                    let flow = self.either(
                        why,
                        &mut |run| match run.list(body) {
                            Flow::Break(_) | Flow::Continue(_) => Flow::Next,
                            other => other,
                        },
                        &mut |_| Flow::Next,
                    );
                    if flow != Flow::Next {
                        return flow;
                    }
                    break;
                }
            }
            if self.is_stopped || self.failed_file {
                break;
            }
        }
        self.join_early(early, |flow| matches!(flow, Flow::Break(1) | Flow::Continue(1)));
        self.status = Some(0);
        Flow::Next
    }

    fn case(&mut self, text: &[u8], arms: &[Arm], mut is_falling: bool) -> Flow {
        for (number, arm) in arms.iter().enumerate() {
            let mut fits = Some(is_falling);
            for word in &arm.patterns {
                if fits == Some(true) {
                    break;
                }
                let fitting = self.one_pattern(word);
                fits = match (fits, fits_perhaps(&fitting, text)) {
                    (_, Some(true)) => Some(true),
                    (Some(false), other) => other,
                    (other, _) => other,
                };
            }
            match fits {
                Some(true) => match (self.list(&arm.body), arm.then) {
                    (Flow::Next, ArmEnd::FallThrough) => is_falling = true,
                    (Flow::Next, ArmEnd::TestOn) => is_falling = false,
                    (flow, _) => return flow,
                },
                Some(false) => {}
                None => {
                    let rest = &arms[number + 1..];
                    return self.nested(|run| {
                        run.either(
                            "which way is taken depends on what is not known",
                            &mut |run| match (run.list(&arm.body), arm.then) {
                                (Flow::Next, ArmEnd::FallThrough) => run.case(text, rest, true),
                                (Flow::Next, ArmEnd::TestOn) => run.case(text, rest, false),
                                (flow, _) => flow,
                            },
                            &mut |run| run.case(text, rest, false),
                        )
                    });
                }
            }
        }
        Flow::Next
    }

    /// Whether a value is larger than is carried along; nothing is known after that.
    pub(super) fn is_too_much(&mut self, name: &[u8], value: &Value) -> bool {
        let (length, count) = match value {
            Value::Text(text) if LISTS.contains(&name) => (text.len(), memchr::memchr_iter(b':', text).count()),
            Value::Text(text) => (text.len(), 0),
            Value::List(list) => (list.iter().map(|one| one.len() + 1).sum(), list.len()),
        };
        let is_folders = LISTS.contains(&name) || name == b"fish_user_paths";
        let is_too_much = length > LONGEST_VALUE || (is_folders && count > MOST_FOLDERS);
        if is_too_much {
            self.stop("a value that is longer than is followed, perhaps without an end");
        } else {
            self.step(u32::try_from(length / 4096).unwrap_or(0));
        }
        is_too_much
    }

    /// Sets a variable, and remembers who did.
    pub(super) fn assign(&mut self, name: &[u8], value: Value, is_made_of_old: bool) {
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
        let value = match (value, old.is_some_and(|old| old.unique)) {
            (Value::Text(text), true) => Value::Text(once_each(&text, b':')),
            (Value::List(list), true) => {
                let mut seen = BTreeSet::new();
                Value::List(list.into_iter().filter(|one| seen.insert(one.clone())).collect())
            }
            (value, _) => value,
        };
        let mut variable = match old {
            Some(old) => Variable { value, ..old.clone() },
            None => Variable { value, ..Variable::text("", self.state.has(b"allexport")) },
        };
        if LISTS.contains(&name) {
            let before = old.map_or(&b""[..], Variable::as_text);
            let places = old.map_or(&[][..], |old| &old.places);
            variable.places = places_after(before, places, variable.as_text(), is_made_of_old, &self.place);
            if !is_made_of_old {
                variable.clouds.clear();
            }
        }
        self.state.variables.insert(name.to_vec(), variable);
    }

    /// One assignment of a command.
    pub(super) fn assignment(&mut self, assignment: &Assignment) {
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

    fn simple(&mut self, assignments: &[Assignment], words: &[Word], command: &Command) -> Flow {
        if let Some(flow) = self.alias(words, command) {
            return flow;
        }
        let name = words.first().and_then(literal);
        if let Some(name) = name.filter(|name| self.declares(name)) {
            return self.declare(&name, &words[1..]);
        }
        let fields = self.fields(words);
        if self.failed_file {
            return Flow::LeaveFile;
        }
        let Some((name, arguments)) = fields.split_first() else {
            self.status = Some(0);
            assignments.iter().for_each(|assignment| self.assignment(assignment));
            return Flow::Next;
        };
        let (name, arguments) = (name.clone(), arguments.to_vec());
        if assignments.is_empty() {
            return self.call(&name, arguments);
        }
        let lasts = self.dialect() == Dialect::Posix && super::builtins::is_special(&name);
        let before: Vec<_> = assignments
            .iter()
            .map(|assignment| (assignment.name.clone(), self.state.variables.get(&assignment.name).cloned()))
            .collect();
        assignments.iter().for_each(|assignment| {
            self.assignment(assignment);
            if let Some(variable) = self.state.variables.get_mut(&assignment.name) {
                variable.exported = true;
            }
        });
        let flow = self.call(&name, arguments);
        if !lasts {
            for (name, variable) in before.into_iter().rev() {
                match variable {
                    Some(variable) => self.state.variables.insert(name, variable),
                    None => self.state.variables.remove(&name),
                };
            }
        }
        flow
    }

    /// What an alias in the place of the command does.
    fn alias(&mut self, words: &[Word], command: &Command) -> Option<Flow> {
        let expands = match self.dialect() {
            Dialect::Bash => self.at.is_interactive || self.state.has(b"expand_aliases"),
            _ => true,
        };
        let [Part::Plain(name)] = &words.first()?.0[..] else { return None };
        let alias = self.state.aliases.get(name).filter(|alias| expands && alias.kind == AliasKind::Command)?;
        if self.expanding.contains(name) {
            return None;
        }
        let Alias { value, .. } = alias.clone();
        let mut lists = Vec::new();
        for list in Parser::new(&value, self.at.dialect) {
            lists.extend(list.ok()?);
        }
        if let Some(Command { kind: Kind::Simple(_, last), redirects, .. }) = lists.last_mut() {
            last.extend(words[1..].iter().cloned());
            redirects.extend(command.redirects.iter().cloned());
        }
        self.expanding.push(name.clone());
        let held = std::mem::replace(&mut self.holds_line, true);
        let flow = self.list(&lists);
        self.holds_line = held;
        self.expanding.pop();
        Some(flow)
    }

    /// Follows a function.
    pub(super) fn function(&mut self, function: &Function, arguments: Vec<Vec<u8>>) -> Flow {
        let Some(body) = function.body.clone() else {
            self.status = None;
            return Flow::Next;
        };
        if self.depth >= DEEPEST {
            self.stop("functions that call each other without an end");
            return Flow::Next;
        }
        self.depth += 1;
        let outer = std::mem::replace(&mut self.state.arguments, arguments);
        let held = std::mem::replace(&mut self.holds_line, true);
        let (early, emulated) = (self.early.len(), self.emulated);
        let options = self.state.options.clone();
        self.scopes.push(Vec::new());
        self.status = Some(0);
        let flow = self.command(&body);
        self.join_early(early, |flow| flow == Flow::Return);
        for (name, variable) in self.scopes.pop().unwrap_or_default().into_iter().rev() {
            match variable {
                Some(variable) => self.state.variables.insert(name, variable),
                None => self.state.variables.remove(&name),
            };
        }
        if self.state.has(b"localoptions") {
            self.state.options = options;
            self.emulated = emulated;
        }
        self.holds_line = held;
        self.state.arguments = outer;
        self.depth -= 1;
        match flow {
            Flow::Return | Flow::Break(_) | Flow::Continue(_) => Flow::Next,
            other => other,
        }
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

/// Whether a pattern fits a text of which pieces may be unknown.
pub(super) fn fits_perhaps(fitting: &[u8], text: &[u8]) -> Option<bool> {
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
pub(super) fn once_each(list: &[u8], separator: u8) -> Vec<u8> {
    let mut seen = BTreeSet::new();
    let kept: Vec<&[u8]> = list.split(|&b| b == separator).filter(|part| seen.insert(part.to_vec())).collect();
    kept.join(&separator)
}
