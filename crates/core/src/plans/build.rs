//! Steps, made of remedies.

use std::collections::BTreeSet;

use super::{Condition, Foretold, OpenPoint, Plan, PlanStep};
use crate::backend::Rehearsal;
use crate::backend::advice::become_user;
use crate::bytes::{ByteString, path};
use crate::managers;
use crate::model::{Actor, CommandLine, Remedy, RemedyKind};
use crate::survey::Survey;

/// A plan that grows step by step.
pub(super) struct Builder<'a, 's> {
    pub(super) survey: &'a Survey<'s>,
    steps: Vec<PlanStep>,
    deleted: Vec<ByteString>,
    last: Vec<(Remedy, String)>,
    open: Vec<OpenPoint>,
    checks: Vec<Condition>,
}

impl<'a, 's> Builder<'a, 's> {
    pub(super) fn new(survey: &'a Survey<'s>) -> Self {
        Builder {
            survey,
            steps: Vec::new(),
            deleted: Vec::new(),
            last: Vec::new(),
            open: Vec::new(),
            checks: Vec::new(),
        }
    }

    /// Adds what a remedy does, unless a step does it already.
    pub(super) fn add(&mut self, remedy: &Remedy, why: impl Into<String>, rehearsals: &[&Rehearsal]) {
        let why = why.into();
        for part in if remedy.parts.is_empty() { std::slice::from_ref(remedy) } else { &remedy.parts } {
            let written = self.survey.typed(Remedy {
                line: managers::unattended(&part.line),
                undo: part.undo.as_ref().map(managers::unattended),
                ..part.clone()
            });
            if self.steps.iter().any(|step| step.command == written.command) {
                continue;
            }
            if part.line.runs("rm") {
                self.deleted.extend(part.line.words.iter().filter(|word| word.starts_with(b"/")).cloned());
            }
            let foretold = rehearsals.iter().map(|rehearsal| self.of_rehearsal(rehearsal, &part.actor));
            let conditions: Vec<Condition> = foretold.chain(self.of_files(part)).collect();
            self.steps.push(PlanStep {
                number: self.steps.len() + 1,
                conditions,
                command: written.command,
                as_user: written.as_user,
                why: why.clone(),
                needs_network: part.needs_network,
                reversible_by: written.reversible_by,
                loses: part.loses.clone(),
            });
        }
    }

    /// Whether there is no step yet.
    pub(super) fn is_empty(&self) -> bool {
        self.steps.is_empty()
    }

    /// Adds what must hold after the last step.
    pub(super) fn check(&mut self, rehearsal: &Rehearsal, owner: &Actor, otherwise: impl Into<String>) {
        let Condition { command, .. } = self.of_rehearsal(rehearsal, owner);
        self.checks.push(Condition { command, otherwise: otherwise.into() });
    }

    /// What its steps delete by name.
    pub(super) fn deleted_files(&self) -> &[ByteString] {
        &self.deleted
    }

    /// Adds what is done once all else is.
    pub(super) fn add_last(&mut self, remedy: Remedy, why: impl Into<String>) {
        self.last.push((remedy, why.into()));
    }

    /// Adds what no command does.
    pub(super) fn leave_open(&mut self, subject: impl Into<ByteString>, says: impl Into<String>) {
        let point = OpenPoint { subject: subject.into(), says: says.into() };
        if !self.open.contains(&point) {
            self.open.push(point);
        }
    }

    /// The plan.
    pub(super) fn finish(mut self, goal: impl Into<String>, foretold: Foretold) -> Plan {
        for (remedy, why) in std::mem::take(&mut self.last) {
            self.add(&remedy, why, &[]);
        }
        let Builder { mut steps, open, checks, .. } = self;
        let users: BTreeSet<ByteString> = steps.iter().filter_map(|step| step.as_user.clone()).collect();
        let root = ByteString::from("root");
        // Without sudo one user runs the whole: that is root, who can become any other.
        if users.len() > 1 {
            for step in steps.iter_mut().filter(|step| step.as_user.as_ref().is_some_and(|user| *user != root)) {
                let user = step.as_user.replace(root.clone()).unwrap_or_default();
                step.command = become_user(&user, &step.command);
                step.reversible_by = step.reversible_by.as_ref().map(|undo| become_user(&user, undo));
                step.conditions.iter_mut().for_each(|one| one.command = become_user(&user, &one.command));
            }
        }
        let run_as = if users.len() > 1 { Some(root) } else { users.into_iter().next() };
        Plan { goal: goal.into(), run_as, steps, open, checks, foretold }
    }

    /// A rehearsal as a condition.
    fn of_rehearsal(&self, rehearsal: &Rehearsal, owner: &Actor) -> Condition {
        let actor = if rehearsal.actor == Actor::Owner { owner.clone() } else { rehearsal.actor.clone() };
        let command = self.typed(rehearsal.line.clone(), actor);
        let Some(words) = &rehearsal.prints else {
            let (command, otherwise) = match rehearsal.line.runs("test") {
                true => (command, "it is not where this plan found it"),
                false => (format!("{command} >/dev/null"), "its manager would not do what this plan foretells"),
            };
            return Condition { command, otherwise: otherwise.to_owned() };
        };
        let words: BTreeSet<&String> = words.iter().collect();
        let expected: String = words.into_iter().map(|word| format!("{word} ")).collect();
        let filter = rehearsal.filter.map(|filter| format!(" | {filter}")).unwrap_or_default();
        let expected = CommandLine::default().arg(expected.as_str());
        Condition {
            command: format!("[ \"$({command}{filter} | LC_ALL=C sort -u | tr '\\n' ' ')\" = {expected} ]"),
            otherwise: "the machine is not as this plan found it: something else would happen".to_owned(),
        }
    }

    /// What must be there before a command that acts on files by their paths.
    fn of_files(&self, remedy: &Remedy) -> Option<Condition> {
        let lines = std::iter::once(&remedy.line).chain(&remedy.line.then);
        let mut tests = lines.flat_map(|line| self.file_tests(line));
        let first = tests.next()?;
        let command = self.typed(tests.fold(first, CommandLine::and_then), remedy.actor.clone());
        Some(Condition { command, otherwise: "the files are not as this plan found them".to_owned() })
    }

    /// Whether the files are there that one command removes or changes, and none that it would come upon.
    fn file_tests(&self, line: &CommandLine) -> Vec<CommandLine> {
        let root = self.survey.root();
        let there = |path: &ByteString| {
            let is_link = root.read_link(path).is_ok();
            CommandLine::new(if is_link { "test -L" } else { "test -e" }).arg(path.clone())
        };
        let is_free = |path: ByteString| CommandLine::new("test ! -e").arg(path);
        let Some((program, words)) = line.words.split_first() else { return Vec::new() };
        let operands: Vec<&ByteString> = words.iter().filter(|word| word.starts_with(b"/")).collect();
        match (&**program, &operands[..]) {
            (b"rm" | b"chmod", all) => all.iter().map(|path| there(path)).collect(),
            (b"mv", [dir, from]) if words.iter().any(|word| **word == *b"-t") => {
                vec![there(from), is_free(path::join(dir, path::name(from)))]
            }
            (b"mv", [from, to]) => vec![there(from), is_free((*to).clone())],
            _ => Vec::new(),
        }
    }

    fn typed(&self, line: CommandLine, actor: Actor) -> String {
        self.survey.typed(Remedy::new(RemedyKind::Repair, line).by(actor)).command
    }
}
