//! `whodunit paths`.

use std::io::Write as _;

use clap::Args;
use whodunit_core::answers::paths::{COMMANDS, ContextPath, PathEntry, Paths, paths};
use whodunit_core::model::{Evidence, Severity};
use whodunit_core::survey::Survey;

use super::Outcome;
use crate::args::Global;
use crate::output::{self, Cell, Column, Grid, Line, Look, Piece, Shown, Streams, Tone};
use crate::run::{Failure, Ready};

/// The search path of each context, folder by folder, with the file and line that put it there
///
/// The start-up files that each context's shell reads are followed, without running anything. What they do that cannot
/// be known without running it is said, with the line. NAME is another list of folders: XDG_DATA_DIRS, MANPATH,
/// LD_LIBRARY_PATH, PYTHONPATH.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit paths
  whodunit paths --context all
  whodunit paths --context login --person maren --shell zsh
  whodunit paths XDG_DATA_DIRS --context desktop")]
pub struct Arguments {
    /// The variable, in place of PATH
    name: Option<String>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, Failure> {
    let variable = arguments.name.as_deref().unwrap_or(COMMANDS);
    if !whodunit_core::formats::shell::is_name(variable.as_bytes()) {
        return Err(Failure::usage(format!(
            "{variable}: not the name of a variable (whodunit owner looks up commands)"
        )));
    }
    let ready = Ready::new(global)?;
    let survey = Survey::of(&ready.scene);
    let answer = paths(&ready.scene, &ready.situations(&ready.people()), variable);
    let found = answer.contexts.iter().any(|one| !one.entries.is_empty());
    let outcome = output::show(&answer, &survey, &ready, global, streams, found)?;
    if !found && !global.quiet {
        let _ = writeln!(streams.err, "whodunit: {variable}: no context has it");
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
                    Cell::plain(one.person.as_ref().map(ToString::to_string).unwrap_or_default()),
                    Cell::plain(one.variable.clone()),
                    Cell::plain(number.to_string()),
                    Cell::plain(entry.folder.to_string()),
                    Cell::plain(entry.exists.map(|exists| exists.to_string()).unwrap_or_default()),
                    Cell::plain(because(entry, &|evidence| evidence.file.to_string())),
                ]
            })
        });
        Grid {
            columns: ["context", "person", "variable", "number", "folder", "exists", "because"]
                .into_iter()
                .map(|name| Column::words(name, ""))
                .collect(),
            rows: rows.collect(),
        }
    }

    fn page(&self, look: &Look) -> Vec<Piece> {
        let uncertain = self.contexts.iter().filter(|one| !one.certain).count();
        let mut first = Line::of(Tone::Strong, says(self));
        if uncertain > 0 {
            first = first.and(Tone::Warning, format!("; {uncertain} not certain"));
        }
        let serious = self.findings.iter().filter(|finding| finding.severity > Severity::Note).count();
        if serious > 0 {
            first = first.and(Tone::Warning, format!("; {}", output::count(serious, "warning")));
        }
        let mut page: Vec<Piece> = vec![first.into()];
        for (one, contexts) in alike(&self.contexts) {
            page.push(Line::blank().into());
            let shell = one.shell.as_ref().map(|shell| format!(", {shell}")).unwrap_or_default();
            let person = one.person.as_ref().map(|person| format!(" · {person}{shell}")).unwrap_or_default();
            page.push(Line::of(Tone::Accent, contexts.join(", ")).and(Tone::Plain, person).into());
            let rows = (1..).zip(&one.entries).map(|(number, entry): (usize, _)| row(number, entry, look));
            let columns = vec![
                Column::words("number", ""),
                Column::words("folder", ""),
                Column::words("because", ""),
                Column::words("remark", ""),
            ];
            if one.entries.is_empty() {
                page.push(Line::blank().to(2).and(Tone::Faint, "not set").into());
            } else {
                page.push(Piece::Table(Grid { columns, rows: rows.collect() }));
            }
            for Evidence { file, at, says } in &one.unknowns {
                let line = Line::blank().to(2).and(Tone::Warning, "not certain  ");
                page.push(line.and(Tone::Plain, format!("{} {at}: {says}", look.path(file))).into());
            }
            for Evidence { file, says, .. } in &one.assumed {
                let line = Line::blank().to(2).and(Tone::Faint, "assumed").to(13);
                page.push(line.and(Tone::Plain, format!("{says} ({})", look.path(file))).into());
            }
            for (kind, list) in [("aliases", &one.aliases), ("functions", &one.functions)] {
                // What every shell of the kind has is no news.
                let made = list.iter().filter(|named| named.because.iter().all(|because| because.at != "compiled in"));
                let names: Vec<String> = made.map(|named| named.name.to_string()).collect();
                if !names.is_empty() {
                    page.push(
                        Line::blank().to(2).and(Tone::Faint, kind).to(13).and(Tone::Plain, names.join(" ")).into(),
                    );
                }
            }
        }
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

fn says(answer: &Paths) -> String {
    let variable = answer.contexts.first().map_or(COMMANDS, |one| one.variable.as_str());
    match &answer.contexts[..] {
        [] => "nobody has a home here, so no context is anybody's".to_owned(),
        [one] => format!(
            "{variable} has {} in the context {}",
            output::count(one.entries.len(), "folder"),
            one.context.word()
        ),
        many => format!("{variable} in {}", output::count(many.len(), "context")),
    }
}

/// Contexts with the same folders from the same places, told together.
fn alike(contexts: &[ContextPath]) -> Vec<(&ContextPath, Vec<&'static str>)> {
    let mut told: Vec<(&ContextPath, Vec<&'static str>)> = Vec::new();
    for one in contexts {
        let is_same = |other: &ContextPath| {
            (&other.person, &other.entries, &other.unknowns) == (&one.person, &one.entries, &one.unknowns)
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

fn row(number: usize, entry: &PathEntry, look: &Look) -> Vec<Cell> {
    let remark = match (&entry.same_as, entry.exists) {
        (Some(other), _) if *other == entry.folder => "twice".to_owned(),
        (Some(other), _) => format!("the same as {other}"),
        (None, Some(false)) => "not there".to_owned(),
        (None, None) => "depends on the current folder".to_owned(),
        _ => String::new(),
    };
    let shown = if entry.folder.is_empty() { "(current folder)".to_owned() } else { look.path(&entry.folder) };
    vec![
        Cell::plain(format!("{number:>4}")),
        Cell::shown(entry.folder.to_string(), shown),
        Cell::plain(because(entry, &|evidence| look.path(&evidence.file))),
        Cell::toned(Tone::Faint, remark),
    ]
}
