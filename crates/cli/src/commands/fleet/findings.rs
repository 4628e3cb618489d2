//! `whodunit fleet findings`.

use whodunit_fleet::questions::findings::{Found, FoundEntry};

use super::{among, cell, number, optional, strong};
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Tone};

impl Shown for Found {
    type Item = FoundEntry;
    const COMMAND: &'static str = "fleet findings";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[FoundEntry] {
        &self.findings
    }

    fn grid(&self) -> Grid {
        let row = |one: &FoundEntry| {
            let tone = if one.severity == "note" { Tone::Plain } else { Tone::Warning };
            vec![
                Cell::toned(tone, output::safe(&one.severity)),
                strong(&one.kind),
                cell(&one.cause),
                optional(&one.subject),
                number(one.findings),
                number(one.machines),
                among(&one.among_them, one.machines),
                optional(&one.summary),
            ]
        };
        let columns = vec![
            Column::words("severity", "SEVERITY"),
            Column::words("kind", "KIND"),
            Column::words("cause", "CAUSE"),
            Column::words("subject", "SUBJECT"),
            Column::numbers("findings", "FINDINGS"),
            Column::numbers("machines", "MACHINES"),
            Column::words("among_them", "AMONG THEM"),
            Column::words("summary", "SUMMARY"),
        ];
        Grid { columns, rows: self.findings.iter().map(row).collect() }
    }

    fn page(&self, _: &Presenter) -> Vec<Piece> {
        let of = output::count(self.of, "machine");
        let of = format!("on {} of {of}", self.affected);
        let first = match (self.of, self.findings.len(), &self.kind) {
            (0, ..) => "no snapshot has findings (whodunit snapshot save --full keeps them)".to_owned(),
            (of, 0, None) => format!("no errors and no warnings on {}", output::count(of, "machine")),
            (_, 0, Some(kind)) => format!("{kind}: {of}"),
            (_, 1, None) => format!("1 kind of finding {of}"),
            (_, count, None) => format!("{count} kinds of finding {of}"),
            (_, count, Some(kind)) => format!("{kind}: {} {of}", output::count(count, "subject")),
        };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        if self.not_asked > 0 && self.of > 0 {
            let more = output::count(self.not_asked, "more machine");
            page.push(Line::of(Tone::Faint, format!("  {more} had no findings kept (snapshot save --full)")).into());
        }
        if self.findings.is_empty() {
            return page;
        }
        let mut grid = self.grid();
        // Of one kind, kind and cause are known; of all, there is no subject.
        let left_out: &[usize] = if self.kind.is_some() { &[1, 2] } else { &[3, 7] };
        let keep = |place: usize| !left_out.contains(&place);
        grid.columns = kept(grid.columns, keep);
        grid.rows = grid.rows.into_iter().map(|row| kept(row, keep)).collect();
        page.extend([Line::blank().into(), Piece::Table(grid)]);
        page
    }
}

/// The items at some places.
fn kept<T>(items: Vec<T>, keep: impl Fn(usize) -> bool) -> Vec<T> {
    items.into_iter().enumerate().filter(|(place, _)| keep(*place)).map(|(_, item)| item).collect()
}
