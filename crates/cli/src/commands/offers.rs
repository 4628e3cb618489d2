//! `whodunit offers`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::managers;
use whodunit_core::model::ManagerId;
use whodunit_core::queries::keeping::UpkeepMode;
use whodunit_core::queries::offers::{Availability, Offered, OfferedTitle, Offers, Question, Suggestion, offers};
use whodunit_core::queries::spelled;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// Compare the versions that each source offers
///
/// Reads the catalogues that the package managers last fetched; fetches nothing. NAME is a package, a command, an
/// application id or the name that a menu shows. The newest version comes first. The output shows what is installed,
/// what each manager would install, what it would bring along that is not here yet, and which source comes first in
/// your order of preference (`[sources]` in the configuration file). A different program with the same name is shown
/// on its own. Catalogues older than a month are marked as stale.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit offers ferryboard
  whodunit offers --newer                   what is installed and has something newer
  whodunit offers chartdesk --format json")]
pub struct Arguments {
    /// Packages, commands, application ids or displayed names
    #[arg(required_unless_present = "newer")]
    name: Vec<OsString>,

    /// List every installed package for which a source offers a newer version
    #[arg(long, conflicts_with = "name")]
    newer: bool,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let question = Question {
        names: arguments.name.iter().map(|name| spelled::name(&survey, &session.searches(), name.as_bytes())).collect(),
        preferences: session.config.preferences(),
        now: session.now(),
    };
    let answer = offers(&survey, &question);
    let found = |name: &ByteString| answer.offers.iter().any(|one| one.asked == *name);
    let all_found = question.names.iter().all(found);
    output::show(&Listed { answer, newer: arguments.newer }, &survey, &session, global, streams, all_found)
}

/// The answer, with the names of which nobody has anything.
#[derive(Clone, serde::Serialize)]
struct Listed {
    #[serde(flatten)]
    answer: Offers,
    #[serde(skip)]
    newer: bool,
}

impl Shown for Listed {
    type Item = Offered;
    const COMMAND: &'static str = "offers";

    fn items(&self) -> &[Offered] {
        &self.answer.offers
    }

    fn grid(&self) -> Grid {
        self.table(&(0..self.answer.offers.len()).collect::<Vec<_>>())
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let mut page: Vec<Piece> = Vec::new();
        if self.newer {
            let offers = &self.answer.offers;
            let says = match offers.iter().filter(|one| one.offer.installed).count() {
                0 => "no newer versions in the catalogues that the managers have fetched".to_owned(),
                1 => "1 installed package has a newer version".to_owned(),
                count => format!("{count} installed packages have a newer version"),
            };
            page.push(Line::of(Tone::Strong, says).into());
            if !offers.is_empty() {
                page.push(Line::blank().into());
                page.push(Piece::Table(self.grid()));
            }
        }
        for (number, asked) in self.answer.asked.iter().enumerate() {
            if number > 0 {
                page.push(Line::blank().into());
            }
            self.add_asked(asked, &mut page);
        }
        if !self.answer.findings.is_empty() {
            page.push(Line::blank().into());
        }
        for finding in &self.answer.findings {
            page.push(Line::of(Tone::Warning, finding.summary.clone()).into());
            let ways = finding.remedies.iter();
            page.extend(ways.map(|one| {
                Piece::Whole(Line::of(Tone::Faint, "to release").to(14).and(Tone::Plain, one.command.clone()))
            }));
        }
        page
    }
}

impl Listed {
    /// Everything about one name that was asked for.
    fn add_asked(&self, asked: &Availability, page: &mut Vec<Piece>) {
        let offers = &self.answer.offers;
        let titles: Vec<&OfferedTitle> = self.answer.titles.iter().filter(|title| title.asked == asked.name).collect();
        if titles.is_empty() {
            let says = match (asked.not_offered_by.is_empty(), asked.unknown.is_empty()) {
                (false, true) => "not offered",
                (false, false) => "not offered by the sources whose catalogues are here",
                (true, _) => "unknown: no catalogue is on this machine",
            };
            page.push(Line::of(Tone::Warning, format!("{}: {says}", asked.name)).into());
        }
        for (number, title) in titles.iter().enumerate() {
            if number > 0 {
                page.push(Line::blank().into());
            }
            let of_title: Vec<&Offered> = title.offers.iter().map(|at| &offers[*at]).collect();
            let name = if titles.len() > 1 { &of_title[0].offer.name } else { &asked.name };
            page.push(Line::of(Tone::Strong, verdict(name, &of_title)).into());
            if let Some(says) = of_title.iter().find_map(|one| one.offer.says.as_ref()) {
                page.push(Line::of(Tone::Faint, says.to_string()).into());
            }
            page.push(Line::blank().into());
            page.push(Piece::Table(self.table(&title.offers)));
            add_details(&of_title, page);
            if let Some(suggestion) = &title.suggestion {
                page.push(Line::blank().into());
                add_suggestion(suggestion, &offers[suggestion.offer], page);
            }
        }
        let fact = |label: &str, text: String| -> Piece {
            Piece::Paragraph { column: 14, label: Line::of(Tone::Faint, label.to_owned()), tone: Tone::Plain, text }
        };
        let list = |managers: &[ManagerId]| managers.iter().map(|one| one.0).collect::<Vec<_>>().join(", ");
        let not_offered = Some(list(&asked.not_offered_by)).filter(|list| !list.is_empty());
        let unknown = Some(list(&asked.unknown)).filter(|list| !list.is_empty());
        if not_offered.is_some() || unknown.is_some() {
            page.push(Line::blank().into());
        }
        page.extend(not_offered.map(|list| fact("not offered", format!("by {list}"))));
        page.extend(unknown.map(|list| fact("unknown", format!("{list}: no catalogue on this machine"))));
        if !asked.similar.is_empty() {
            page.push(fact("similar", output::names(&asked.similar)));
        }
    }

    /// Offers as rows, by their places.
    fn table(&self, places: &[usize]) -> Grid {
        let known = |text: Option<&ByteString>| text.map(ToString::to_string).unwrap_or_default();
        let row = |at: &usize| {
            let one = &self.answer.offers[*at];
            let offer = &one.offer;
            let of_catalogue = match offer.catalogued_at {
                Some(time) => Cell {
                    text: output::time(time),
                    shown: Some(dated(one, time)),
                    tone: if one.stale { Tone::Warning } else { Tone::Plain },
                },
                None => Cell::plain(""),
            };
            vec![
                Cell::toned(Tone::Strong, offer.name.to_string()),
                Cell::plain(known(offer.version.as_ref())),
                Cell::plain(offer.manager.to_string()),
                Cell::shown(known(offer.source.as_ref().map(|source| &source.name)), source(one)),
                of_catalogue,
                Cell::shown(offer.download_size.map(|size| size.to_string()).unwrap_or_default(), fetched(one)),
                Cell::toned(tone(one), program_notes(one, self.newer)),
            ]
        };
        let columns = vec![
            Column::words("name", "NAME"),
            Column::words("version", "VERSION"),
            Column::words("manager", "MANAGER"),
            Column::words("source", "SOURCE"),
            Column::words("catalogue", "CATALOGUE"),
            Column::words("download_size", "TO FETCH"),
            Column::words("remarks", ""),
        ];
        Grid { columns, rows: places.iter().map(row).collect() }
    }
}

/// What an offer costs: its own bytes, and those of what comes along.
fn fetched(one: &Offered) -> String {
    let own = one.offer.download_size.map(output::size);
    let more = one.pulls_in.as_ref().filter(|pulled| !pulled.packages.is_empty());
    match (own, more.map(|pulled| pulled.download_size)) {
        (own, None) => own.unwrap_or_default(),
        (Some(own), Some(Some(more))) => format!("{own} + {}", output::size(more)),
        (Some(own), Some(None)) => format!("{own} + more"),
        (None, Some(Some(more))) => format!("unknown + {}", output::size(more)),
        (None, Some(None)) => "unknown".to_owned(),
    }
}

/// The packages named of what comes along, before the rest is only counted.
const MAX_PULLED: usize = 6;

/// What does not fit in a row: per source that can be taken, what comes along, who publishes it, what it may reach.
fn add_details(offers: &[&Offered], page: &mut Vec<Piece>) {
    let fact = |label: String, text: String| -> Piece {
        Piece::Paragraph { column: 14, label: Line::of(Tone::Faint, label), tone: Tone::Plain, text }
    };
    let mut lines: Vec<Piece> = Vec::new();
    for one in offers {
        let offer = &one.offer;
        let mut facts: Vec<String> = Vec::new();
        facts.extend(offer.publisher.as_ref().map(|by| format!("published by {by}")));
        facts.extend((offer.signed == Some(false)).then(|| "not signed".to_owned()));
        if let Some(word) = offer.confinement.as_ref().filter(|word| *word != "none") {
            let may = if offer.permissions.is_empty() {
                String::new()
            } else {
                format!(" ({})", offer.permissions.join(", "))
            };
            facts.push(format!("{word}{may}"));
        }
        if let Some(pulled) = one.pulls_in.as_ref().filter(|pulled| !pulled.packages.is_empty()) {
            let names: Vec<String> = pulled.packages.iter().take(MAX_PULLED).map(|one| one.name.to_string()).collect();
            let rest = pulled.packages.len() - names.len();
            let rest = if rest > 0 { format!(" and {rest} more") } else { String::new() };
            let about = if pulled.complete { "" } else { "at least " };
            facts.push(format!("brings along {about}{}{rest}", names.join(", ")));
        }
        if let Some(upkeep) = one.upkeep.as_ref().filter(|upkeep| upkeep.mode == UpkeepMode::Automatic) {
            facts.push(format!("upgraded by {}", upkeep.by.as_deref().unwrap_or("its manager")));
        }
        facts.extend(offer.license.as_ref().map(|license| format!("licence {license}")));
        if !facts.is_empty() && (offer.source.is_some()) {
            let version = offer.version.as_ref().map(ToString::to_string).unwrap_or_default();
            lines.push(fact(offer.manager.to_string(), format!("{version}: {}", facts.join("; "))));
        }
    }
    if !lines.is_empty() {
        page.push(Line::blank().into());
        page.extend(lines);
    }
}

fn add_suggestion(suggestion: &Suggestion, one: &Offered, page: &mut Vec<Piece>) {
    let version = one.offer.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let reasons: Vec<&str> = suggestion.because.iter().map(|because| because.says.as_str()).collect();
    let text = format!("{} from {}: {}", format_args!("{}{version}", one.offer.name), source(one), reasons.join("; "));
    let label = Line::of(Tone::Faint, "suggested");
    page.push(Piece::Paragraph { column: 14, label, tone: Tone::Accent, text });
    for remedy in one.remedies.iter().filter(|_| !one.offer.held) {
        page.push(Piece::Whole(Line::of(Tone::Faint, "to install").to(14).and(Tone::Plain, remedy.command.clone())));
    }
}

fn verdict(name: &ByteString, offers: &[&Offered]) -> String {
    let of_name = || offers.iter().copied();
    let version = |one: &Offered| one.offer.version.clone().unwrap_or_default();
    let installed = of_name().find(|one| one.offer.installed);
    let has_source = of_name().any(|one| one.offer.source.is_some());
    match (of_name().find(|one| one.newest), installed) {
        (_, Some(now)) if !has_source => {
            format!("{name}: not offered by any source; {} from {} is installed", version(now), now.offer.manager)
        }
        (Some(newest), Some(_)) if newest.offer.installed => {
            format!("{name}: newest version {} from {}, installed", version(newest), newest.offer.manager)
        }
        (Some(newest), Some(now)) => format!(
            "{name}: newest version {} from {}; {} from {} is installed",
            version(newest),
            newest.offer.manager,
            version(now),
            now.offer.manager
        ),
        (Some(newest), None) => {
            format!("{name}: newest version {} from {}; not installed", version(newest), newest.offer.manager)
        }
        (None, Some(now)) => format!("{name}: installed by {}; version unknown", now.offer.manager),
        (None, None) => format!("{name}: not installed; the catalogue has no version"),
    }
}

fn source(one: &Offered) -> String {
    let keeps_catalogues = managers::profile(one.offer.manager).has_full_catalogues;
    let none = if keeps_catalogues { "no source" } else { "unknown" };
    one.offer.source.as_ref().map_or(none.to_owned(), |source| source.name.to_string())
}

fn dated(one: &Offered, time: i64) -> String {
    format!("{}{}", output::date(time), if one.stale { ", stale" } else { "" })
}

fn tone(one: &Offered) -> Tone {
    if one.offer.installed { Tone::Accent } else { Tone::Plain }
}

fn program_notes(one: &Offered, newer: bool) -> String {
    let offer = &one.offer;
    let words = [
        (offer.installed, "installed"),
        (offer.held && offer.installed, "held back"),
        (one.newest && !newer, "newest"),
        (one.preferred && !newer, "first by preference"),
        (offer.candidate && !offer.installed && !offer.held, "its manager would install it"),
        (!offer.is_allowed(), "excluded by a pin"),
    ];
    words.into_iter().filter(|(is_so, _)| *is_so).map(|(_, word)| word).collect::<Vec<_>>().join(", ")
}
