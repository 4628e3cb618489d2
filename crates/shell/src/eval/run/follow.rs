//! Follows commands, one after another and inside each other.

use std::sync::Arc;

use super::{DEEPEST, Flow, LARGEST, Run, fits_perhaps};
use crate::ReadError;
use crate::eval::state::{Alias, AliasKind, Function, Value, is_known};
use crate::syntax::{Arm, ArmEnd, Assignment, Command, Dialect, Kind, List, Parser, Part, Word, literal};

impl Run<'_> {
    pub(in crate::eval) fn list(&mut self, list: &List) -> Flow {
        for command in list {
            let flow = self.command(command);
            if flow != Flow::Next {
                return flow;
            }
            if self.failed_file {
                return Flow::LeaveFile;
            }
            if self.state.has(b"errexit") && self.status != Some(0) {
                let unknown = self.note_unknown("`set -e` may end the shell when a command fails");
                self.taint_all(unknown);
                self.state.options.remove(&b"errexit"[..]);
            }
        }
        Flow::Next
    }

    pub(in crate::eval) fn command(&mut self, command: &Command) -> Flow {
        if !self.step(1) {
            return Flow::Exit;
        }
        if !self.holds_line {
            self.place.line = command.line;
        }
        self.nested(|run| run.redirected(command))
    }

    /// Follows a command with its redirections: only what is read, and whether what is written is caught, matters.
    pub(in crate::eval) fn redirected(&mut self, command: &Command) -> Flow {
        let mut input = None;
        let mut caught = true;
        for redirect in &command.redirects {
            let descriptor = redirect.descriptor.unwrap_or(u32::from(!redirect.operator.starts_with('<')));
            let target = self.one(&redirect.target, false);
            match redirect.operator {
                "<<" | "<<-" => input = Some(target),
                "<<<" => input = Some([&target[..], b"\n"].concat()),
                "<" if target == b"/dev/null" => input = Some(Vec::new()),
                "<" if target.starts_with(b"/dev/") => input = Some(self.unknown_value("the content of a device")),
                "<" => match self.at.files.read(&self.absolute(&target), LARGEST) {
                    Ok(content) if is_known(&target) => input = Some(content),
                    Err(ReadError::Absent(_)) if is_known(&target) => {
                        self.status = Some(1);
                        return Flow::Next;
                    }
                    _ => input = Some(self.unknown_value("input that is unknown")),
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

    pub(in crate::eval) fn follow(&mut self, command: &Command) -> Flow {
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
                "the number of iterations of a loop is unknown",
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

    pub(in crate::eval) fn and_or(&mut self, more: &[(bool, Command)]) -> Flow {
        for (is_and, command) in more {
            let flow = match self.status {
                Some(status) if (status == 0) == *is_and => self.command(command),
                Some(_) => Flow::Next,
                None => {
                    let why = "depends on the exit status of a command that is not run";
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
    pub(in crate::eval) fn pipeline(&mut self, commands: &[Command]) -> Flow {
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

    pub(in crate::eval) fn branches(&mut self, branches: &[(List, List)], otherwise: Option<&List>) -> Flow {
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
                    let why = "depends on the exit status of a command that is not run";
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
    pub(in crate::eval) fn nested(&mut self, inside: impl FnOnce(&mut Self) -> Flow) -> Flow {
        self.depth += 1;
        let flow = if self.depth > 4 * DEEPEST {
            self.stop("commands are nested too deeply");
            Flow::Exit
        } else {
            inside(self)
        };
        self.depth -= 1;
        flow
    }

    pub(in crate::eval) fn while_loop(&mut self, condition: &List, body: &List, until: bool) -> Flow {
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
                    // Once, and not at all: what it changes is uncertain.
                    let why = "the number of iterations of a loop is unknown";
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

    pub(in crate::eval) fn case(&mut self, text: &[u8], arms: &[Arm], mut is_falling: bool) -> Flow {
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

    pub(in crate::eval) fn simple(&mut self, assignments: &[Assignment], words: &[Word], command: &Command) -> Flow {
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
            // `$(<file)`: what is read is what is written.
            if let (true, Some((text, _))) = (assignments.is_empty() && self.output.is_some(), self.input.clone()) {
                self.write(&text);
            }
            return Flow::Next;
        };
        let (name, arguments) = (name.clone(), arguments.to_vec());
        if assignments.is_empty() {
            return self.call(&name, arguments);
        }
        let lasts = self.dialect() == Dialect::Posix && crate::eval::builtins::is_special(&name);
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
    pub(in crate::eval) fn alias(&mut self, words: &[Word], command: &Command) -> Option<Flow> {
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
    pub(in crate::eval) fn function(&mut self, function: &Function, arguments: Vec<Vec<u8>>) -> Flow {
        let Some(body) = function.body.clone() else {
            self.status = None;
            return Flow::Next;
        };
        if self.depth >= DEEPEST {
            self.stop("functions call each other too deeply");
            return Flow::Next;
        }
        self.depth += 1;
        let outer = std::mem::replace(&mut self.state.arguments, arguments);
        let held = std::mem::replace(&mut self.holds_line, true);
        let early = self.early.len();
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
