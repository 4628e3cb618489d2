//! `whodunit owner`.

mod page;

use page::in_full;
use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::queries::owner::{Answer, Owners, Target, TargetKind, Verdict, owners_in, tell_other_code};
use whodunit_core::queries::session::tell_next_session;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// Find the owner of a command, a path, a launcher or a package
///
/// A TARGET that contains a slash is a path. A TARGET that ends in .desktop is a launcher. Any other is a command
/// in the search path or, if there is no such command, a package. Prefixes make it explicit: command:NAME,
/// path:PATH, launcher:ID, package:NAME, library:NAME, module:NAME.
///
/// The answer follows every link from the path that is found to the file that finally runs, names the package that
/// owns it and what created each link, and lists the copies that it hides.
#[derive(Debug, Args)]
#[command(after_help = "Up to three targets are shown in full; more get one row each.

Examples:
  whodunit owner tidegauge
  whodunit owner /usr/local/bin/*
  whodunit owner package:tidegauge --format json
  whodunit owner --root /mnt --path /usr/local/bin:/usr/bin tidegauge")]
pub struct Arguments {
    /// Commands, paths, launchers or packages
    #[arg(required = true)]
    target: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let targets: Result<Vec<Target>, _> =
        arguments.target.iter().map(|target| Target::parse(target.as_bytes())).collect();
    let targets = targets.map_err(|bad| CliError::usage(bad.to_string()))?;
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let mut answer = owners_in(&survey, &session.searches(), &targets);
    tell_other_code(&survey, session.views(), &mut answer.answers);
    if session.is_here() && targets.iter().any(|target| target.kind.is_none_or(|kind| kind == TargetKind::Command)) {
        tell_next_session(&survey, &mut answer.answers);
    }
    // Of several contexts, one that reaches it is enough.
    let is_found = |target: &Target| {
        let of_target = answer.answers.iter().filter(|answer| answer.target == target.given);
        of_target.into_iter().any(|answer| answer.verdict != Verdict::NotFound || answer.taken_for.is_some())
    };
    let found = targets.iter().all(is_found);
    output::show(&answer, &survey, &session, global, streams, found)
}

/// The most targets whose answers are printed in full; if there are more, each gets a row.
const IN_FULL: usize = 3;

impl Shown for Owners {
    type Item = Answer;
    const COMMAND: &'static str = "owner";
    const SEARCHES: bool = true;

    fn items(&self) -> &[Answer] {
        &self.answers
    }

    fn has_verdict(&self) -> bool {
        self.answers.len() == 1
    }

    fn grid(&self) -> Grid {
        let text = |text: Option<&ByteString>| Cell::plain(text.map(ToString::to_string).unwrap_or_default());
        let row = |answer: &Answer| {
            let owner = answer.owner.as_ref();
            let verdict = match answer.verdict {
                Verdict::Owned => Cell::plain("owned"),
                Verdict::Unowned => Cell::toned(Tone::Warning, "unowned"),
                Verdict::Several => Cell::toned(Tone::Warning, "several"),
                Verdict::NotFound => Cell::toned(Tone::Warning, "not-found"),
            };
            vec![
                Cell::toned(Tone::Strong, answer.target.to_string()),
                verdict,
                Cell::plain(owner.map(|owner| owner.manager.to_string()).unwrap_or_default()),
                text(owner.map(|owner| &owner.name)),
                text(owner.and_then(|owner| owner.version.as_ref()).or(answer.version_hint.as_ref())),
                text(answer.hops.last().map(|hop| &hop.path)),
            ]
        };
        // For whom it is so, where that differs.
        let is_by_user = self.answers.windows(2).any(|two| two[0].target == two[1].target);
        let row = |answer: &Answer| {
            let mut cells = row(answer);
            if is_by_user {
                cells.push(Cell::plain(output::names(&answer.users)));
            }
            cells
        };
        let users = is_by_user.then(|| Column::words("users", "FOR"));
        Grid {
            columns: vec![
                Column::words("target", "TARGET"),
                Column::words("verdict", "VERDICT"),
                Column::words("manager", "MANAGER"),
                Column::words("package", "PACKAGE"),
                Column::words("version", "VERSION"),
                Column::words("path", "LEADS TO"),
            ]
            .into_iter()
            .chain(users)
            .collect(),
            rows: self.answers.iter().map(row).collect(),
        }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let is_of_many =
            self.answers.windows(2).any(|two| two[0].target == two[1].target && two[0].context != two[1].context);
        if is_of_many {
            return in_contexts(&self.answers, presenter);
        }
        let mut targets: Vec<&ByteString> = self.answers.iter().map(|answer| &answer.target).collect();
        targets.dedup();
        if targets.len() > IN_FULL {
            return vec![Piece::Table(self.grid())];
        }
        let mut page = Vec::new();
        for (number, answer) in self.answers.iter().enumerate() {
            if number > 0 {
                page.push(Line::blank().into());
            }
            page.extend(in_full(answer, presenter).into_iter().map(Piece::from));
        }
        page
    }
}

/// One row for each context, those alike together.
fn in_contexts(answers: &[Answer], presenter: &Presenter) -> Vec<Piece> {
    let mut page: Vec<Piece> = Vec::new();
    let mut start = 0;
    while start < answers.len() {
        let count = answers[start..].iter().take_while(|one| one.target == answers[start].target).count();
        let of_target = &answers[start..start + count];
        start += count;
        if !page.is_empty() {
            page.push(Line::blank().into());
        }
        let mut rows: Vec<(Vec<String>, Vec<Cell>)> = Vec::new();
        for answer in of_target {
            let cells = context_row(answer, presenter);
            match rows.iter_mut().find(|(_, known)| *known == cells) {
                Some((words, _)) => words.push(place(answer, of_target)),
                None => rows.push((vec![place(answer, of_target)], cells)),
            }
        }
        let mut runs: Vec<&ByteString> =
            of_target.iter().filter_map(|answer| answer.hops.last().map(|hop| &hop.path)).collect();
        runs.sort();
        runs.dedup();
        let says = match runs.len() {
            0 => "no context finds a program of this name".to_owned(),
            1 => "the same program in every context that finds it".to_owned(),
            many => format!("{many} different programs, depending on the context"),
        };
        let target = of_target[0].target.to_string();
        let tone = if runs.len() == 1 { Tone::Accent } else { Tone::Warning };
        page.push(Line::of(Tone::Strong, target).and(Tone::Plain, "   ").and(tone, says).into());
        page.push(Line::blank().into());
        let columns = ["CONTEXT", "RUNS", "OWNER", "BECAUSE"].map(|title| Column::words(title, title));
        let rows = rows
            .into_iter()
            .map(|(words, cells)| std::iter::once(Cell::plain(words.join(", "))).chain(cells).collect());
        page.push(Piece::Table(Grid { columns: columns.to_vec(), rows: rows.collect() }));
    }
    page
}

/// The context of an answer, with its users where they are not all of them.
fn place(answer: &Answer, of_target: &[Answer]) -> String {
    let word = answer.context.word();
    let is_of_all = of_target.iter().filter(|other| other.context == answer.context).count() < 2;
    if is_of_all { word.to_owned() } else { format!("{word} ({})", output::names(&answer.users)) }
}

fn context_row(answer: &Answer, presenter: &Presenter) -> Vec<Cell> {
    let because = answer.because.first().map(|because| format!("{} {}", presenter.path(&because.file), because.at));
    let owner = match (&answer.owner, answer.verdict) {
        (Some(owner), _) => Cell::plain(presenter.owner(owner)),
        (None, Verdict::NotFound) => Cell::plain(""),
        (None, _) => Cell::toned(Tone::Warning, "no manager claims it"),
    };
    let runs = match (&answer.taken_for, &answer.runs) {
        (Some(taken), _) => {
            let value = taken.value.as_ref().map(|value| format!(" for `{value}`")).unwrap_or_default();
            Cell::toned(Tone::Warning, format!("{} of the shell{value}", taken.how.word()))
        }
        (None, Some(runs)) => Cell::shown(runs.to_string(), presenter.path(runs)),
        (None, None) => Cell::toned(Tone::Faint, "not reached"),
    };
    let because = match &answer.taken_for {
        Some(taken) => format!("{} {}", presenter.path(&taken.because.file), taken.because.at),
        None => because.unwrap_or_default(),
    };
    vec![runs, owner, Cell::plain(because)]
}
