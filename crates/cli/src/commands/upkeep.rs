//! `whodunit upkeep`.

use std::ffi::OsString;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::Scope;
use whodunit_core::queries::keeping::{Kept, UpkeepMode};
use whodunit_core::queries::upkeep::{Upkept, upkeep};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// Show who keeps each package current
///
/// Shows of each package whether it is upgraded automatically (by what, when), with one command (which), by hand, or
/// by nobody, and which packages are behind what their sources offer, as of the last refresh. NAME is a package or a
/// command. Without NAME, packages are counted, and only those are listed that need attention.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit upkeep                           what needs attention
  whodunit upkeep chartdesk
  whodunit upkeep --format csv              every package")]
pub struct Arguments {
    /// Packages or commands
    name: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let (packages, missing) = super::packages_of(&survey, &session, &arguments.name);
    let id = |(holder, number): (u16, u32)| survey.installations()[usize::from(holder)].owner(number).id;
    let mut names: Vec<ByteString> = packages.into_iter().map(id).collect();
    names.dedup();
    let asks_all = arguments.name.is_empty();
    let answer = match asks_all || !names.is_empty() {
        true => upkeep(&survey, &names, session.now()),
        false => Upkept { upkeep: Vec::new() },
    };
    super::tell_unknown(&missing, global, streams);
    let listed = Listed { in_full: !asks_all, verbose: global.verbose > 0, answer };
    output::show(&listed, &survey, &session, global, streams, missing.is_empty())
}

/// The answer, and how much of it is told.
#[derive(Clone, serde::Serialize)]
struct Listed {
    #[serde(flatten)]
    answer: Upkept,
    #[serde(skip)]
    in_full: bool,
    #[serde(skip)]
    verbose: bool,
}

impl Shown for Listed {
    type Item = Kept;
    const COMMAND: &'static str = "upkeep";

    fn items(&self) -> &[Kept] {
        &self.answer.upkeep
    }

    fn grid(&self) -> Grid {
        let row = |kept: &Kept| {
            let text = |text: Option<&String>| Cell::plain(text.cloned().unwrap_or_default());
            let known = |text: Option<&ByteString>| Cell::plain(text.map(ToString::to_string).unwrap_or_default());
            let behind = kept.behind.as_ref();
            vec![
                Cell::toned(Tone::Strong, kept.name.to_string()),
                known(kept.version.as_ref()),
                Cell::plain(kept.manager.to_string()),
                Cell::plain(kept.scope.to_string()),
                Cell::toned(tone_of(kept.mode), kept.mode.word()),
                text(kept.by.as_ref().or(kept.because.as_ref())),
                text(kept.schedule.as_ref()),
                text(kept.command.as_ref()),
                known(behind.and_then(|behind| behind.version.as_ref())),
                known(behind.and_then(|behind| behind.source.as_ref())),
            ]
        };
        let columns = vec![
            Column::words("name", "NAME"),
            Column::words("version", "VERSION"),
            Column::words("manager", "MANAGER"),
            Column::words("scope", "SCOPE"),
            Column::words("mode", "KEPT CURRENT"),
            Column::words("by", "BY"),
            Column::words("schedule", "WHEN"),
            Column::words("command", "COMMAND"),
            Column::words("behind_version", "NEWER"),
            Column::words("behind_source", "FROM"),
        ];
        Grid { columns, rows: self.answer.upkeep.iter().map(row).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let all = &self.answer.upkeep;
        let mut page: Vec<Piece> = Vec::new();
        if self.in_full {
            for (number, kept) in all.iter().enumerate() {
                if number > 0 {
                    page.push(Line::blank().into());
                }
                page.extend(in_full(kept));
            }
            return page;
        }
        page.push(Line::of(Tone::Strong, verdict(all)).into());
        page.push(Line::blank().into());
        page.extend(by_installation(all, presenter));
        let behind: Vec<&Kept> = all.iter().filter(|kept| kept.behind.is_some()).collect();
        section(&mut page, "Behind", &behind, |kept| {
            let behind = kept.behind.as_ref();
            let newer = behind.and_then(|behind| behind.version.as_ref()).map(ToString::to_string);
            let source = behind.and_then(|behind| behind.source.as_ref()).map(|source| format!(" from {source}"));
            let newer = newer.unwrap_or_else(|| "a newer build".to_owned());
            format!("{newer}{}", source.unwrap_or_default())
        });
        for (mode, title) in [(UpkeepMode::Nobody, "Kept current by nobody"), (UpkeepMode::ByHand, "By hand")] {
            let of_mode: Vec<&Kept> = all.iter().filter(|kept| kept.mode == mode).collect();
            section(&mut page, title, &of_mode, |kept| kept.because.clone().unwrap_or_default());
        }
        if self.verbose {
            let of_mode: Vec<&Kept> = all.iter().filter(|kept| kept.mode == UpkeepMode::Unknown).collect();
            section(&mut page, "Unknown", &of_mode, |kept| kept.because.clone().unwrap_or_default());
        }
        page
    }
}

fn tone_of(mode: UpkeepMode) -> Tone {
    if mode == UpkeepMode::Nobody { Tone::Warning } else { Tone::Plain }
}

/// A heading with a line per package.
fn section(page: &mut Vec<Piece>, title: &str, list: &[&Kept], says: impl Fn(&Kept) -> String) {
    if list.is_empty() {
        return;
    }
    page.push(Line::blank().into());
    page.push(Line::of(Tone::Strong, title).into());
    for kept in list {
        let version = kept.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        let line = Line::blank().to(2).and(Tone::Plain, kept.manager.to_string()).to(14);
        page.push(line.and(Tone::Plain, format!("{}{version}", kept.name)).to(44).and(Tone::Faint, says(kept)).into());
    }
}

fn verdict(all: &[Kept]) -> String {
    let count = |mode: UpkeepMode| all.iter().filter(|kept| kept.mode == mode).count();
    let parts = [
        (count(UpkeepMode::Automatic), "automatically"),
        (count(UpkeepMode::Command), "with a command"),
        (count(UpkeepMode::ByHand), "by hand"),
        (count(UpkeepMode::Nobody), "by nobody"),
        (count(UpkeepMode::Unknown), "unknown"),
    ];
    let parts: Vec<String> =
        parts.iter().filter(|(count, _)| *count > 0).map(|(count, how)| format!("{count} {how}")).collect();
    let behind = all.iter().filter(|kept| kept.behind.is_some()).count();
    let newer = match behind {
        0 => "none is behind".to_owned(),
        1 => "1 is behind".to_owned(),
        count => format!("{count} are behind"),
    };
    match all.len() {
        0 => "no package is installed".to_owned(),
        count => format!("{}, kept current: {}; {newer}", output::count(count, "package"), parts.join(", ")),
    }
}

/// A line per installation and way.
fn by_installation(all: &[Kept], presenter: &Presenter) -> Vec<Piece> {
    let mut rows: Vec<(String, UpkeepMode, String, usize)> = Vec::new();
    for kept in all {
        let whose = match &kept.scope {
            Scope::System => kept.manager.to_string(),
            Scope::User(name) => format!("{} · {name}", kept.manager),
            Scope::Environment(dir) => format!("{} · in {}", kept.manager, presenter.path(dir)),
        };
        let how = match kept.mode {
            UpkeepMode::Automatic => {
                let when = kept.schedule.as_ref().map(|when| format!(", {when}")).unwrap_or_default();
                format!("automatically by {}{when}", kept.by.as_deref().unwrap_or("its manager"))
            }
            UpkeepMode::Command => "with a command".to_owned(),
            UpkeepMode::ByHand => "by hand".to_owned(),
            UpkeepMode::Nobody => "by nobody".to_owned(),
            UpkeepMode::Unknown => format!("unknown: {}", kept.because.as_deref().unwrap_or("not recorded")),
        };
        match rows.iter_mut().find(|row| row.0 == whose && row.2 == how) {
            Some(row) => row.3 += 1,
            None => rows.push((whose, kept.mode, how, 1)),
        }
    }
    let lines = rows.into_iter().map(|(whose, mode, how, count)| {
        let line = Line::of(Tone::Plain, format!("{count:>7}")).to(9).and(Tone::Plain, whose);
        line.to(32).and(tone_of(mode), how).into()
    });
    lines.collect()
}

/// Everything about one package.
fn in_full(kept: &Kept) -> Vec<Piece> {
    let version = kept.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let head = Line::of(Tone::Strong, kept.name.to_string()).to(2);
    let head = head.and(tone_of(kept.mode), sentence(kept));
    let fact = |label: &str, text: String| {
        Line::blank().to(2).and(Tone::Faint, label.to_owned()).to(16).and(Tone::Plain, text)
    };
    let mut lines: Vec<Piece> = vec![head.into(), fact("package", format!("{}{version}", kept.id)).into()];
    if let Some(behind) = &kept.behind {
        let newer = behind.version.as_ref().map_or_else(|| "a newer build".to_owned(), ToString::to_string);
        let source = behind.source.as_ref().map(|source| format!(" from {source}")).unwrap_or_default();
        lines.push(fact("behind", format!("{newer}{source}")).into());
    }
    if let Some(command) = &kept.command {
        lines.push(Piece::Whole(fact("to upgrade", command.clone())));
    }
    lines.extend(kept.evidence.iter().map(|at| fact("evidence", format!("{} {}: {}", at.file, at.at, at.says)).into()));
    lines
}

/// Who keeps it current, in a few words.
pub fn sentence(kept: &Kept) -> String {
    let because = kept.because.as_ref().map(|because| format!(": {because}")).unwrap_or_default();
    match kept.mode {
        UpkeepMode::Automatic => {
            let when = kept.schedule.as_ref().map(|when| format!(", {when}")).unwrap_or_default();
            format!("automatically by {}{when}", kept.by.as_deref().unwrap_or("its manager"))
        }
        UpkeepMode::Command => match &kept.command {
            Some(command) => format!("with one command: {command}"),
            None => "with one command".to_owned(),
        },
        UpkeepMode::ByHand => format!("by hand{because}"),
        UpkeepMode::Nobody => format!("by nobody{because}"),
        UpkeepMode::Unknown => format!("unknown{because}"),
    }
}
