//! `whodunit states`.

use std::ffi::OsString;

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Change, Remedy, State, StateChanges};
use whodunit_core::queries::states::{Content, Difference, States, states, within};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::session::Outcome;
use crate::session::Session;

/// List the numbered states that package managers keep
///
/// Shows for each profile generation when it was made, whether it is current, and what it added, removed or
/// changed. NAME is the path of a profile, or the last part of it. With one number behind NAME, shows what that state
/// has; with two, what differs between them, and the command that goes to the second; `now` is the current state.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit states
  whodunit states profile 3                 what generation 3 has
  whodunit states profile now 3             what going back to it would change
  whodunit states profile --format json")]
pub struct Arguments {
    /// List only the states of these profiles; or one profile with one or two of its states
    name: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let names = super::bytes_of(&arguments.name);
    let is_number = |name: &ByteString| {
        let digits = name.strip_prefix(b"x").unwrap_or(name);
        **name == *b"now" || !digits.is_empty() && digits.iter().all(u8::is_ascii_digit)
    };
    let answer = match &names[..] {
        [name, numbers @ ..] if matches!(numbers.len(), 1 | 2) && numbers.iter().all(is_number) => {
            within(&survey, name, &numbers[0], numbers.get(1).map(|to| &**to))
        }
        _ => states(&survey, &names),
    };
    let found = names.is_empty() || !answer.states.is_empty();
    output::show(&answer, &survey, &session, global, streams, found)
}

impl Shown for States {
    type Item = State;
    const COMMAND: &'static str = "states";
    const NEEDS_CLAIMS: bool = false;

    fn items(&self) -> &[State] {
        &self.states
    }

    fn grid(&self) -> Grid {
        let row = |state: &State| {
            let joined = |names: &[ByteString]| names.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
            let changed: Vec<String> = state.changes.changed.iter().map(change).collect();
            vec![
                Cell::plain(state.manager.to_string()),
                Cell::plain(state.scope.to_string()),
                Cell::plain(state.holder.to_string()),
                Cell::plain(state.number.to_string()),
                Cell::plain(state.made_at.map(output::time).unwrap_or_default()),
                Cell::plain(state.current.to_string()),
                Cell::plain(joined(&state.changes.added)),
                Cell::plain(joined(&state.changes.removed)),
                Cell::plain(changed.join("; ")),
            ]
        };
        let columns = vec![
            Column::words("manager", "MANAGER"),
            Column::words("scope", "SCOPE"),
            Column::words("holder", "HOLDER"),
            Column::numbers("number", "NUMBER"),
            Column::words("made_at", "MADE"),
            Column::words("current", "CURRENT"),
            Column::words("added", "ADDED"),
            Column::words("removed", "REMOVED"),
            Column::words("changed", "CHANGED"),
        ];
        Grid { columns, rows: self.states.iter().map(row).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        if !self.contents.is_empty() || !self.differences.is_empty() {
            let contents = self.contents.iter().flat_map(|one| of_content(one, presenter));
            return contents.chain(self.differences.iter().flat_map(|one| of_difference(one, presenter))).collect();
        }
        let mut holders: Vec<&ByteString> = self.states.iter().map(|state| &state.holder).collect();
        holders.dedup();
        let says = match (self.states.len(), holders.len()) {
            (0, _) if self.is_selected => "no manager keeps such a state here".to_owned(),
            (0, _) => "no manager keeps numbered states here".to_owned(),
            (states, holders) => {
                format!("{} of {}", output::count(states, "state"), output::count(holders, "holder"))
            }
        };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, says).into()];
        for holder in holders {
            let of_holder = self.states.iter().filter(|state| state.holder == *holder);
            page.push(Line::blank().into());
            let of = self.states.iter().find(|state| state.holder == *holder);
            let whose = of.map(|state| format!("   {} · {}", state.manager, state.scope)).unwrap_or_default();
            page.push(Line::of(Tone::Strong, presenter.path(holder)).and(Tone::Faint, whose).into());
            page.extend(of_holder.flat_map(in_full).map(Piece::from));
        }
        page
    }
}

/// What a state has, and how to go to it.
fn of_content(one: &Content, presenter: &Presenter) -> Vec<Piece> {
    let head = format!("{} {}", presenter.path(&one.holder), one.number);
    let says = match &one.packages {
        Some(packages) => format!(": {}", output::count(packages.len(), "package")),
        None => ": it cannot be read".to_owned(),
    };
    let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, head).and(Tone::Plain, says).into()];
    for item in one.packages.iter().flatten() {
        let version = item.version.as_ref().map(ToString::to_string).unwrap_or_default();
        page.push(Line::blank().to(2).and(Tone::Plain, item.name.to_string()).to(30).and(Tone::Plain, version).into());
    }
    page.extend(one.remedies.iter().map(advice));
    page
}

/// What differs between two states, and how to go to the second.
fn of_difference(one: &Difference, presenter: &Presenter) -> Vec<Piece> {
    let count = one.changes.added.len() + one.changes.removed.len() + one.changes.changed.len();
    let says = match (one.is_known, count) {
        (false, _) => "one of them cannot be read".to_owned(),
        (true, 0) => "nothing differs".to_owned(),
        (true, count) => output::count(count, "difference"),
    };
    let head = format!("{}, from {} to {}", presenter.path(&one.holder), one.from, one.to);
    let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, head).and(Tone::Plain, format!(": {says}")).into()];
    page.extend(changes(&one.changes, 2).into_iter().map(Piece::from));
    page.extend(one.remedies.iter().map(advice));
    page
}

fn advice(remedy: &Remedy) -> Piece {
    let label = Line::blank().to(2).and(Tone::Faint, format!("to {}", remedy.purpose)).to(20);
    Piece::Whole(label.and(Tone::Accent, output::safe(&remedy.command)))
}

fn in_full(state: &State) -> Vec<Line> {
    let made = state.made_at.map(output::date).unwrap_or_default();
    let mut head = Line::of(Tone::Plain, format!("  {:>4}", state.number)).to(8).and(Tone::Plain, made).to(22);
    if state.current {
        head = head.and(Tone::Accent, "in force");
    }
    let mut lines = vec![head];
    lines.extend(changes(&state.changes, 8));
    lines
}

/// What was added, removed and changed, each in a line that begins at this column.
fn changes(all: &StateChanges, column: usize) -> Vec<Line> {
    let listed = |mark: &str, what: String| {
        Line::blank().to(column).and(Tone::Faint, mark.to_owned()).to(column + 10).and(Tone::Plain, what)
    };
    let added = all.added.iter().map(|name| listed("added", name.to_string()));
    let removed = all.removed.iter().map(|name| listed("removed", name.to_string()));
    let changed = all.changed.iter().map(|one| listed("changed", change(one)));
    added.chain(removed).chain(changed).collect()
}

fn change(change: &Change) -> String {
    let version = |version: &Option<ByteString>| version.as_ref().map_or("no version".to_owned(), ToString::to_string);
    match change.from == change.to {
        true => format!("{} {}, rebuilt", change.name, version(&change.to)),
        false => format!("{} {} → {}", change.name, version(&change.from), version(&change.to)),
    }
}
