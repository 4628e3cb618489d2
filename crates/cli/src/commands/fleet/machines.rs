//! `whodunit fleet machines`.

use whodunit_fleet::questions::machines::{MachineEntry, Machines};

use super::{cell, counted, number, optional, strong};
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Tone};

impl Shown for Machines {
    type Item = MachineEntry;
    const COMMAND: &'static str = "fleet machines";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[MachineEntry] {
        &self.machines
    }

    fn grid(&self) -> Grid {
        let row = |one: &MachineEntry| {
            vec![
                strong(&one.machine),
                optional(&one.system),
                optional(&one.taken_at),
                number(one.packages),
                counted(one.errors),
                counted(one.warnings),
                counted(one.outdated),
                number(one.losses),
                number(one.snapshots),
                cell(&one.identity),
                cell(&one.also_called.join(", ")),
            ]
        };
        let columns = vec![
            Column::words("machine", "MACHINE"),
            Column::words("system", "SYSTEM"),
            Column::words("taken_at", "LAST SEEN"),
            Column::numbers("packages", "PACKAGES"),
            Column::numbers("errors", "ERRORS"),
            Column::numbers("warnings", "WARNINGS"),
            Column::numbers("outdated", "OUTDATED"),
            Column::numbers("losses", "UNREAD"),
            Column::numbers("snapshots", "SNAPSHOTS"),
            Column::words("identity", "IDENTITY"),
            Column::words("also_called", "ALSO CALLED"),
        ];
        Grid { columns, rows: self.machines.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let snapshots = self.machines.iter().map(|one| one.snapshots).sum();
        let first = match self.machines.len() {
            0 => "no snapshot has been loaded (whodunit fleet load does it)".to_owned(),
            count => format!("{}, {}", output::count(count, "machine"), output::count(snapshots, "snapshot")),
        };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        if !self.machines.is_empty() {
            let mut grid = self.grid();
            // The identity is for machines.
            grid.columns.truncate(9);
            for (row, one) in grid.rows.iter_mut().zip(&self.machines) {
                row.truncate(9);
                row[2] = Cell::plain(output::safe(one.taken_at.as_deref().unwrap_or("never")).replace('T', " "));
            }
            page.push(Line::blank().into());
            page.push(Piece::Table(grid));
        }
        let notes: Vec<Piece> = self.machines.iter().flat_map(notes).map(Piece::from).collect();
        if !notes.is_empty() {
            page.push(Line::blank().into());
            page.extend(notes);
        }
        page
    }
}

/// What is odd about a machine.
fn notes(one: &MachineEntry) -> Vec<Line> {
    let note = |says: String| Line::of(Tone::Warning, format!("{}: {says}", output::safe(&one.machine)));
    let mut notes = Vec::new();
    if !one.also_called.is_empty() {
        let names = output::safe(&one.also_called.join(", "));
        notes.push(note(format!("snapshots with the same machine id are called {names}: renamed, or copied")));
    }
    if one.clock_is_ahead {
        notes.push(note("its clock was ahead when the last snapshot was taken".to_owned()));
    }
    notes
}
