//! `whodunit fleet changes`.

use whodunit_fleet::questions::Fleet;
use whodunit_fleet::questions::changes::{FleetChange, FleetChanges, changes};

use super::{among, cell, named, number, optional, show, strong};
use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::process;
use crate::session::{Outcome, Session};

/// New machines that are named before the rest is only counted.
const MAX_NEW: usize = 5;

/// Answers.
pub fn run(since: &str, fleet: &mut Fleet, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let zone = Session::new(global)?.host.time_zone();
    let ago = || process::now().and_then(|now| output::ago(since, now));
    let time = output::seconds(since, &zone).or_else(ago).ok_or_else(|| {
        CliError::usage(format!("--since takes a date, a time or an age, not {}", output::safe(since)))
            .with_hint("2026-11-29, 2026-11-29T01:30, 1d or 2w")
    })?;
    let answer = changes(fleet, &output::time(time))?;
    show(&answer, global, streams, true)
}

impl Shown for FleetChanges {
    type Item = FleetChange;
    const COMMAND: &'static str = "fleet changes";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[FleetChange] {
        &self.changes
    }

    fn grid(&self) -> Grid {
        let row = |one: &FleetChange| {
            let tone = match one.change.as_str() {
                "added" => Tone::Accent,
                "removed" | "down" => Tone::Warning,
                _ => Tone::Plain,
            };
            vec![
                number(one.machines),
                Cell::toned(tone, one.change.clone()),
                cell(&one.manager),
                strong(&one.name),
                optional(&one.from),
                optional(&one.to),
                among(&one.among_them, one.machines),
            ]
        };
        let columns = vec![
            Column::numbers("machines", "MACHINES"),
            Column::words("change", "CHANGE"),
            Column::words("manager", "MANAGER"),
            Column::words("name", "PACKAGE"),
            Column::words("from", "FROM"),
            Column::words("to", "TO"),
            Column::words("among_them", "AMONG THEM"),
        ];
        Grid { columns, rows: self.changes.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let since = output::safe(&self.since).replace('T', " ");
        let machines = output::count(self.compared, "machine");
        let first = match self.changes.len() {
            0 => format!("no package has changed on {machines} since {since}"),
            count => format!("{} on {} of {machines} since {since}", output::count(count, "change"), self.affected),
        };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        let mut note = |says: String| page.push(Line::of(Tone::Faint, format!("  {says}")).into());
        if !self.new_machines.is_empty() {
            let count = self.new_machines.len();
            let names = named(&self.new_machines[..count.min(MAX_NEW)], count);
            note(format!("seen for the first time since then: {names}"));
        }
        if self.not_seen > 0 {
            note(format!("not seen since then: {}", output::count(self.not_seen, "machine")));
        }
        if !self.changes.is_empty() {
            page.extend([Line::blank().into(), Piece::Table(self.grid())]);
        }
        page
    }
}
