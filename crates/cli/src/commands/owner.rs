//! `whodunit owner`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Remedy, RemedyKind, Severity};
use whodunit_core::queries::owner::{Answer, Hop, Owners, Target, TargetKind, Verdict, owners_in};
use whodunit_core::resolve::How;
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
    let answer = owners_in(&survey, session.searches(), &targets);
    // Of several contexts, one that reaches it is enough.
    let is_found = |target: &Target| {
        let of_target = answer.answers.iter().filter(|answer| answer.target == target.given);
        of_target.into_iter().any(|answer| answer.verdict != Verdict::NotFound || answer.taken_for.is_some())
    };
    let found = targets.iter().all(is_found);
    output::show(&answer, &survey, &session, global, streams, found)
}

/// As many answers are told in full; of more, each gets a row.
const IN_FULL: usize = 3;

impl Shown for Owners {
    type Item = Answer;
    const COMMAND: &'static str = "owner";
    const SEARCHES: bool = true;

    fn items(&self) -> &[Answer] {
        &self.answers
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
        Grid {
            columns: vec![
                Column::words("target", "TARGET"),
                Column::words("verdict", "VERDICT"),
                Column::words("manager", "MANAGER"),
                Column::words("package", "PACKAGE"),
                Column::words("version", "VERSION"),
                Column::words("path", "LEADS TO"),
            ],
            rows: self.answers.iter().map(row).collect(),
        }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let is_of_many =
            self.answers.windows(2).any(|two| two[0].target == two[1].target && two[0].context != two[1].context);
        if is_of_many {
            return in_contexts(&self.answers, presenter);
        }
        if self.answers.len() > IN_FULL {
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
        let mut rows: Vec<(Vec<&str>, Vec<Cell>)> = Vec::new();
        for answer in of_target {
            let cells = context_row(answer, presenter);
            match rows.iter_mut().find(|(_, known)| *known == cells) {
                Some((words, _)) => words.push(answer.context.word()),
                None => rows.push((vec![answer.context.word()], cells)),
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

/// Where the second column begins.
const INDENT: usize = 2;
const COLUMN: usize = 16;
const WIDE: usize = COLUMN + 32;

fn row(label: &str) -> Line {
    Line::of(Tone::Plain, " ".repeat(INDENT)).and(Tone::Faint, label).to(COLUMN)
}

fn in_full(answer: &Answer, presenter: &Presenter) -> Vec<Line> {
    let mut lines = vec![headline(answer, presenter), Line::blank()];
    if let Some(first) = answer.hops.first().filter(|_| answer.verdict != Verdict::NotFound || answer.hops.len() > 1) {
        let label = if answer.runs.is_some() { "runs" } else { "is" };
        lines.push(row(label).and(Tone::Strong, presenter.path(&first.path)));
        let leading = answer
            .hops
            .iter()
            .filter(|hop| hop.to.is_some() && matches!(hop.how, How::Link | How::Wrapper | How::Shim));
        lines.extend(leading.map(|hop| Line::blank().to(COLUMN).and(Tone::Plain, link(hop, presenter))));
    }
    if answer.hops.last().is_some_and(|hop| hop.how == How::Shim) {
        lines.push(row("starts").and(Tone::Warning, "nothing: see the evidence"));
    }
    if let Some(script) = &answer.interpreter {
        let owner = script.owner.as_ref().map_or("no manager claims it".to_owned(), |owner| presenter.owner(owner));
        let line = row("interpreter");
        lines.push(match (&script.path, &script.runs) {
            (Some(path), Some(runs)) => {
                let shown = if path == runs {
                    presenter.path(path)
                } else {
                    format!("{} → {}", presenter.path(path), presenter.path(runs))
                };
                line.and(Tone::Plain, shown).to(WIDE).and(Tone::Plain, owner)
            }
            _ => line.and(Tone::Warning, format!("{} leads to no interpreter", script.line)),
        });
    }
    if let Some(taken) = &answer.taken_for {
        let value = taken.value.as_ref().map(|value| format!(" for `{value}`")).unwrap_or_default();
        let line = row("typed").and(Tone::Warning, format!("{} of the shell{value}", taken.how.word()));
        lines.push(line.and(Tone::Faint, format!("  ({}, {})", taken.because.file, taken.because.at)));
    }
    for found in answer.findings.iter().filter(|found| found.severity > Severity::Note) {
        let label = if found.severity == Severity::Error { "broken" } else { "careful" };
        lines.push(row(label).and(Tone::Warning, found.summary.clone()));
        lines.push(row("").and(Tone::Plain, found.consequence.clone()));
        for remedy in &found.remedies {
            lines.push(row("").and(Tone::Plain, format!("to {}: {}", remedy.purpose, remedy.command)));
        }
    }
    if let Some(winner) = &answer.hidden_by {
        let owner = winner.owner.as_ref().map_or("no manager claims it".to_owned(), |owner| presenter.owner(owner));
        lines.push(row("hidden by").and(Tone::Warning, presenter.path(&winner.path)).to(WIDE).and(Tone::Plain, owner));
    }
    for (number, because) in answer.because.iter().enumerate() {
        let label = match number {
            0 if answer.hidden.is_empty() && answer.hidden_by.is_none() => "found by",
            0 => "comes first",
            _ => "",
        };
        let place = format!("({}, {})", because.file, because.at);
        lines.push(row(label).and(Tone::Plain, format!("{}  ", because.says)).and(Tone::Faint, place));
    }
    for (number, hidden) in answer.hidden.iter().enumerate() {
        let owner = match (&hidden.owner, &hidden.version) {
            (Some(owner), _) => presenter.owner(owner),
            (None, Some(version)) => format!("no manager claims it; version {version}"),
            (None, None) => "no manager claims it".to_owned(),
        };
        let label = if number == 0 { "hides" } else { "" };
        lines.push(row(label).and(Tone::Accent, presenter.path(&hidden.path)).to(WIDE).and(Tone::Plain, owner));
    }
    let itself = answer.owner.as_ref().filter(|_| answer.kind == TargetKind::Package).map(|owner| &owner.id);
    let (own, others): (Vec<_>, Vec<_>) = answer.elsewhere.iter().partition(|copy| copy.id.as_ref() == itself);
    lines.extend(
        own.iter()
            .filter(|copy| copy.id.is_some())
            .map(|copy| row("to start").and(Tone::Plain, presenter.path(&copy.start))),
    );
    let others = others.into_iter().chain(own.iter().filter(|copy| copy.id.is_none()).copied());
    for (number, copy) in others.enumerate() {
        let label = if number == 0 { "elsewhere" } else { "" };
        let whose = copy.id.as_ref().map_or("no manager claims it".to_owned(), ToString::to_string);
        let says = format!("{whose}; not in this search path");
        lines.push(row(label).and(Tone::Accent, presenter.path(&copy.start)).to(WIDE).and(Tone::Plain, says));
    }
    if answer.owners.len() > 1 {
        lines.extend(claimants(answer, presenter));
    }
    for (number, evidence) in answer.evidence.iter().enumerate().take(MAX_EVIDENCE) {
        let label = if number == 0 { "evidence" } else { "" };
        let place = format!("{} {}", presenter.path(&evidence.file), evidence.at);
        lines.push(row(label).and(Tone::Faint, format!("{place}: {}", evidence.says)));
    }
    for remedy in &answer.remedies {
        lines.push(remedy_line(remedy, answer, presenter));
    }
    if lines.last() == Some(&Line::blank()) {
        lines.pop();
    }
    lines
}

/// A directory can be claimed by hundreds of packages.
const MAX_CLAIMANTS: usize = 12;
const MAX_EVIDENCE: usize = 6;

fn claimants(answer: &Answer, presenter: &Presenter) -> Vec<Line> {
    let shown = answer.owners.iter().take(MAX_CLAIMANTS).enumerate();
    let mut lines: Vec<Line> = shown
        .map(|(number, owner)| {
            let line = row(if number == 0 { "claimed by" } else { "" }).and(Tone::Plain, presenter.owner(owner));
            match &answer.owner {
                Some(fits) if fits == owner && answer.verdict == Verdict::Several => {
                    line.to(WIDE).and(Tone::Accent, "its recorded digest fits the file")
                }
                _ => line,
            }
        })
        .collect();
    if answer.owners.len() > MAX_CLAIMANTS {
        let more = output::count(answer.owners.len() - MAX_CLAIMANTS, "other");
        lines.push(row("").and(Tone::Faint, format!("and {more}")));
    }
    lines
}

fn headline(answer: &Answer, presenter: &Presenter) -> Line {
    let line = Line::of(Tone::Strong, answer.target.to_string()).to(COLUMN.min(answer.target.len() + 3));
    let unknown = if answer.certain { "" } else { ", as far as could be read" };
    match (&answer.verdict, &answer.owner) {
        (Verdict::Owned, Some(owner)) => line.and(Tone::Accent, presenter.owner(owner)),
        (Verdict::Owned, None) => line.and(Tone::Accent, "owned"),
        (Verdict::Several, _) => {
            line.and(Tone::Warning, format!("{} claim it", output::count(answer.owners.len(), "package")))
        }
        (Verdict::Unowned, _) => {
            let hint =
                answer.version_hint.as_ref().map(|version| format!("; its version is {version}")).unwrap_or_default();
            let read =
                if presenter.managers.is_empty() { String::new() } else { format!("  (read: {})", presenter.managers) };
            line.and(Tone::Warning, format!("no manager claims it{unknown}{hint}")).and(Tone::Faint, read)
        }
        (Verdict::NotFound, _) if answer.taken_for.is_some() => {
            let how = answer.taken_for.as_ref().map_or("", |taken| taken.how.word());
            line.and(Tone::Accent, format!("{how} of the shell; no program of this name{unknown}"))
        }
        (Verdict::NotFound, _) => {
            let what = match answer.kind {
                TargetKind::Path => "no such file or directory",
                TargetKind::Launcher => "no launcher of this id",
                TargetKind::Library => "no library of this name",
                TargetKind::Module => "no module of this name",
                TargetKind::Package => "no package of this name",
                TargetKind::Command if answer.elsewhere.is_empty() => "not found: no program or package of this name",
                TargetKind::Command => "not found in this search path",
            };
            line.and(Tone::Warning, format!("{what}{unknown}"))
        }
    }
}

fn link(hop: &Hop, presenter: &Presenter) -> String {
    let to = hop.to.as_ref().map(|to| presenter.path(to)).unwrap_or_default();
    if hop.how == How::Wrapper {
        return format!("└ starts {to}");
    }
    if hop.how == How::Shim {
        // A manager's own shim needs its name once.
        let manager = hop.owner.as_ref().and_then(|owner| owner.split(|&b| b == b'/').next());
        let whose = manager.map(|manager| format!(" of {}", ByteString::from(manager))).unwrap_or_default();
        return format!("└ shim{whose}, starts → {to}");
    }
    if let Some(dir) = &hop.through {
        return format!("└ through the linked directory {} → {to}", presenter.path(dir));
    }
    let placed = match &hop.owner {
        None => "placed by hand".to_owned(),
        Some(owner) => match owner.strip_prefix(b"alternatives/") {
            Some(group) => format!("placed by the alternatives group {}", ByteString::from(group)),
            None => format!("placed by {}", presenter.placer(owner)),
        },
    };
    format!("└ link, {placed} → {to}")
}

fn remedy_line(remedy: &Remedy, answer: &Answer, presenter: &Presenter) -> Line {
    let line = row(&format!("to {}", remedy.purpose)).and(Tone::Plain, remedy.command.clone());
    match answer.hidden.first() {
        Some(next) if remedy.kind == RemedyKind::Remove && answer.hops.iter().all(|hop| hop.how != How::Shim) => {
            line.to(WIDE).and(Tone::Faint, format!("(then {} runs)", presenter.path(&next.path)))
        }
        _ => line,
    }
}
