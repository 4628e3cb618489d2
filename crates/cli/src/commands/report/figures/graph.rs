//! The graph of what an important package holds up.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use plotters::prelude::*;
use plotters::style::text_anchor::HPos;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Package, Reason};
use whodunit_core::queries::bill::Bill;

use super::{FAINT, Figure, LINE, Palette, TEXT, WIDTH, cut, drawn, write};
use crate::commands::report::table::{Field, Table};
use crate::output;

const ROW: i32 = 26;
/// Columns that are drawn, and packages in each.
const MAX_COLUMNS: usize = HEADS.len();
/// What the columns are.
const HEADS: [&str; 4] = ["", "need it", "need one of those", "further up"];
const MAX_ROWS: usize = 14;
/// As many of those that the most others need are looked at.
const CANDIDATES: usize = 60;

/// Package → those that cannot do without it.
type Dependents<'b> = BTreeMap<&'b ByteString, Vec<&'b ByteString>>;

/// Package → the fewest steps from the one at the bottom up to it.
type Steps<'b> = BTreeMap<&'b ByteString, usize>;

/// The package below the most others, and how many steps each of these stands above it. What more than half of all
/// packages rest on is the system itself, and left out: no figure could show it.
fn important<'b>(bill: &'b Bill, dependents: &Dependents<'b>) -> Option<(&'b ByteString, Steps<'b>)> {
    let mut candidates: Vec<&ByteString> = dependents.keys().copied().collect();
    candidates.sort_by(|a, b| dependents[b].len().cmp(&dependents[a].len()).then_with(|| a.cmp(b)));
    let resting = candidates.into_iter().take(CANDIDATES).map(|id| (id, above(id, dependents)));
    let fitting = resting.filter(|(_, above)| above.len() * 2 <= bill.packages.len());
    fitting.max_by(|(a, above_a), (b, above_b)| above_a.len().cmp(&above_b.len()).then_with(|| b.cmp(a)))
}

/// The fewest steps from a package up to each that needs it, directly or through others.
fn above<'b>(id: &'b ByteString, dependents: &Dependents<'b>) -> Steps<'b> {
    let mut found: Steps<'_> = BTreeMap::new();
    let mut row = vec![id];
    for steps in 1.. {
        let mut next = Vec::new();
        for one in row.iter().flat_map(|one| dependents.get(one)).flatten() {
            if *one != id && !found.contains_key(one) {
                found.insert(one, steps);
                next.push(*one);
            }
        }
        if next.is_empty() {
            break;
        }
        row = next;
    }
    found
}

/// What is drawn.
struct Graph<'b> {
    bill: &'b Bill,
    packages: BTreeMap<&'b ByteString, &'b Package>,
    columns: Vec<Vec<&'b ByteString>>,
}

impl<'b> Graph<'b> {
    /// The packages by their steps above the first one. Those that are shown come first in each column: they need one that
    /// is shown in the column before, were asked for, or have the most resting on them. They stand as what they need does.
    fn new(bill: &'b Bill, id: &'b ByteString, steps: &Steps<'b>, dependents: &Dependents<'b>) -> Self {
        let packages = bill.packages.iter().map(|one| (&one.id, one)).collect();
        let mut graph = Graph { bill, packages, columns: vec![vec![id]] };
        for (id, step) in steps {
            let column = (*step).min(MAX_COLUMNS - 1);
            graph.columns.resize_with(graph.columns.len().max(column + 1), Vec::new);
            graph.columns[column].push(id);
        }
        let mut places: BTreeMap<&ByteString, usize> = BTreeMap::from([(id, 0)]);
        let mut columns = std::mem::take(&mut graph.columns);
        for column in &mut columns[1..] {
            // The middle of what it needs in the column before.
            let middle = |id: &ByteString| {
                let needs = bill.needs.get(id).into_iter().flatten();
                let at: Vec<usize> = needs.filter_map(|one| places.get(one)).copied().collect();
                (!at.is_empty()).then(|| at.iter().sum::<usize>() * 100 / at.len())
            };
            column.sort_by_cached_key(|id| {
                let weight = dependents.get(*id).map_or(0, Vec::len);
                (middle(id).is_none(), !graph.is_asked_for(id), Reverse(weight), *id)
            });
            let shown = column.len().min(MAX_ROWS);
            column[..shown].sort_by_cached_key(|id| (middle(id).unwrap_or(usize::MAX), *id));
            places = column[..shown].iter().copied().zip(0..).collect();
        }
        graph.columns = columns;
        graph
    }

    fn name(&self, id: &ByteString) -> String {
        output::safe(&self.packages.get(id).map_or_else(|| id.to_string(), |one| one.name.to_string()))
    }

    fn is_asked_for(&self, id: &ByteString) -> bool {
        self.packages.get(id).is_some_and(|one| one.reason == Reason::Explicit)
    }

    /// A line from each package to what it needs, and above them the names.
    fn svg(&self, palette: &Palette) -> String {
        let longest = self.columns.iter().map(|column| column.len().min(MAX_ROWS + 1)).max().unwrap_or(1);
        let height = ROW * i32::try_from(longest + 1).unwrap_or(2) + 8;
        let width = WIDTH.cast_signed() / i32::try_from(self.columns.len().max(2)).unwrap_or(2);
        let lefts = (12..).step_by(width.unsigned_abs() as usize);
        let mut places: BTreeMap<&ByteString, (i32, i32)> = BTreeMap::new();
        for (column, left) in self.columns.iter().zip(lefts.clone()) {
            let shown = column.len().min(MAX_ROWS + 1);
            let top = (height + ROW - ROW * i32::try_from(shown).unwrap_or(1)) / 2;
            for (id, top) in column.iter().take(MAX_ROWS).zip((top..).step_by(ROW.unsigned_abs() as usize)) {
                places.insert(id, (left, top + ROW / 2));
            }
        }
        let name_width = |id: &ByteString| 18 + 7 * i32::try_from(self.name(id).chars().count()).unwrap_or(0);
        drawn(height.unsigned_abs(), |area| {
            for (id, to) in &places {
                for needed in self.bill.needs.get(*id).into_iter().flatten() {
                    let Some(from) = places.get(needed).filter(|from| from.0 < to.0) else { continue };
                    let start = (from.0 + name_width(needed).min(width - 30), from.1);
                    area.draw(&PathElement::new(vec![start, (to.0 - 8, to.1)], LINE.stroke_width(1)))?;
                }
            }
            for (id, (left, top)) in &places {
                let manager = self.packages.get(*id).map_or("", |one| one.manager.0);
                area.draw(&Circle::new((*left, *top), 5, palette.color(manager).filled()))?;
                let color = if self.is_asked_for(id) { TEXT } else { FAINT };
                write(area, &cut(&self.name(id), width - 40), (left + 10, *top), color, HPos::Left)?;
            }
            for ((column, head), left) in self.columns.iter().zip(HEADS).zip(lefts) {
                write(area, head, (left + 10, ROW / 2), FAINT, HPos::Left)?;
                if let Some(more) = column.len().checked_sub(MAX_ROWS).filter(|more| *more > 0) {
                    let says = format!("and {more} more, in the table");
                    write(area, &says, (left + 10, height - 4 - ROW / 2), FAINT, HPos::Left)?;
                }
            }
            Ok(())
        })
    }
}

/// The figure: the package on the left, then what needs it, what needs that, and so on.
pub fn holds_up(bill: &Bill, palette: &Palette) -> Figure {
    let mut dependents: Dependents<'_> = BTreeMap::new();
    for (package, needs) in &bill.needs {
        needs.iter().for_each(|needed| dependents.entry(needed).or_default().push(package));
    }
    let figure = |title: String, says: String, svg: String, rows: Vec<Vec<Field>>| {
        let columns = ["package", "#steps", "needs of these", "asked for"];
        let table = Table::new("holds-up-table", &title, &columns, rows);
        Figure { id: "holds-up", title, says, svg, table: [table] }
    };
    let Some((id, steps)) = important(bill, &dependents) else {
        let says = match dependents.is_empty() {
            true => "No package is recorded to need another",
            false => "What is needed here holds up more than half of all packages",
        };
        return figure("What an important package holds up".to_owned(), says.to_owned(), String::new(), Vec::new());
    };
    let graph = Graph::new(bill, id, &steps, &dependents);
    let row = |(above, steps_up): (&&ByteString, &usize)| {
        let needs = bill.needs.get(*above).into_iter().flatten();
        let needs: Vec<String> =
            needs.filter(|one| *one == id || steps.contains_key(one)).map(|one| graph.name(one)).collect();
        let asked = Field::yes(graph.is_asked_for(above));
        vec![Field::text(above.to_string()), Field::count(*steps_up), Field::text(needs.join(", ")), asked]
    };
    let asked = steps.keys().filter(|id| graph.is_asked_for(id)).count();
    let says = format!(
        "{} on it, {asked} asked for (dark); what more than half of all packages rest on is left out",
        if steps.len() == 1 { "1 package rests".to_owned() } else { format!("{} packages rest", steps.len()) },
    );
    let title = format!("What {} holds up", graph.name(id));
    figure(title, says, graph.svg(palette), steps.iter().map(row).collect())
}
