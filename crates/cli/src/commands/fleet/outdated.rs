//! `whodunit fleet outdated`.

use whodunit_fleet::questions::outdated::{Outdated, OutdatedEntry};

use super::{among, cell, number, optional, strong, unless_zero};
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Tone};

impl Shown for Outdated {
    type Item = OutdatedEntry;
    const COMMAND: &'static str = "fleet outdated";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[OutdatedEntry] {
        &self.outdated
    }

    fn grid(&self) -> Grid {
        let row = |one: &OutdatedEntry| {
            vec![
                number(one.machines),
                cell(&one.manager),
                strong(&one.name),
                cell(&one.versions.join(", ")),
                Cell::toned(Tone::Accent, output::safe(&one.newest)),
                optional(&one.source),
                unless_zero(one.held),
                among(&one.among_them, one.machines),
            ]
        };
        let columns = vec![
            Column::numbers("machines", "MACHINES"),
            Column::words("manager", "MANAGER"),
            Column::words("name", "PACKAGE"),
            Column::words("versions", "INSTALLED"),
            Column::words("newest", "OFFERED"),
            Column::words("source", "SOURCE"),
            Column::numbers("held", "HELD"),
            Column::words("among_them", "AMONG THEM"),
        ];
        Grid { columns, rows: self.outdated.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let machines = output::count(self.of, "machine");
        let first = match (self.of, self.outdated.len()) {
            (0, _) => "no snapshot says what is newer (whodunit snapshot save --full keeps it)".to_owned(),
            (_, 0) => format!("{machines}: nothing is behind what the sources offer"),
            (_, count) => format!("{} behind on {} of {machines}", output::count(count, "package"), self.affected),
        };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        if self.not_asked > 0 && self.of > 0 {
            let more = output::count(self.not_asked, "more machine");
            page.push(Line::of(Tone::Faint, format!("  of {more} it is not known (snapshot save --full)")).into());
        }
        if !self.outdated.is_empty() {
            page.extend([Line::blank().into(), Piece::Table(self.grid())]);
        }
        page
    }
}
