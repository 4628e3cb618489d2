//! `whodunit paths`.

use std::io::Write as _;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Evidence, Position, Severity};
use whodunit_core::queries::paths::{COMMANDS, ContextPath, PathEntry, Paths, paths};
use whodunit_core::queries::session::SessionDifference;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// Show the search path of each context, with the file and line that added each directory
///
/// The start-up files that each context's shell reads are evaluated without running anything. What cannot be known
/// without running it is listed with its line. NAME is another list of directories, for example XDG_DATA_DIRS,
/// MANPATH, LD_LIBRARY_PATH or PYTHONPATH.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit paths
  whodunit paths --context all
  whodunit paths --context login --user maren --shell zsh
  whodunit paths XDG_DATA_DIRS --context desktop")]
pub struct Arguments {
    /// Variable to show instead of PATH
    name: Option<String>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let variable = arguments.name.as_deref().unwrap_or(COMMANDS);
    if !whodunit_core::resolve::contexts::is_variable_name(variable.as_bytes()) {
        return Err(CliError::usage(format!("{variable}: not a variable name (whodunit owner looks up commands)")));
    }
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let answer = paths(&session.host, &session.resolve_contexts(&session.users()), variable);
    let found = answer.contexts.iter().any(|one| !one.entries.is_empty());
    let outcome = output::show(&answer, &survey, &session, global, streams, found)?;
    if !found && !global.quiet {
        let _ = writeln!(streams.err, "whodunit: {variable}: not set in any context");
    }
    Ok(outcome)
}

impl Shown for Paths {
    type Item = ContextPath;
    const COMMAND: &'static str = "paths";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[ContextPath] {
        &self.contexts
    }

    fn grid(&self) -> Grid {
        let rows = self.contexts.iter().flat_map(|one| {
            (1..).zip(&one.entries).map(move |(number, entry): (usize, _)| {
                vec![
                    Cell::plain(one.context.word()),
                    Cell::plain(one.user.as_ref().map(ToString::to_string).unwrap_or_default()),
                    Cell::plain(one.variable.clone()),
                    Cell::plain(number.to_string()),
                    Cell::plain(entry.directory.to_string()),
                    Cell::plain(entry.exists.map(|exists| exists.to_string()).unwrap_or_default()),
                    Cell::plain(because(entry, &|evidence| evidence.file.to_string())),
                ]
            })
        });
        Grid {
            columns: ["context", "user", "variable", "number", "directory", "exists", "because"]
                .into_iter()
                .map(|name| Column::words(name, ""))
                .collect(),
            rows: rows.collect(),
        }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let uncertain = self.contexts.iter().filter(|one| !one.certain).count();
        let mut first = Line::of(Tone::Strong, says(self));
        first = match &self.contexts[..] {
            _ if uncertain == 0 => first,
            [one] => first.and(Tone::Warning, format!("; {} uncertain", output::count(one.unknowns.len(), "part"))),
            _ => first.and(Tone::Warning, format!("; {} uncertain", output::count(uncertain, "context"))),
        };
        let serious = self.findings.iter().filter(|finding| finding.severity > Severity::Note).count();
        if serious > 0 {
            first = first.and(Tone::Warning, format!("; {}", output::count(serious, "warning")));
        }
        let mut page: Vec<Piece> = vec![first.into()];
        for (one, contexts) in alike(&self.contexts) {
            page.push(Line::blank().into());
            let shell = one.shell.as_ref().map(|shell| format!(", {shell}")).unwrap_or_default();
            let user = one.user.as_ref().map(|user| format!(" · {user}{shell}")).unwrap_or_default();
            page.push(Line::of(Tone::Accent, contexts.join(", ")).and(Tone::Plain, user).into());
            let rows = (1..).zip(&one.entries).map(|(number, entry): (usize, _)| row(number, entry, presenter));
            let columns = vec![
                Column::words("number", ""),
                Column::words("directory", ""),
                Column::words("because", ""),
                Column::words("remark", ""),
            ];
            if one.entries.is_empty() {
                page.push(Line::blank().to(2).and(Tone::Faint, "not set").into());
            } else {
                page.push(Piece::Table(Grid { columns, rows: rows.collect() }));
            }
            for Evidence { file, at, says } in &one.unknowns {
                let line = Line::blank().to(2).and(Tone::Warning, "uncertain    ");
                page.push(line.and(Tone::Plain, format!("{} {at}: {says}", presenter.path(file))).into());
            }
            for Evidence { file, says, .. } in &one.assumed {
                let line = Line::blank().to(2).and(Tone::Faint, "assumed").to(13);
                page.push(line.and(Tone::Plain, format!("{says} ({})", presenter.path(file))).into());
            }
            for Evidence { file, at, says } in &one.others {
                let line = Line::blank().to(2).and(Tone::Faint, "different").to(13);
                page.push(line.and(Tone::Plain, format!("{says} ({} {at})", presenter.path(file))).into());
            }
            for (kind, list) in [("aliases", &one.aliases), ("functions", &one.functions)] {
                // What every shell of the kind has is no news.
                let made =
                    list.iter().filter(|named| named.because.iter().all(|because| because.at != Position::CompiledIn));
                let names: Vec<String> = made.map(|named| named.name.to_string()).collect();
                if !names.is_empty() {
                    page.push(
                        Line::blank().to(2).and(Tone::Faint, kind).to(13).and(Tone::Plain, names.join(" ")).into(),
                    );
                }
            }
        }
        page.extend(self.session.iter().filter(|session| !session.is_none()).flat_map(|one| session(one, presenter)));
        for finding in self.findings.iter().filter(|finding| finding.severity > Severity::Note) {
            page.push(Line::blank().into());
            let line = Line::of(Tone::Warning, format!("{}: ", finding.severity.word()));
            page.push(line.and(Tone::Plain, finding.summary.clone()).into());
            page.push(Line::blank().to(9).and(Tone::Plain, finding.consequence.clone()).into());
            let ways = finding.remedies.iter().map(|way| Line::blank().to(9).and(Tone::Accent, way.command.clone()));
            page.extend(ways.map(Piece::from));
        }
        page
    }
}

/// How this session differs from a fresh one.
fn session(difference: &SessionDifference, presenter: &Presenter) -> Vec<Piece> {
    let mut rows = Vec::new();
    for (number, newer) in difference.after_login.iter().enumerate() {
        let contexts: Vec<&str> = newer.contexts.iter().map(|context| context.word()).collect();
        let Evidence { file, at, .. } = &newer.because;
        let place = format!("{} {at}", presenter.path(file));
        let label = if number == 0 { "  after login" } else { "" };
        rows.push((label, &newer.directory, format!("{} ({})", place.trim(), contexts.join(", "))));
    }
    let says = match difference.certain {
        true => "no start-up file adds it",
        false => "no start-up file that could be followed adds it",
    };
    for (number, dir) in difference.only_here.iter().enumerate() {
        let because = match difference.temporary.iter().find(|one| one.directory == *dir) {
            Some(one) => format!("{} ({}); gone with this shell", one.says(), one.evidence.at),
            None => says.to_owned(),
        };
        rows.push((if number == 0 { "  only here" } else { "" }, dir, because));
    }
    let row = |(label, dir, because): (&str, &ByteString, String)| {
        vec![
            Cell::toned(Tone::Faint, label),
            Cell::shown(dir.to_string(), presenter.path(dir)),
            Cell::toned(Tone::Faint, because),
        ]
    };
    let columns = ["when", "directory", "because"].map(|name| Column::words(name, "")).into();
    vec![
        Line::blank().into(),
        Line::of(Tone::Accent, "this session and a fresh one").into(),
        Piece::Table(Grid { columns, rows: rows.into_iter().map(row).collect() }),
    ]
}

fn says(answer: &Paths) -> String {
    let variable = answer.contexts.first().map_or(COMMANDS, |one| one.variable.as_str());
    match &answer.contexts[..] {
        [] => "no user has a home directory here, so there are no contexts".to_owned(),
        [one] => format!(
            "{variable} has {} in the context {}",
            output::count(one.entries.len(), "directory"),
            one.context.word()
        ),
        many => format!("{variable} in {}", output::count(many.len(), "context")),
    }
}

/// Contexts with the same directories from the same places, told together.
fn alike(contexts: &[ContextPath]) -> Vec<(&ContextPath, Vec<&'static str>)> {
    let mut told: Vec<(&ContextPath, Vec<&'static str>)> = Vec::new();
    for one in contexts {
        let is_same = |other: &ContextPath| {
            (&other.user, &other.entries, &other.unknowns) == (&one.user, &one.entries, &one.unknowns)
                && other.shell == one.shell
                && (&other.aliases, &other.functions) == (&one.aliases, &one.functions)
        };
        match told.iter_mut().find(|(other, _)| is_same(other)) {
            Some((_, words)) => words.push(one.context.word()),
            None => told.push((one, vec![one.context.word()])),
        }
    }
    told
}

fn because(entry: &PathEntry, file: &dyn Fn(&Evidence) -> String) -> String {
    let one = |evidence: &Evidence| format!("{} {}", file(evidence), evidence.at).trim().to_owned();
    entry.because.iter().map(one).collect::<Vec<_>>().join(", ")
}

fn row(number: usize, entry: &PathEntry, presenter: &Presenter) -> Vec<Cell> {
    let remark = match (&entry.same_as, entry.exists) {
        (Some(other), _) if *other == entry.directory => "twice".to_owned(),
        (Some(other), _) => format!("the same as {other}"),
        (None, Some(false)) => "not there".to_owned(),
        (None, None) => "depends on the current directory".to_owned(),
        _ => String::new(),
    };
    let shown =
        if entry.directory.is_empty() { "(current directory)".to_owned() } else { presenter.path(&entry.directory) };
    vec![
        Cell::plain(format!("{number:>4}")),
        Cell::shown(entry.directory.to_string(), shown),
        Cell::plain(because(entry, &|evidence| presenter.path(&evidence.file))),
        Cell::toned(Tone::Faint, remark),
    ]
}
