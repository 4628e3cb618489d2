//! `whodunit timeline`.

use std::ffi::OsString;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Action, Event, ManagerId, Scope};
use whodunit_core::queries::timeline::{Span, Timeline, timeline};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::{Outcome, Session};

/// Show what was installed, upgraded and removed, by all package managers
///
/// Merges the managers' own logs: when, by which command, for whom. Managers that keep numbered states are told by these.
/// Of managers that keep no log, only the times of their records are known, and nothing of what is gone. With --user, only
/// what that user asked for, or has in the own home.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit timeline --since 2026-11-01
  whodunit timeline tidegauge               everything that was done to one package
  whodunit timeline --manager dpkg --until 2026-11-01T12:00 --format json")]
pub struct Arguments {
    /// Show only what was done to these packages
    name: Vec<OsString>,

    /// Show only what was done from then on: a date, a date with a time, or RFC 3339
    #[arg(long, value_name = "TIME")]
    since: Option<String>,

    /// Show only what was done before then
    #[arg(long, value_name = "TIME")]
    until: Option<String>,

    /// Show only what this manager did (repeatable)
    #[arg(long, value_name = "NAME", value_parser = super::manager)]
    manager: Vec<ManagerId>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let zone = session.host.time_zone();
    let time = |option: &str, text: &Option<String>| {
        let read = text.as_ref().map(|text| output::seconds(text, &zone).ok_or(text));
        read.transpose().map_err(|text| {
            CliError::usage(format!("{option} takes a date or a time, not {text}"))
                .with_hint("2026-11-29, 2026-11-29T01:30 or 2026-11-29T01:30:00Z")
        })
    };
    let span = Span {
        names: super::bytes_of(&arguments.name),
        since: time("--since", &arguments.since)?,
        until: time("--until", &arguments.until)?,
        managers: arguments.manager.clone(),
        users: super::bytes_of(&global.user),
    };
    let answer = timeline(&survey, &span);
    let found = span.names.is_empty() || !answer.events.is_empty();
    output::show(&answer, &survey, &session, global, streams, found)
}

/// Names of one transaction that are shown before the rest is only counted.
const MAX_NAMES: usize = 12;

impl Shown for Timeline {
    type Item = Event;
    const COMMAND: &'static str = "timeline";
    const NEEDS_CLAIMS: bool = false;

    fn items(&self) -> &[Event] {
        &self.events
    }

    fn grid(&self) -> Grid {
        let row = |one: &Event| {
            let version = |text: &Option<ByteString>| text.as_ref().map(ToString::to_string).unwrap_or_default();
            vec![
                Cell::plain(one.at.map(output::time).unwrap_or_default()),
                Cell::plain(one.manager.to_string()),
                Cell::plain(one.scope.to_string()),
                Cell::plain(one.action.word()),
                Cell::toned(Tone::Strong, one.name.to_string()),
                Cell::plain(version(&one.from)),
                Cell::plain(version(&one.to)),
                Cell::plain(one.by.clone().unwrap_or_default()),
                Cell::plain(one.command.clone().unwrap_or_default()),
            ]
        };
        let columns = vec![
            Column::words("at", "WHEN"),
            Column::words("manager", "MANAGER"),
            Column::words("scope", "SCOPE"),
            Column::words("action", "ACTION"),
            Column::words("name", "NAME"),
            Column::words("from", "FROM"),
            Column::words("to", "TO"),
            Column::words("by", "BY"),
            Column::words("command", "COMMAND"),
        ];
        Grid { columns, rows: self.events.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let first = match self.events.as_slice() {
            [] => "no manager's log tells of anything like that".to_owned(),
            events => {
                let day = |event: Option<&Event>| event.and_then(|event| event.at).map(output::date);
                let (from, to) = (day(events.iter().find(|event| event.at.is_some())), day(events.last()));
                let span = match (from, to) {
                    (Some(from), Some(to)) if from == to => format!(" on {from}"),
                    (Some(from), Some(to)) => format!(" from {from} to {to}"),
                    _ => String::new(),
                };
                format!("{}{span}", output::count(events.len(), "event"))
            }
        };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        for together in self.events.chunk_by(Event::is_together_with) {
            page.push(Line::blank().into());
            page.extend(transaction(together));
        }
        if !self.without_log.is_empty() {
            let names = self.without_log.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            page.push(Line::blank().into());
            page.push(Piece::Paragraph {
                column: 0,
                label: Line::blank(),
                tone: Tone::Faint,
                text: format!("no log is kept by {names}: only the times of what is installed are known"),
            });
        }
        page
    }
}

/// Who did something: the manager, for whom, and who asked for it.
pub(super) fn who(manager: ManagerId, scope: &Scope, by: Option<&str>) -> String {
    let whose = match scope {
        Scope::System => manager.to_string(),
        scope => format!("{manager} · {scope}"),
    };
    let by = by.map(|by| format!(", asked for by {}", output::safe(by))).unwrap_or_default();
    whose + &by
}

/// The lines of what was done at once.
fn transaction(events: &[Event]) -> Vec<Piece> {
    let one = &events[0];
    let when = one.at.map_or_else(|| "at an unknown time".to_owned(), output::time);
    let mut head =
        Line::of(Tone::Strong, when).to(22).and(Tone::Plain, who(one.manager, &one.scope, one.by.as_deref()));
    if one.out_of_order {
        head = head.and(
            Tone::Warning,
            "  (the log has this behind later entries: the clock was set back, or the log is mixed up)",
        );
    }
    let mut lines: Vec<Piece> = vec![head.into()];
    lines.extend(one.command.as_ref().map(|command| Line::blank().to(2).and(Tone::Faint, command.clone()).into()));
    for action in
        [Action::Install, Action::Upgrade, Action::Downgrade, Action::Remove, Action::Configure, Action::Switch]
    {
        let of_action: Vec<&Event> = events.iter().filter(|event| event.action == action).collect();
        if of_action.is_empty() {
            continue;
        }
        let mut names: Vec<String> = of_action.iter().take(MAX_NAMES).map(|event| shown(event)).collect();
        if of_action.len() > MAX_NAMES {
            names.push(format!("and {} more", of_action.len() - MAX_NAMES));
        }
        let word = match action {
            Action::Configure => "purge",
            other => other.word(),
        };
        let label = Line::blank().to(2).and(Tone::Plain, word);
        lines.push(Piece::Paragraph { column: 13, label, tone: Tone::Plain, text: names.join(", ") });
    }
    lines
}

/// A package with its versions.
fn shown(event: &Event) -> String {
    match (&event.from, &event.to) {
        (Some(from), Some(to)) if from != to => format!("{} {from} → {to}", event.name),
        (_, Some(version)) | (Some(version), None) => format!("{} {version}", event.name),
        (None, None) => event.name.to_string(),
    }
}
