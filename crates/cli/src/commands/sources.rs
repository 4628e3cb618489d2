//! `whodunit sources`.

use std::ffi::OsString;

use clap::Args;
use whodunit_core::model::{Scope, SigningKey, SigningState};
use whodunit_core::queries::sources::{SourceInUse, Sources, sources};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// List where packages come from
///
/// Lists repositories, remotes, channels, taps and indexes: where each is configured, how it is signed, when it was
/// last refreshed, how many installed packages came from it, and which of them no other source offers. NAME is a
/// manager, or part of a source's name or address; with NAME, the packages are listed too.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit sources
  whodunit sources quay                     one source, with its keys and packages
  whodunit sources flatpak --format json")]
pub struct Arguments {
    /// Managers, or parts of names or addresses
    name: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let names = super::bytes_of(&arguments.name);
    let answer = sources(&survey, &names);
    let found = names.is_empty() || !answer.sources.is_empty();
    let listed = Listed { in_full: !names.is_empty(), now: session.now().or_else(|| newest(&answer)), answer };
    output::show(&listed, &survey, &session, global, streams, found)
}

/// A mounted disk has no clock: the newest catalogue tells the time.
fn newest(answer: &Sources) -> Option<i64> {
    answer.sources.iter().filter_map(|one| one.source.refreshed_at).max()
}

/// The answer, and how much of it is told.
#[derive(Clone, serde::Serialize)]
pub(super) struct Listed {
    #[serde(flatten)]
    answer: Sources,
    /// Whether keys and packages are listed.
    #[serde(skip)]
    in_full: bool,
    #[serde(skip)]
    now: Option<i64>,
}

impl Listed {
    /// The answer with keys and packages.
    pub(super) fn in_full(answer: Sources, now: Option<i64>) -> Self {
        Listed { in_full: true, now: now.or_else(|| newest(&answer)), answer }
    }
}

impl Shown for Listed {
    type Item = SourceInUse;
    const COMMAND: &'static str = "sources";
    const NEEDS_CLAIMS: bool = false;

    fn items(&self) -> &[SourceInUse] {
        &self.answer.sources
    }

    fn grid(&self) -> Grid {
        let row = |one: &SourceInUse| {
            let source = &one.source;
            let at = source.evidence.first();
            vec![
                Cell::toned(Tone::Strong, source.name.to_string()),
                Cell::plain(source.manager.to_string()),
                Cell::plain(source.kind.clone()),
                Cell::plain(source.scope.to_string()),
                Cell::plain(if source.enabled { "yes" } else { "no" }),
                Cell::toned(tone_of(source.signed.state), source.signed.state.word()),
                Cell::plain(source.refreshed_at.map(output::time).unwrap_or_default()),
                Cell::plain(one.installed.map(|count| count.to_string()).unwrap_or_default()),
                Cell::plain(one.orphans_without_it.len().to_string()),
                Cell::plain(source.url.as_ref().map(ToString::to_string).unwrap_or_default()),
                Cell::plain(at.map(|at| format!("{} {}", at.file, at.at)).unwrap_or_default()),
            ]
        };
        let columns = vec![
            Column::words("name", "NAME"),
            Column::words("manager", "MANAGER"),
            Column::words("kind", "KIND"),
            Column::words("scope", "SCOPE"),
            Column::words("enabled", "ENABLED"),
            Column::words("signed", "SIGNED"),
            Column::words("refreshed_at", "REFRESHED"),
            Column::numbers("installed", "INSTALLED"),
            Column::numbers("orphans_without_it", "ONLY HERE"),
            Column::words("url", "ADDRESS"),
            Column::words("configured", "CONFIGURED IN"),
        ];
        Grid { columns, rows: self.answer.sources.iter().map(row).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let all = &self.answer.sources;
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, verdict(all)).into()];
        for one in all {
            page.push(Line::blank().into());
            page.extend(self.in_lines(one, presenter));
        }
        page
    }
}

impl Listed {
    fn in_lines(&self, one: &SourceInUse, presenter: &Presenter) -> Vec<Piece> {
        let source = &one.source;
        let whose = match &source.scope {
            Scope::System => String::new(),
            Scope::User(name) => format!(" · {name}"),
            Scope::Environment(dir) => format!(" · in {}", presenter.path(dir)),
        };
        let state = if source.enabled { "" } else { " · disabled" };
        let head = Line::of(Tone::Strong, source.name.to_string()).to(2);
        let head = head.and(Tone::Faint, format!("{} {}{whose}{state}", source.manager, source.kind));
        let mut lines: Vec<Piece> = vec![head.into()];
        let fact = |label: &str, tone: Tone, text: String| -> Piece {
            Line::blank().to(2).and(Tone::Faint, label.to_owned()).to(FACTS).and(tone, text).into()
        };
        lines.extend(source.url.as_ref().map(|url| fact("address", Tone::Plain, url.to_string())));
        lines.extend(source.evidence.first().map(|at| {
            let text = format!("{} {}", presenter.path(&at.file), at.at);
            fact("configured in", Tone::Plain, text)
        }));
        lines.push(fact("signed", tone_of(source.signed.state), self.signed(one)));
        if self.in_full {
            lines.extend(source.signed.keys.iter().map(|key| fact("", Tone::Plain, self.key(key))));
        }
        lines.extend(source.refreshed_at.map(|time| fact("refreshed", Tone::Plain, output::date(time))));
        lines.push(fact("installed", Tone::Plain, installed(one)));
        if self.in_full {
            for id in &one.packages {
                let only = if one.orphans_without_it.contains(id) { "only here" } else { "" };
                let line = Line::blank().to(FACTS).and(Tone::Plain, id.to_string()).to(2).and(Tone::Faint, only);
                lines.push(line.into());
            }
        }
        lines
    }

    fn signed(&self, one: &SourceInUse) -> String {
        let signing = &one.source.signed;
        let by =
            signing.keys.iter().find(|key| key.signed).or(signing.keys.first().filter(|_| signing.keys.len() == 1));
        match (signing.state, by) {
            (SigningState::Verified, Some(key)) => {
                let until = key.expires_at.map(|time| match self.now.is_some_and(|now| time < now) {
                    true => format!(", expired on {}", output::date(time)),
                    false => format!(", until {}", output::date(time)),
                });
                let owner = key.owner.clone().unwrap_or_else(|| key.id.clone());
                format!("by {owner}{}", until.unwrap_or_default())
            }
            (SigningState::Verified, None) => "a signature is required".to_owned(),
            (SigningState::Unverified, _) => "no: what it gives is accepted without a signature".to_owned(),
            (SigningState::Unknown, _) => "unknown".to_owned(),
        }
    }

    fn key(&self, key: &SigningKey) -> String {
        let owner = key.owner.as_ref().map(|owner| format!("{owner}, ")).unwrap_or_default();
        format!("{owner}{} in {}", key.id, key.file)
    }
}

/// The column at which facts begin.
const FACTS: usize = 18;

fn installed(one: &SourceInUse) -> String {
    let Some(count) = one.installed else {
        return "unknown: the manager does not record where packages came from".to_owned();
    };
    let only = match one.orphans_without_it.len() {
        0 => String::new(),
        only if only == count && count > 1 => ", all only offered here".to_owned(),
        only => format!(", {only} only offered here"),
    };
    format!("{}{only}", output::count(count, "package"))
}

fn tone_of(state: SigningState) -> Tone {
    if state == SigningState::Unverified { Tone::Warning } else { Tone::Plain }
}

fn verdict(all: &[SourceInUse]) -> String {
    let disabled = all.iter().filter(|one| !one.source.enabled).count();
    let unsigned =
        all.iter().filter(|one| one.source.enabled && one.source.signed.state == SigningState::Unverified).count();
    let unused = all.iter().filter(|one| one.source.enabled && one.installed == Some(0)).count();
    let counts = [(disabled, "disabled"), (unsigned, "unsigned"), (unused, "unused")];
    let counts: Vec<String> =
        counts.iter().filter(|(count, _)| *count > 0).map(|(count, word)| format!("{count} {word}")).collect();
    match (all.len(), counts.is_empty()) {
        (0, _) => "no source is configured".to_owned(),
        (count, true) => output::count(count, "source"),
        (count, false) => format!("{}: {}", output::count(count, "source"), counts.join(", ")),
    }
}
