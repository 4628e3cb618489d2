//! Figures of bars: changes by month, ages of catalogues, what the most needs.

use std::collections::BTreeMap;

use plotters::style::text_anchor::HPos;
use whodunit_core::model::Event;
use whodunit_core::queries::bill::Bill;
use whodunit_core::queries::sources::Sources;

use super::{COLORS, FAINT, Figure, TEXT, WIDTH, cut, drawn, fill, write};
use crate::commands::report::table::{Field, Table};
use crate::output;

const ROW: i32 = 24;
const NAME: i32 = 260;
const MAX_BARS: usize = 18;

/// Bars, one below the other: each with its name, its length and what stands behind it.
fn bars(rows: &[(String, u64, String)]) -> String {
    let shown = &rows[..rows.len().min(MAX_BARS)];
    let longest = shown.iter().map(|(_, length, _)| *length).max().unwrap_or(1).max(1);
    let room = u64::from(WIDTH) - 260 - 170;
    let height = ROW * i32::try_from(shown.len()).unwrap_or(0) + 8;
    drawn(height.unsigned_abs(), |area| {
        for ((name, length, says), top) in shown.iter().zip((4..).step_by(ROW.unsigned_abs() as usize)) {
            let width = i32::try_from(length.saturating_mul(room) / longest).unwrap_or(0).max(1);
            write(area, &cut(name, NAME), (NAME - 10, top + ROW / 2), TEXT, HPos::Right)?;
            fill(area, (NAME, top + 3), (NAME + width, top + ROW - 3), COLORS[0])?;
            write(area, says, (NAME + width + 8, top + ROW / 2), FAINT, HPos::Left)?;
        }
        Ok(())
    })
}

/// A figure of counts, the first of them at the top.
pub fn counts(id: &'static str, title: &str, says: String, columns: &[&str; 2], counts: Vec<(String, u64)>) -> Figure {
    let table = counts.iter().map(|(name, count)| vec![Field::text(name), Field::number(*count)]).collect();
    let rows: Vec<(String, u64, String)> =
        counts.into_iter().map(|(name, count)| (name, count, count.to_string())).collect();
    let table = Table::new(&format!("{id}-table"), title, columns, table);
    Figure { id, title: title.to_owned(), says, svg: bars(&rows), table: [table] }
}

/// What was installed, upgraded and removed, month by month.
pub fn changes(events: &[Event]) -> Figure {
    let mut months: BTreeMap<String, u64> = BTreeMap::new();
    for event in events {
        if let Some(at) = event.at {
            *months.entry(output::date(at).chars().take(7).collect()).or_default() += 1;
        }
    }
    let rows: Vec<(String, u64)> = months.into_iter().rev().collect();
    let says = match rows.first() {
        None => "No manager keeps a log here".to_owned(),
        Some((month, count)) => {
            format!(
                "{} in {month}, the last month with any",
                output::count(usize::try_from(*count).unwrap_or(0), "change")
            )
        }
    };
    counts("changes", "Changes by month", says, &["month", "#changes"], rows)
}

/// How old each source's catalogue is.
pub fn ages(sources: &Sources, now: Option<i64>) -> Figure {
    const DAY: i64 = 86_400;
    let newest = now.or_else(|| sources.sources.iter().filter_map(|one| one.source.refreshed_at).max());
    let mut rows: Vec<(String, u64, String)> = sources
        .sources
        .iter()
        .filter_map(|one| {
            let days = u64::try_from((newest? - one.source.refreshed_at?) / DAY).unwrap_or(0);
            let name = format!("{} {}", one.source.manager, one.source.name);
            Some((name, days, output::count(usize::try_from(days).unwrap_or(0), "day")))
        })
        .collect();
    rows.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    let says = match rows.first() {
        None => "It is not known when a catalogue was fetched".to_owned(),
        Some((name, _, days)) => format!("The oldest is that of {name}, {days}"),
    };
    let table = rows.iter().map(|(name, days, _)| vec![Field::text(name), Field::number(*days)]).collect();
    Figure {
        id: "ages",
        title: "Age of the catalogues".to_owned(),
        says,
        svg: bars(&rows),
        table: [Table::new("ages-table", "Age of the catalogues", &["source", "#days"], table)],
    }
}

/// The packages that the most others need.
pub fn needed(bill: &Bill) -> Figure {
    let mut of_each: BTreeMap<String, u64> = BTreeMap::new();
    for needed in bill.needs.values().flatten() {
        *of_each.entry(needed.to_string()).or_default() += 1;
    }
    let mut rows: Vec<(String, u64)> = of_each.into_iter().collect();
    rows.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    rows.truncate(50);
    let says = match rows.first() {
        None => "No package is recorded to need another".to_owned(),
        Some((id, count)) => {
            format!("{id} is needed by {}", output::count(usize::try_from(*count).unwrap_or(0), "package"))
        }
    };
    counts("needed", "What holds up the most", says, &["package", "#needed by"], rows)
}
