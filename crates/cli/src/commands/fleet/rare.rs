//! `whodunit fleet rare`.

use whodunit_fleet::questions::rare::{Rare, RareEntry};

use super::{among, cell, counted, number, optional, strong};
use crate::output::{self, Column, Grid, Line, Piece, Presenter, Shown, Tone};

impl Shown for Rare {
    type Item = RareEntry;
    const COMMAND: &'static str = "fleet rare";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[RareEntry] {
        &self.rare
    }

    fn grid(&self) -> Grid {
        let row = |one: &RareEntry| {
            vec![
                number(one.machines),
                cell(&one.what),
                optional(&one.manager),
                strong(&one.name),
                cell(&one.versions.join(", ")),
                among(&one.among_them, one.machines),
                counted(one.usual_on),
            ]
        };
        let columns = vec![
            Column::numbers("machines", "MACHINES"),
            Column::words("what", "WHAT"),
            Column::words("manager", "MANAGER"),
            Column::words("name", "NAME"),
            Column::words("versions", "VERSIONS OR CONTENT"),
            Column::words("among_them", "AMONG THEM"),
            Column::numbers("usual_on", "USUAL ON"),
        ];
        Grid { columns, rows: self.rare.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let files = self.rare.iter().filter(|one| one.manager.is_none()).count();
        let packages = self.rare.len() - files;
        let of = output::count(self.of, "machine");
        let mut first = format!("{} on fewer than {} of {of}", output::count(packages, "package"), self.fewer_than);
        if files > 0 {
            let files = output::count(files, "unowned program");
            first.push_str(&format!("; {files} on one machine other than on the rest"));
        }
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        if !self.rare.is_empty() {
            page.extend([Line::blank().into(), Piece::Table(self.grid())]);
        }
        page
    }
}
