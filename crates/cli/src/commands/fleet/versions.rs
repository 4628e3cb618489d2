//! `whodunit fleet versions`.

use whodunit_fleet::questions::versions::{VersionEntry, Versions};

use super::{among, cell, number, optional, strong};
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Tone};

/// The longest bar, in columns.
const BAR: usize = 24;

impl Shown for Versions {
    type Item = VersionEntry;
    const COMMAND: &'static str = "fleet versions";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[VersionEntry] {
        &self.versions
    }

    fn grid(&self) -> Grid {
        let row = |one: &VersionEntry| {
            vec![
                strong(one.version.as_deref().unwrap_or_default()),
                cell(&one.manager),
                cell(&one.name),
                optional(&one.upstream),
                number(one.machines),
                among(&one.among_them, one.machines),
            ]
        };
        let columns = vec![
            Column::words("version", "VERSION"),
            Column::words("manager", "MANAGER"),
            Column::words("name", "PACKAGE"),
            Column::words("upstream", "UPSTREAM"),
            Column::numbers("machines", "MACHINES"),
            Column::words("among_them", "AMONG THEM"),
        ];
        Grid { columns, rows: self.versions.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let name = output::safe(&self.name);
        let first = match self.versions.len() {
            0 => format!("no machine of {} has {name}", self.of),
            count => format!(
                "{name}: {} on {} of {}, the newest first",
                output::count(count, "version"),
                self.with_it,
                output::count(self.of, "machine")
            ),
        };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        if self.versions.is_empty() {
            return page;
        }
        let most = self.versions.iter().map(|one| one.machines).max().unwrap_or(1).max(1);
        let mut grid = self.grid();
        // What upstream calls it orders the rows; a bar tells more.
        grid.columns[3] = Column::words("bar", "");
        for (row, one) in grid.rows.iter_mut().zip(&self.versions) {
            row[3] = Cell::toned(Tone::Accent, "█".repeat((one.machines * BAR).div_ceil(most)));
        }
        page.extend([Line::blank().into(), Piece::Table(grid)]);
        page
    }
}
