//! How answers are written: one renderer per format, each over what an answer says of itself.

mod arranged;
mod csv;
pub mod findings;
mod json;
pub mod left;
mod links;
mod page;
pub mod progress;
mod sarif;
mod table;
mod text;
mod units;

use std::io::{self, BufWriter, Write};

use anstream::{AutoStream, ColorChoice};
use serde::Serialize;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Coverage, CoverageState, Evidence, Finding};
use whodunit_core::queries::{Envelope, Machine, SCHEMA};
use whodunit_core::survey::Survey;

use crate::args::{Format, Global, When};
use crate::error::CliError;
use crate::process;
use crate::session::Outcome;
use crate::session::Session;

use links::Links;
pub use page::{Line, Piece, Presenter, lines};
pub use table::{Cell, Column, Grid};
pub use text::{Tone, width_of};

/// Where results and remarks go.
pub struct Streams {
    /// Results.
    pub out: BufWriter<io::Stdout>,
    /// Progress, warnings and the coverage note.
    pub err: io::Stderr,
    /// The width of the terminal that shows the results.
    pub width: Option<usize>,
    /// Whether results are coloured.
    pub color: bool,
    /// Which words of results are links.
    links: Links,
}

impl Streams {
    /// The streams of this process.
    pub fn of_process() -> Self {
        Streams {
            out: BufWriter::with_capacity(1 << 16, io::stdout()),
            err: io::stderr(),
            width: process::width(),
            color: false,
            links: Links::default(),
        }
    }

    /// Follows `--color`, and for `auto` the terminal and `NO_COLOR`.
    pub fn choose_color(&mut self, when: When) {
        self.color = match when {
            When::Always => true,
            When::Never => false,
            When::Auto => AutoStream::choice(&io::stdout()) != ColorChoice::Never,
        };
        self.links = Links::of_terminal(self.color && when == When::Auto);
    }
}

/// An answer that can be written in every format.
pub trait Shown: Serialize + Clone {
    /// One item of its list.
    type Item: Serialize;
    /// The command that it answers.
    const COMMAND: &'static str;
    /// Whether the answer rests on the search path.
    const SEARCHES: bool = false;
    /// Whether the answer rests on what managers' records claim; else some managers are not even opened for it.
    const NEEDS_CLAIMS: bool = true;
    /// Whether the managers' records are read for it.
    const READS_MANAGERS: bool = true;
    /// Whether it follows `--columns` and `--sort` by itself.
    const ARRANGES_ITSELF: bool = false;
    /// The findings that it consists of, where it does.
    fn findings(&self) -> Option<&[Finding]> {
        None
    }
    /// The list that it consists of.
    fn items(&self) -> &[Self::Item];
    /// The answer as rows and columns.
    fn grid(&self) -> Grid;
    /// Whether the first line of its page is the verdict on all of it.
    fn has_verdict(&self) -> bool {
        true
    }
    /// The answer for a user at a terminal, line by line; the first line is the verdict.
    fn page(&self, presenter: &Presenter) -> Vec<Piece>;
}

/// An unowned program's version, with `probably` before one that is a guess.
pub fn hinted(version: Option<&ByteString>, is_probable: bool) -> Option<String> {
    let probably = if is_probable { "probably " } else { "" };
    version.map(|version| format!("{probably}{version}"))
}

/// A text from the machine, with its control characters escaped.
pub fn safe(text: &str) -> String {
    ByteString::from(text).to_string()
}

/// Where a fact stands, in words.
pub fn place(evidence: &Evidence) -> String {
    format!("{}, {}", evidence.file, evidence.at)
}

/// Names, separated by commas.
pub fn names(names: &[ByteString]) -> String {
    names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// Writes an answer in the format asked for, then the coverage note.
pub fn show<A: Shown>(
    answer: &A,
    survey: &Survey<'_>,
    session: &Session,
    global: &Global,
    streams: &mut Streams,
    found: bool,
) -> Result<Outcome, CliError> {
    let is_arranged = !A::ARRANGES_ITSELF && global.arranges();
    if is_arranged {
        arranged::check(global)?;
    }
    let grid = || if is_arranged { arranged::arranged(answer.grid(), global) } else { Ok(answer.grid()) };
    let coverage = if A::READS_MANAGERS { survey.coverage() } else { survey.unread_places() };
    match global.format {
        Format::Json => {
            let envelope = Envelope {
                schema: SCHEMA.to_owned(),
                command: A::COMMAND.to_owned(),
                machine: Machine::of(&session.host, session.context_word()),
                coverage: coverage.clone(),
                answer,
            };
            json::document(&mut streams.out, &envelope)?;
        }
        Format::Sarif => match answer.findings() {
            Some(findings) => sarif::document(&mut streams.out, findings)?,
            None => return Err(CliError::usage("--format sarif is for findings (check, conflicts, verify)")),
        },
        Format::Lines => json::lines(&mut streams.out, answer.items())?,
        Format::Csv => csv::write(&mut streams.out, &grid()?)?,
        Format::Markdown => table::markdown(&mut streams.out, &grid()?)?,
        Format::Table => {
            let managers = if A::READS_MANAGERS { survey.managers() } else { Vec::new() };
            let presenter = Presenter::new(&session.host, session.viewers().len(), streams.width.is_some(), &managers);
            let mut page = answer.page(&presenter);
            if is_arranged {
                // The verdict, and what was asked for.
                let grid = grid()?;
                page.truncate(usize::from(answer.has_verdict() || grid.rows.is_empty()));
                if !grid.rows.is_empty() {
                    page.extend((!page.is_empty()).then(|| Line::blank().into()));
                    page.push(Piece::Table(grid));
                }
            }
            let written = |links: &Links| {
                let mut text = Vec::new();
                page::write(&mut text, &page, streams.width, streams.color, links).map(|()| text)
            };
            let mut text = written(&streams.links.to_files_of(&session.host))?;
            let lines = text.split(|byte| *byte == b'\n').count();
            let is_long = !global.no_pager && process::height().is_some_and(|height| lines >= height);
            if is_long && streams.links.wanted {
                // Not every pager lets links through.
                text = written(&Links::default())?;
            }
            if !(is_long && process::page(&text)) {
                streams.out.write_all(&text)?;
            }
        }
    }
    streams.out.flush()?;
    note_coverage(&coverage, survey, A::READS_MANAGERS && A::NEEDS_CLAIMS, global, streams);
    if let Some(file) = session.ignored_settings().filter(|_| !global.quiet) {
        let _ =
            writeln!(streams.err, "whodunit: {file}: ignored, because it belongs to another user (--config takes it)");
    }
    if A::SEARCHES && !global.quiet {
        note_search(session, streams);
    }
    let incomplete = coverage.iter().any(|part| part.state != CoverageState::Read);
    Ok(Outcome { found, incomplete, ..Outcome::default() })
}

/// Writes a document of another format than our own, as JSON.
pub fn document<T: Serialize>(streams: &mut Streams, document: &T) -> Result<(), CliError> {
    json::document(&mut streams.out, document)?;
    Ok(streams.out.flush()?)
}

/// Says what could not be read, behind an answer that has no place for it.
pub fn note_losses(survey: &Survey<'_>, global: &Global, streams: &mut Streams) -> Outcome {
    let coverage = survey.coverage();
    note_coverage(&coverage, survey, true, global, streams);
    let incomplete = coverage.iter().any(|part| part.state != CoverageState::Read);
    Outcome { found: true, incomplete, ..Outcome::default() }
}

fn note_search(session: &Session, streams: &mut Streams) {
    for Evidence { file, at, says } in session.search().unknowns() {
        let _ = writeln!(streams.err, "whodunit: search path: {file}, {at}: {says} (--path LIST sets it)");
    }
}

/// Writes lines of the command's own.
pub fn write_page(streams: &mut Streams, page: &[Piece]) -> Result<(), CliError> {
    page::write(&mut streams.out, page, streams.width, streams.color, &streams.links)?;
    Ok(streams.out.flush()?)
}

/// Notes shown of one installation before the rest is only counted.
const MAX_NOTES: usize = 5;

/// Places shown that could not be examined before the rest is only counted.
const MAX_PLACES: usize = 10;

fn note_coverage(
    coverage: &[Coverage],
    survey: &Survey<'_>,
    reads_managers: bool,
    global: &Global,
    streams: &mut Streams,
) {
    if global.quiet {
        return;
    }
    let mut lines = Vec::new();
    if reads_managers && survey.managers().is_empty() {
        let place = survey.root().place().display().to_string();
        lines.push(format!("no package manager's records were found under {place}, so nothing can be owned there"));
    }
    let (of_managers, places): (Vec<&Coverage>, Vec<&Coverage>) =
        coverage.iter().partition(|part| part.manager.is_some());
    for part in of_managers.into_iter().chain(places.iter().copied().take(MAX_PLACES)) {
        let name = part.manager.map_or("not examined".to_owned(), |manager| format!("{manager} ({})", part.scope));
        match part.state {
            CoverageState::Read => {
                tracing::info!(installation = name, directory = %part.location, packages = part.packages, "read completely");
            }
            state => {
                let says = match (part.manager, state) {
                    (None, _) => String::new(),
                    (_, CoverageState::Partial) => " was partly read".to_owned(),
                    (_, state) => format!(" is {}", state.word()),
                };
                lines.push(format!("{name}: {}{says}", part.location));
                lines.extend(part.notes.iter().take(MAX_NOTES).map(|note| format!("  {note}")));
                if part.notes.len() > MAX_NOTES {
                    let more = part.notes.len() - MAX_NOTES;
                    lines.push(format!("  and {} (--format json shows all)", units::count(more, "more note")));
                }
            }
        }
    }
    if places.len() > MAX_PLACES {
        let more = units::count(places.len() - MAX_PLACES, "more place");
        lines.push(format!("not examined: {more} (--format json shows all)"));
    }
    for line in lines {
        let _ = writeln!(streams.err, "whodunit: {line}");
    }
}

pub use units::{ago, count, date, seconds, size, time};
