//! Follows commands, one after another and inside each other.

use std::sync::Arc;

use super::{Flow, MAX_DEPTH, MAX_FILE, Run};
use crate::eval::builtins::is_special;
use crate::eval::piece::is_known;
use crate::eval::state::{Function, Value};
use crate::eval::stream::Input;
use crate::syntax::{Arm, ArmEnd, Command, Dialect, Kind, List, Part, Redirect, literal};
use crate::{FileType, ReadError};
use whodunit_formats::bytes::path;

/// Whether `set -e` looks at how a command ends; the commands inside others are looked at themselves.
fn is_checked(command: &Command) -> bool {
    matches!(
        command.kind,
        Kind::Simple(..) | Kind::Pipeline(_) | Kind::Subshell(_) | Kind::Test(_) | Kind::Arithmetic(_)
    )
}

impl Run<'_> {
    pub(in crate::eval) fn list(&mut self, list: &List) -> Flow {
        for command in list {
            let flow = self.command(command);
            if flow != Flow::Next {
                return flow;
            }
            if is_checked(command) && self.ends_by_errexit() {
                return Flow::Exit;
            }
        }
        Flow::Next
    }

    /// Whether `set -e` ends the shell because of how the last command ended.
    fn ends_by_errexit(&mut self) -> bool {
        if self.unchecked > 0 || !self.state.has(b"errexit") {
            return false;
        }
        match self.status {
            Some(0) => false,
            Some(_) => true,
            None => {
                let says = "`set -e` ends the shell here if a command fails that is not run";
                let unknown = self.note_unknown(says);
                self.state.taints.insert(unknown);
                self.early.push((Flow::Exit, self.state.clone()));
                false
            }
        }
    }

    /// Follows a condition, whose failure `set -e` takes no notice of.
    pub(super) fn unchecked<T>(&mut self, inside: impl FnOnce(&mut Self) -> T) -> T {
        self.unchecked += 1;
        let found = inside(self);
        self.unchecked -= 1;
        found
    }

    pub(in crate::eval) fn command(&mut self, command: &Command) -> Flow {
        if !self.step(1) {
            return Flow::Exit;
        }
        if !self.holds_line {
            self.place.line = command.line;
        }
        self.unrun = None;
        let flow = self.nested(|run| run.redirected(command));
        self.find_back();
        match self.failure.take() {
            Some(failure) if flow == Flow::Next => failure,
            _ => flow,
        }
    }

    /// The target of a redirection; else what the shell gives up for a wrong one.
    fn target(&mut self, redirect: &Redirect) -> Result<Vec<u8>, Flow> {
        let is_number = |target: &[u8]| target == b"-" || !is_known(target) || target.iter().all(u8::is_ascii_digit);
        let takes_number = redirect.operator.ends_with('&');
        match self.dialect() {
            Dialect::Bash if !redirect.operator.starts_with("<<") => {
                let mut fields = self.fields(std::slice::from_ref(&redirect.target));
                let is_wrong = |target: &[u8]| takes_number && redirect.descriptor.is_some() && !is_number(target);
                match (fields.pop(), fields.is_empty()) {
                    (Some(target), true) if !is_wrong(&target) => Ok(target),
                    // An ambiguous redirect.
                    _ => {
                        self.status = Some(1);
                        Err(Flow::Next)
                    }
                }
            }
            dialect => {
                let target = self.one(&redirect.target, false);
                if dialect == Dialect::Posix && takes_number && !is_number(&target) {
                    self.status = Some(2);
                    return Err(self.mistake());
                }
                Ok(target)
            }
        }
    }

    /// Whether nothing is open under a number, as nothing is beyond the first three at the start.
    fn is_closed(&self, target: &[u8]) -> bool {
        let number: Option<u32> = std::str::from_utf8(target).ok().and_then(|text| text.parse().ok());
        number.is_some_and(|number| number > 2) && !self.has_descriptors
    }

    /// Whether a file certainly cannot be written: its directory is not there, or the user may not.
    pub(in crate::eval) fn cannot_write(&self, operator: &str, target: &[u8]) -> bool {
        if !is_known(target) || target.starts_with(b"/dev/") || !is_known(&self.state.dir) {
            return false;
        }
        let file = self.absolute(target);
        match (self.meta(&file), self.meta(path::parent(&file))) {
            (Some(meta), _) if meta.file_type == FileType::Dir => true,
            (Some(meta), _) => {
                !self.may(meta, 2)
                    || self.state.has(b"noclobber") && operator == ">" && meta.file_type == FileType::File
            }
            (None, Some(dir)) => dir.file_type != FileType::Dir || !self.may(dir, 2),
            (None, None) => true,
        }
    }

    /// A command that is not run because a file of its redirections cannot be opened.
    fn refused_redirect(&mut self, command: &Command, is_certain: bool) -> Flow {
        let status = if self.dialect() == Dialect::Posix { 2 } else { 1 };
        self.status = is_certain.then_some(status);
        // It ends dash where the command is a special builtin.
        let name = match &command.kind {
            Kind::Simple(_, words) => words.first().and_then(literal),
            _ => None,
        };
        let is_special = name.is_some_and(|name| is_special(&name));
        if self.dialect() != Dialect::Posix || !is_special {
            return Flow::Next;
        }
        if !is_certain {
            return self.anything("a file that may be missing ends the shell");
        }
        self.mistake()
    }

    /// Follows a command with its redirections: only what is read, and whether what is written is caught, matters.
    pub(in crate::eval) fn redirected(&mut self, command: &Command) -> Flow {
        let mut input = None;
        let mut caught = true;
        let outer_taints = std::mem::take(&mut self.read_taints);
        for redirect in &command.redirects {
            self.has_descriptors |= redirect.descriptor.is_some_and(|number| number > 2);
            let descriptor = redirect.descriptor.unwrap_or(u32::from(!redirect.operator.starts_with('<')));
            if let ("<", [Part::Process(list)]) = (redirect.operator, &redirect.target.0[..]) {
                input = Some(match self.had_mishap {
                    true => self.unknown_value("input from a process after an error"),
                    false => self.written_by(list),
                });
                continue;
            }
            let target = match self.target(redirect) {
                Ok(target) => target,
                Err(flow) => {
                    self.read_taints.extend(outer_taints);
                    return flow;
                }
            };
            match redirect.operator {
                "<<" | "<<-" => input = Some(target),
                "<<<" => input = Some([&target[..], b"\n"].concat()),
                "<" if target == b"/dev/null" => input = Some(Vec::new()),
                "<" if target.starts_with(b"/dev/") => input = Some(self.unknown_value("the content of a device")),
                "<" => match self.at.files.read(&self.absolute(&target), MAX_FILE) {
                    Ok(content) if is_known(&target) => input = Some(content),
                    Err(ReadError::Absent(_)) if is_known(&target) => {
                        let is_certain = self.read_taints.is_empty();
                        self.read_taints.extend(outer_taints);
                        return self.refused_redirect(command, is_certain);
                    }
                    _ => input = Some(self.unknown_value("input that is unknown")),
                },
                ">&" if descriptor == 1 && target == b"2" => caught = false,
                "<&" | ">&" if self.is_closed(&target) => {
                    let is_certain = self.read_taints.is_empty();
                    self.read_taints.extend(outer_taints);
                    return self.refused_redirect(command, is_certain);
                }
                "<&" if target != b"0" => input = Some(self.unknown_value("input from another descriptor")),
                ">" | ">>" | ">|" | "&>" | "&>>" if self.cannot_write(redirect.operator, &target) => {
                    let is_certain = self.read_taints.is_empty();
                    self.read_taints.extend(outer_taints);
                    return self.refused_redirect(command, is_certain);
                }
                ">" | ">>" | ">|" | "&>" | "&>>" | ">&" if descriptor == 1 => caught = false,
                _ => {}
            }
        }
        let has_input = input.is_some();
        let taints = std::mem::replace(&mut self.read_taints, outer_taints);
        let outer = input.map(|text| self.input.replace(Input { text: text.into(), at: 0, taints }));
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

    pub(in crate::eval) fn follow(&mut self, command: &Command) -> Flow {
        match &command.kind {
            Kind::Simple(assignments, words) => self.simple(assignments, words, command),
            Kind::AndOr(first, more) => {
                let flow = self.unchecked(|run| run.command(first));
                if flow == Flow::Next { self.and_or(more) } else { flow }
            }
            Kind::Not(inner) => {
                let flow = self.unchecked(|run| run.command(inner));
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
            Kind::Always(list, last) => {
                let flow = self.list(list);
                if flow == Flow::Exit {
                    return flow;
                }
                let (status, failure) = (self.status, self.failure.take());
                let after = self.list(last);
                self.failure = failure;
                self.status = status;
                if after == Flow::Next { flow } else { after }
            }
            Kind::Coprocess(name, inner) => {
                self.has_descriptors = true;
                self.apart(|run| {
                    run.output = None;
                    run.input = None;
                    let _ = run.command(inner);
                });
                if self.dialect() == Dialect::Bash {
                    let unknown = self.unknown_value("the descriptors of a coprocess");
                    self.assign(&[name, &b"_PID"[..]].concat(), Value::Text(unknown.clone()), false);
                    self.assign(name, Value::List(vec![unknown.clone(), unknown]), false);
                }
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
            Kind::For(name, words, body) => self.for_loop(name, words.as_deref(), body),
            Kind::Count(from, to, by, body) => self.counted_loop([from, to, by], body),
            Kind::Repeat(count, body) => self.repeat(count, body),
            Kind::Anonymous(body, words) => {
                let arguments = self.fields(words);
                self.word_taints.clone_from(&self.read_taints);
                let place = self.place.clone();
                let function = Function::new(Some(Arc::clone(body)), place);
                self.function(b"(anon)", &function, arguments)
            }
            Kind::OtherLoop(body) => self.perhaps(body),
            Kind::Case(word, arms) => {
                let (mut text, is_uncertain) = self.reading(|run| run.one(word, false));
                if is_uncertain {
                    text = self.unknown_value("the text of a variable that may be another");
                }
                self.status = Some(0);
                self.case(&text, arms, false)
            }
            Kind::Function(names, body) => {
                self.status = Some(0);
                for name in names {
                    if self.state.functions.get(name).is_some_and(|function| function.readonly) {
                        self.status = Some(1);
                        continue;
                    }
                    let place = self.place.clone();
                    let function = Function::new(Some(Arc::clone(body)), place);
                    self.moments.functions.insert(name.clone(), self.moments.now);
                    self.state.functions.insert(name.clone(), function);
                    let is_trap = matches!(&name[..], b"TRAPZERR" | b"TRAPDEBUG" | b"TRAPERR")
                        || name == b"TRAPEXIT" && !self.calls.is_empty();
                    if self.dialect() == Dialect::Zsh && is_trap && self.changes_path(name) {
                        self.taint_for_good("a trap changes the search path again and again");
                    }
                }
                Flow::Next
            }
            Kind::Test(condition) => {
                let (holds, is_uncertain) = self.reading(|run| run.holds(condition));
                self.status = holds.filter(|_| !is_uncertain).map(|holds| u8::from(!holds));
                Flow::Next
            }
            Kind::Arithmetic(text) => {
                let value = self.deciding(text);
                self.status = match value {
                    None if std::mem::take(&mut self.is_refused) => Some(1),
                    // zsh also computes with fractions.
                    None if self.dialect() == Dialect::Zsh && !self.is_of_unknown => {
                        self.taint_for_good("a calculation that is not followed");
                        None
                    }
                    value => value.map(|value| u8::from(value == 0)),
                };
                Flow::Next
            }
        }
    }

    pub(in crate::eval) fn and_or(&mut self, more: &[(bool, Command)]) -> Flow {
        for (number, (is_and, command)) in more.iter().enumerate() {
            let is_last = number + 1 == more.len();
            let mut ends = false;
            let mut follow = |run: &mut Self| {
                if !is_last {
                    return run.unchecked(|run| run.command(command));
                }
                let flow = run.command(command);
                ends = flow == Flow::Next && is_checked(command) && run.ends_by_errexit();
                flow
            };
            let flow = match self.status {
                Some(status) if (status == 0) == *is_and => follow(self),
                Some(_) => Flow::Next,
                None => {
                    let why = self.why_unknown();
                    self.either(&why, &mut follow, &mut |run| {
                        run.status = Some(u8::from(*is_and));
                        Flow::Next
                    })
                }
            };
            if flow != Flow::Next || ends {
                return if ends { Flow::Exit } else { flow };
            }
        }
        Flow::Next
    }

    /// Each part apart; in zsh the last one in the shell itself.
    pub(in crate::eval) fn pipeline(&mut self, commands: &[Command]) -> Flow {
        let (mut flow, outer) = (Flow::Next, self.input.take());
        let mut statuses = Vec::new();
        for (number, command) in commands.iter().enumerate() {
            let is_last = number + 1 == commands.len();
            if is_last && self.dialect() == Dialect::Zsh {
                flow = self.command(command);
                statuses.push(self.status);
                break;
            }
            let output = if is_last { None } else { Some(self.output.replace(Vec::new())) };
            let ((), taints) = self.gathering(|run| {
                run.apart(|run| {
                    let _ = run.command(command);
                });
            });
            if let Some(output) = output {
                let text = std::mem::replace(&mut self.output, output).unwrap_or_default();
                self.input = Some(Input { text: text.into(), at: 0, taints });
            } else {
                self.read_taints.extend(taints);
            }
            statuses.push(self.status);
        }
        self.input = outer;
        if self.state.has(b"lastpipe") {
            self.taint_for_good("a pipeline whose last command is run by the shell itself");
        }
        if self.state.has(b"pipefail") {
            let all: Option<Vec<u8>> = statuses.into_iter().collect();
            self.status = all.map(|all| all.into_iter().rfind(|status| *status != 0).unwrap_or(0));
        }
        flow
    }

    pub(in crate::eval) fn branches(&mut self, branches: &[(List, List)], otherwise: Option<&List>) -> Flow {
        for (number, (condition, body)) in branches.iter().enumerate() {
            let flow = self.unchecked(|run| run.list(condition));
            if flow != Flow::Next {
                return flow;
            }
            match self.status {
                Some(0) => return self.list(body),
                Some(_) => {}
                None => {
                    let rest = &branches[number + 1..];
                    let why = self.why_unknown();
                    return self.nested(|run| {
                        run.either(&why, &mut |run| run.list(body), &mut |run| run.branches(rest, otherwise))
                    });
                }
            }
        }
        self.status = Some(0);
        otherwise.map_or(Flow::Next, |list| self.list(list))
    }

    /// One level deeper, as far as that goes.
    pub(in crate::eval) fn nested(&mut self, inside: impl FnOnce(&mut Self) -> Flow) -> Flow {
        self.depth += 1;
        let flow = if self.depth > 4 * MAX_DEPTH {
            self.stop("commands are nested too deeply");
            Flow::Exit
        } else {
            inside(self)
        };
        self.depth -= 1;
        flow
    }

    pub(in crate::eval) fn case(&mut self, text: &[u8], arms: &[Arm], mut is_falling: bool) -> Flow {
        for (number, arm) in arms.iter().enumerate() {
            let mut fits = Some(is_falling);
            for word in &arm.patterns {
                if fits == Some(true) {
                    break;
                }
                let fitting = self.one_pattern(word);
                fits = match (fits, self.fits(&fitting, text)) {
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
                            "depends on a condition that is unknown",
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
}
