//! Follows commands, one after another and inside each other.

use std::sync::Arc;

use super::{Flow, MAX_DEPTH, Run};
use crate::eval::state::{Function, Value};
use crate::eval::stream::Input;
use crate::syntax::{Arm, ArmEnd, Command, Dialect, Kind, List};

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
                self.beside(|run| {
                    run.output = None;
                    let _ = run.command(inner);
                });
                self.status = Some(0);
                Flow::Next
            }
            Kind::Always(list, last) => self.always(list, last),
            Kind::Coprocess(name, inner) => self.coprocess(name, inner),
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
                if self.failure.is_some() {
                    return Flow::Next;
                }
                self.word_taints.clone_from(&self.read_taints);
                let place = self.place.clone();
                let function = Function::new(Some(Arc::clone(body)), place);
                self.function(b"(anon)", &function, arguments)
            }
            Kind::OtherLoop(body) => self.perhaps(body),
            Kind::Case(word, arms) => {
                let (mut text, is_uncertain) = self.reading(|run| run.one(word, false));
                if self.failure.is_some() {
                    return Flow::Next;
                }
                if is_uncertain {
                    text = self.unknown_value("the text of a variable that may be another");
                }
                self.status = Some(0);
                self.case(&text, arms, false)
            }
            Kind::Function(names, body) => self.define(names, body),
            Kind::Test(condition) => {
                let (holds, is_uncertain) = self.reading(|run| run.holds(condition));
                self.status = holds.filter(|_| !is_uncertain).map(|holds| u8::from(!holds));
                Flow::Next
            }
            Kind::Arithmetic(text) => self.calculate(text),
        }
    }

    /// `{ … } always { … }` of zsh: the second is done however the first ends, and ends like it.
    fn always(&mut self, list: &List, last: &List) -> Flow {
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

    /// `coproc`.
    fn coprocess(&mut self, name: &[u8], inner: &Command) -> Flow {
        self.has_descriptors = true;
        self.beside(|run| {
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

    /// Defines functions.
    fn define(&mut self, names: &[Vec<u8>], body: &Arc<Command>) -> Flow {
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

    /// `(( … ))`.
    fn calculate(&mut self, text: &[u8]) -> Flow {
        let value = self.deciding(text);
        if value.is_none() && self.is_of_unknown {
            self.lose_assigned(text);
        }
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
        match otherwise {
            Some(list) => self.list(list),
            None => {
                self.status = Some(0);
                Flow::Next
            }
        }
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
