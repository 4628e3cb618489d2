//! `whodunit offers`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::managers;
use whodunit_core::queries::offers::{Offered, Offers, Question, offers};
use whodunit_core::queries::spelled;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// Compare the versions that each source offers
///
/// Reads the catalogues that the package managers last fetched; fetches nothing. NAME is a package or a title. The
/// newest version comes first. The output shows what is installed, what each manager would install, and which
/// source comes first in your order of preference (`[sources] prefer` in the configuration file). Catalogues older
/// than a month are marked as stale.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit offers ferryboard
  whodunit offers --newer                   what is installed and has something newer
  whodunit offers chartdesk --format json")]
pub struct Arguments {
    /// Packages or titles
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
        prefer: session.config.preferred_sources(),
        now: session.now(),
    };
    let answer = offers(&survey, &question);
    let found = |name: &ByteString| answer.offers.iter().any(|one| one.asked == *name);
    let all_found = question.names.iter().all(found);
    let missing = question.names.iter().filter(|name| !found(name)).cloned().collect();
    output::show(&Listed { answer, missing, newer: arguments.newer }, &survey, &session, global, streams, all_found)
}

/// The answer, with the names of which nobody has anything.
#[derive(Clone, serde::Serialize)]
struct Listed {
    #[serde(flatten)]
    answer: Offers,
    #[serde(skip)]
    missing: Vec<ByteString>,
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
        let known = |text: Option<&ByteString>| text.map(ToString::to_string).unwrap_or_default();
        let row = |one: &Offered| {
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
                Cell::toned(tone(one), program_notes(one, self.newer)),
            ]
        };
        let columns = vec![
            Column::words("name", "NAME"),
            Column::words("version", "VERSION"),
            Column::words("manager", "MANAGER"),
            Column::words("source", "SOURCE"),
            Column::words("catalogue", "CATALOGUE"),
            Column::words("remarks", ""),
        ];
        Grid { columns, rows: self.answer.offers.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let offers = &self.answer.offers;
        let mut page: Vec<Piece> = Vec::new();
        if self.newer {
            let says = match offers.iter().filter(|one| one.offer.installed).count() {
                0 => "no newer versions in the catalogues that the managers have fetched".to_owned(),
                1 => "1 installed package has a newer version".to_owned(),
                count => format!("{count} installed packages have a newer version"),
            };
            page.push(Line::of(Tone::Strong, says).into());
        } else {
            let mut names: Vec<&ByteString> = offers.iter().map(|one| &one.asked).collect();
            names.dedup();
            page.extend(names.into_iter().map(|name| Line::of(Tone::Strong, verdict(name, offers)).into()));
        }
        for name in &self.missing {
            page.push(
                Line::of(
                    Tone::Warning,
                    format!("{name}: not offered by any source in the catalogues that the managers have fetched"),
                )
                .into(),
            );
        }
        if !offers.is_empty() {
            page.push(Line::blank().into());
            page.push(Piece::Table(self.grid()));
        }
        let taken = offers.iter().filter(|one| one.preferred && !self.newer && !one.offer.held);
        let commands: Vec<&str> = taken.flat_map(|one| &one.remedies).map(|remedy| remedy.command.as_str()).collect();
        if !commands.is_empty() {
            page.push(Line::blank().into());
        }
        for command in commands {
            page.push(Line::of(Tone::Faint, "to install").to(14).and(Tone::Plain, command.to_owned()).into());
        }
        if !self.answer.findings.is_empty() {
            page.push(Line::blank().into());
        }
        for finding in &self.answer.findings {
            page.push(Line::of(Tone::Warning, finding.summary.clone()).into());
            let ways = finding.remedies.iter();
            page.extend(
                ways.map(|one| Line::of(Tone::Faint, "to release").to(14).and(Tone::Plain, one.command.clone()).into()),
            );
        }
        page
    }
}

fn verdict(name: &ByteString, offers: &[Offered]) -> String {
    let of_name = || offers.iter().filter(|one| one.asked == *name);
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
