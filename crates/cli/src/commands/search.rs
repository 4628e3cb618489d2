//! `whodunit search`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Scope, Search, SearchScope};
use whodunit_core::queries::search::{Found, FoundOffer, SearchAnswer, search};
use whodunit_core::survey::Survey;

use super::bytes_of;
use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// Search every source for software
///
/// Searches every catalogue that the package managers have fetched, and what is installed; fetches nothing. Words are
/// looked for in names, application ids, summaries, keywords and commands, in any case; every word must be found.
/// Packages of the same software are shown together, the best match first. What could not be searched is listed at
/// the end, with the command that fetches it.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit search tide chart
  whodunit search tide --not library
  whodunit search --names gauge
  whodunit search --provides tidegauge      which package has this command")]
pub struct Arguments {
    /// Words, all of which must be found
    #[arg(required = true)]
    word: Vec<OsString>,

    /// Leave out what this word is found in; can be repeated
    #[arg(long, value_name = "WORD")]
    not: Vec<OsString>,

    /// Search names only
    #[arg(long, conflicts_with = "provides")]
    names: bool,

    /// Search for packages with a command of this name
    #[arg(long)]
    provides: bool,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    if arguments.word.iter().chain(&arguments.not).any(|word| word.as_bytes().trim_ascii().is_empty()) {
        return Err(CliError::usage("an empty word would match everything"));
    }
    let scope = match (arguments.names, arguments.provides) {
        (true, _) => SearchScope::Names,
        (_, true) => SearchScope::Commands,
        _ => SearchScope::Everything,
    };
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let answer = search(&survey, &Search::new(&bytes_of(&arguments.word), &bytes_of(&arguments.not), scope));
    let found = !answer.results.is_empty();
    output::show(&answer, &survey, &session, global, streams, found)
}

impl Shown for SearchAnswer {
    type Item = Found;
    const COMMAND: &'static str = "search";
    const NEEDS_CLAIMS: bool = false;

    fn items(&self) -> &[Found] {
        &self.results
    }

    fn grid(&self) -> Grid {
        let known = |text: Option<&ByteString>| text.map(ToString::to_string).unwrap_or_default();
        let mut rows = Vec::new();
        for found in &self.results {
            let about = [found.title.to_string(), known(found.summary.as_ref()), output::names(&found.installed)];
            let row = |offer: Option<&FoundOffer>| {
                let [title, summary, installed] = about.clone();
                let source = offer.and_then(|offer| offer.source.as_ref()).map(|source| &source.name);
                vec![
                    Cell::plain(title),
                    Cell::plain(offer.map(|offer| offer.manager.to_string()).unwrap_or_default()),
                    Cell::plain(offer.map(|offer| offer.name.to_string()).unwrap_or_default()),
                    Cell::plain(known(offer.and_then(|offer| offer.version.as_ref()))),
                    Cell::plain(known(source)),
                    Cell::plain(installed),
                    Cell::plain(offer.and_then(|offer| offer.install_command.clone()).unwrap_or_default()),
                    Cell::plain(summary),
                ]
            };
            match found.offers.is_empty() {
                true => rows.push(row(None)),
                false => rows.extend(found.offers.iter().map(|offer| row(Some(offer)))),
            }
        }
        let columns = vec![
            Column::words("title", "TITLE"),
            Column::words("manager", "MANAGER"),
            Column::words("name", "NAME"),
            Column::words("version", "VERSION"),
            Column::words("source", "SOURCE"),
            Column::words("installed", "INSTALLED"),
            Column::words("install_command", "TO INSTALL"),
            Column::words("summary", "SUMMARY"),
        ];
        Grid { columns, rows }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, verdict(&self.results)).into()];
        let commands =
            self.results.iter().flat_map(|found| &found.offers).filter_map(|one| one.install_command.as_ref());
        let shows_commands = commands.count() <= MAX_COMMANDS;
        for found in &self.results {
            page.push(Line::blank().into());
            page.extend(lines_of(found, shows_commands));
        }
        if !self.not_searched.is_empty() {
            page.push(Line::blank().into());
            page.push(Line::of(Tone::Strong, "Not searched").into());
        }
        for alike in self.not_searched.chunk_by(|a, b| (&a.what, &a.command) == (&b.what, &b.command)) {
            let one = &alike[0];
            let managers: Vec<&str> = alike.iter().map(|one| one.manager.0).collect();
            let label = Line::blank().to(2).and(Tone::Plain, managers.join(", "));
            page.push(Piece::Paragraph { column: 14, label, tone: Tone::Plain, text: one.what.clone() });
            page.extend(one.command.as_ref().map(|command| {
                Piece::Whole(
                    Line::of(Tone::Plain, "")
                        .to(14)
                        .and(Tone::Faint, "to fetch")
                        .to(24)
                        .and(Tone::Plain, command.clone()),
                )
            }));
        }
        page
    }
}

/// With more commands than these the list would not be read; `offers` tells each.
const MAX_COMMANDS: usize = 6;

fn verdict(results: &[Found]) -> String {
    let installed = results.iter().filter(|found| !found.installed.is_empty()).count();
    match (results.len(), installed) {
        (0, _) => {
            "nothing found in the catalogues that the managers have fetched, nor among what is installed".to_owned()
        }
        (count, 0) => format!("{} found, none installed", output::count(count, "title")),
        (count, installed) => format!("{} found, {installed} installed", output::count(count, "title")),
    }
}

fn lines_of(found: &Found, shows_commands: bool) -> Vec<Piece> {
    let mut head = Line::of(Tone::Strong, found.title.to_string());
    if let Some(summary) = &found.summary {
        head = head.to(2).and(Tone::Plain, summary.to_string());
    }
    let mut lines: Vec<Piece> = vec![head.into()];
    for offer in &found.offers {
        let is_same = |other: &&FoundOffer| {
            (other.manager, &other.name, &other.version) == (offer.manager, &offer.name, &offer.version)
        };
        let has_several = found.offers.iter().filter(is_same).count() > 1;
        lines.push(offer_line(offer, has_several).into());
        if let Some(command) = offer.install_command.as_ref().filter(|_| shows_commands) {
            lines.push(Piece::Whole(
                Line::of(Tone::Plain, "")
                    .to(14)
                    .and(Tone::Faint, "to install")
                    .to(26)
                    .and(Tone::Plain, command.clone()),
            ));
        }
    }
    for copy in &found.copies {
        let version = copy.version.as_ref().map(ToString::to_string).unwrap_or_default();
        let whose = match &copy.scope {
            Scope::System => String::new(),
            scope => scope.to_string(),
        };
        let line = Line::blank().to(2).and(Tone::Plain, copy.manager.to_string()).to(14);
        let line = line.and(Tone::Plain, copy.full_name().to_string()).to(2).and(Tone::Plain, version);
        let line = if whose.is_empty() { line } else { line.to(2).and(Tone::Faint, whose) };
        lines.push(line.to(2).and(Tone::Accent, "installed").into());
    }
    lines
}

fn offer_line(offer: &FoundOffer, has_several: bool) -> Line {
    let version = offer.version.as_ref().map_or_else(|| "version unknown".to_owned(), ToString::to_string);
    let line = Line::blank().to(2).and(Tone::Plain, offer.manager.to_string()).to(14);
    // Which of several builds it is, their architecture or channel tells.
    let which = match (has_several, &offer.arch, &offer.channel) {
        (true, _, Some(channel)) => format!("//{channel}"),
        (true, Some(arch), None) => format!(":{arch}"),
        _ => String::new(),
    };
    let line = line.and(Tone::Plain, format!("{}{which}", offer.name)).to(2).and(Tone::Plain, version);
    let source = offer.source.as_ref().map(|source| source.name.to_string());
    let more = match offer.also_in.len() {
        0 => String::new(),
        1 => format!(" and {}", offer.also_in[0]),
        count => format!(" and {count} more"),
    };
    let confinement = offer.confinement.clone().filter(|word| word != "none");
    let size = offer.download_size.map(|size| format!("{} to fetch", output::size(size)));
    let unsigned = (offer.signed == Some(false)).then(|| "unsigned".to_owned());
    let facts: Vec<String> = [source.map(|source| format!("from {source}{more}")), size, confinement, unsigned]
        .into_iter()
        .flatten()
        .collect();
    let line = line.to(2).and(Tone::Faint, facts.join(", "));
    if offer.installed { line.to(2).and(Tone::Accent, "installed") } else { line }
}
