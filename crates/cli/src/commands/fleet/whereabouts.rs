//! `whodunit fleet where`.

use whodunit_fleet::questions::whereabouts::{Whereabout, Whereabouts};

use super::{optional, strong, unless_zero};
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Tone};

impl Shown for Whereabouts {
    type Item = Whereabout;
    const COMMAND: &'static str = "fleet where";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[Whereabout] {
        &self.places
    }

    fn grid(&self) -> Grid {
        let row = |one: &Whereabout| {
            let owner = match &one.id {
                Some(id) => Cell::plain(output::safe(id)),
                None => Cell { tone: Tone::Warning, ..Cell::shown("", "unowned") },
            };
            vec![
                strong(&one.machine),
                owner,
                optional(&one.version),
                optional(&one.source),
                optional(&one.runs),
                unless_zero(one.contexts),
            ]
        };
        let columns = vec![
            Column::words("machine", "MACHINE"),
            Column::words("id", "PACKAGE"),
            Column::words("version", "VERSION"),
            Column::words("source", "SOURCE"),
            Column::words("runs", "RUNS"),
            Column::numbers("contexts", "CONTEXTS"),
        ];
        Grid { columns, rows: self.places.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let machines = |wanted: &dyn Fn(&&Whereabout) -> bool| {
            let mut names: Vec<&str> = self.places.iter().filter(wanted).map(|one| one.machine.as_str()).collect();
            names.dedup();
            names.len()
        };
        let (having, other) = (machines(&|one| one.is_package), machines(&|one| !one.is_package));
        let name = output::safe(&self.name);
        let mut first = match (having, self.places.is_empty()) {
            (_, true) => format!("no machine of {} has {name}", self.of),
            (0, _) => format!("no package of {} is called {name}", output::count(self.of, "machine")),
            _ => format!("{name}: on {having} of {}", output::count(self.of, "machine")),
        };
        if other > 0 {
            first.push_str(&format!("; on {other} the name starts something else"));
        }
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        if !self.places.is_empty() {
            page.push(Line::blank().into());
            page.push(Piece::Table(self.grid()));
        }
        page
    }
}
