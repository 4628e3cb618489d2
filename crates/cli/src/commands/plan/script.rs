//! A plan as a script for a POSIX shell.

use std::collections::{BTreeMap, BTreeSet};

use textwrap::Options;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::CommandLine;
use whodunit_core::plans::{Foretold, Plan, PlanStep};
use whodunit_core::queries::impact::Lost;
use whodunit_core::resolve::Context;

use crate::commands::impact;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Tone};

impl Shown for Plan {
    type Item = PlanStep;
    const COMMAND: &'static str = "plan";
    const SEARCHES: bool = true;

    fn items(&self) -> &[PlanStep] {
        &self.steps
    }

    fn grid(&self) -> Grid {
        let row = |step: &PlanStep| {
            let conditions: Vec<&str> = step.conditions.iter().map(|one| one.command.as_str()).collect();
            vec![
                Cell::plain(step.number.to_string()),
                Cell::plain(output::safe(&step.command)),
                Cell::plain(step.as_user.as_ref().map(ToString::to_string).unwrap_or_default()),
                Cell::plain(output::safe(&step.why)),
                Cell::plain(output::safe(&conditions.join(" && "))),
                Cell::plain(step.needs_network.to_string()),
                Cell::plain(output::safe(step.reversible_by.as_deref().unwrap_or_default())),
                Cell::plain(output::safe(&step.loses.join("; "))),
            ]
        };
        let columns = vec![
            Column::numbers("number", "NUMBER"),
            Column::words("command", "COMMAND"),
            Column::words("as_user", "AS USER"),
            Column::words("why", "WHY"),
            Column::words("conditions", "CONDITIONS"),
            Column::words("needs_network", "NEEDS NETWORK"),
            Column::words("reversible_by", "REVERSIBLE BY"),
            Column::words("loses", "LOSES"),
        ];
        Grid { columns, rows: self.steps.iter().map(row).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let mut page = vec![plain("#!/bin/sh")];
        let who = match (&self.run_as, self.steps.len()) {
            (_, 0) => "no step".to_owned(),
            (Some(user), steps) => format!("{}, to be run by {user}", output::count(steps, "step")),
            (None, steps) => output::count(steps, "step"),
        };
        page.extend(comment(Tone::Strong, 0, &format!("{}: {who}", self.goal)));
        page.extend(foretold(&self.foretold, presenter));
        if !self.open.is_empty() {
            page.push(plain("#"));
            page.extend(comment(Tone::Warning, 0, "Left to you:"));
            let told = self.open.iter().map(|point| format!("{}: {}", point.subject, point.says));
            page.extend(told.flat_map(|text| comment(Tone::Plain, 2, &text)));
        }
        if self.steps.is_empty() {
            return page;
        }
        page.push(plain("set -eu"));
        page.push(plain("stop() { printf 'stopped at step %s: %s\\n' \"$1\" \"$2\" >&2; exit 1; }"));
        // A shell runs nothing before it has read all that is between braces.
        page.push(plain("{"));
        if let Some(host) = presenter.host.clone() {
            let named = CommandLine::default().arg(host);
            page.push(plain(format!("[ \"$(uname -n)\" = {named} ] || stop 1 'this plan is for another machine'")));
        }
        if let Some(user) = &self.run_as {
            let named = CommandLine::default().arg(user.clone());
            page.push(plain(format!("[ \"$(id -un)\" = {named} ] || stop 1 'it has to be run by another user'")));
        }
        for step in &self.steps {
            page.extend(of_step(step));
        }
        if !self.checks.is_empty() {
            page.push(Line::blank().into());
            page.extend(comment(Tone::Strong, 0, "Is it so?"));
        }
        for one in &self.checks {
            let otherwise = CommandLine::default().arg(one.otherwise.as_str());
            page.push(plain(format!("{} || stop end {otherwise}", one.command)));
        }
        page.push(Line::blank().into());
        page.push(plain("exit 0"));
        page.push(plain("}"));
        page
    }
}

fn plain(text: impl Into<String>) -> Piece {
    Piece::Whole(Line::of(Tone::Plain, text))
}

/// A comment is folded to this width.
const WIDTH: usize = 118;

/// Lines that no shell runs, whatever is in them; what does not fit into one begins below the text, by `indent`.
fn comment(tone: Tone, indent: usize, text: &str) -> Vec<Piece> {
    let text = output::safe(text);
    let (first, next) = (format!("# {}", " ".repeat(indent)), format!("# {}", " ".repeat(indent + 2)));
    let options = Options::new(WIDTH).initial_indent(&first).subsequent_indent(&next).break_words(false);
    let lines = textwrap::wrap(&text, options.word_splitter(textwrap::WordSplitter::NoHyphenation));
    lines.iter().map(|line| Piece::Whole(Line::of(tone, line.trim_end().to_owned()))).collect()
}

fn foretold(all: &Foretold, presenter: &Presenter) -> Vec<Piece> {
    let mut told = Vec::new();
    let mut say = |text: String| told.extend(comment(Tone::Plain, 2, &text));
    if let Some(bytes) = all.frees.filter(|bytes| *bytes > 0) {
        say(format!("{} are free", output::size(bytes)));
    }
    let path = |path: &ByteString| presenter.path(path);
    for told in of_commands(&all.commands, presenter) {
        say(told);
    }
    for one in &all.broken {
        let what = one.path.as_ref().map(path).or_else(|| one.owner.as_ref().map(|owner| presenter.owner(owner)));
        say(format!("broken: {} {}: {}", what.unwrap_or_default(), one.how.word(), path(&one.loses)));
    }
    if told.is_empty() {
        return told;
    }
    std::iter::once(plain("#")).chain(comment(Tone::Strong, 0, "Afterwards:")).chain(told).collect()
}

/// What each name starts then; where, if that is not so everywhere.
fn of_commands(commands: &[Lost], presenter: &Presenter) -> Vec<String> {
    let starts = |lost: &Lost| match &lost.instead {
        Some(one) => {
            let whose = one.owner.as_ref().map_or("unowned".to_owned(), |owner| presenter.owner(owner));
            format!("{} starts {} ({whose})", lost.name, presenter.path(&one.path))
        }
        None => format!("{} starts nothing", lost.name),
    };
    let mut told: BTreeMap<String, Vec<&Lost>> = BTreeMap::new();
    commands.iter().for_each(|lost| told.entry(starts(lost)).or_default().push(lost));
    let is_everywhere = |some: &[&Lost]| {
        let contexts: BTreeSet<_> = some.iter().flat_map(|lost| &lost.contexts).map(|context| context.word()).collect();
        contexts.len() == Context::ALL.len()
    };
    let of = |(starts, some): (String, Vec<&Lost>)| match is_everywhere(&some) {
        true => starts,
        false => {
            let places: Vec<String> = some.iter().map(|lost| impact::places(lost, presenter)).collect();
            format!("{starts} in {}", places.join("; "))
        }
    };
    told.into_iter().map(of).collect()
}

fn of_step(step: &PlanStep) -> Vec<Piece> {
    let mut lines = vec![Line::blank().into()];
    lines.extend(comment(Tone::Strong, 0, &format!("{}. {}", step.number, step.why)));
    let network = step.needs_network.then(|| "needs the network".to_owned());
    let undo = step.reversible_by.as_ref().map(|undo| format!("undone by: {undo}"));
    let loses = step.loses.iter().map(|what| format!("loses {what}"));
    let remarks = network.into_iter().chain(loses).chain(undo);
    lines.extend(remarks.flat_map(|says| comment(Tone::Faint, 3, &says)));
    for one in &step.conditions {
        let otherwise = CommandLine::default().arg(one.otherwise.as_str());
        lines.push(plain(format!("{} || stop {} {otherwise}", one.command, step.number)));
    }
    lines.push(Piece::Whole(Line::of(Tone::Accent, step.command.clone())));
    lines
}
