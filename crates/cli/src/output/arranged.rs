//! Rows and columns as they are asked for: `--columns` and `--sort`.

use std::cmp::Ordering;

use super::table::{Cell, Grid};
use crate::args::{Format, Global};
use crate::error::CliError;

/// The grid with these columns alone, and ordered by one of them, where that is asked for.
pub fn arranged(mut grid: Grid, global: &Global) -> Result<Grid, CliError> {
    if let Some(name) = &global.sort {
        let place = place_of(&grid, name)?;
        let by_number = grid.rows.iter().all(|row| row[place].text.is_empty() || number(&row[place]).is_some());
        grid.rows.sort_by(|a, b| order(&a[place], &b[place], by_number));
    }
    if !global.columns.is_empty() {
        let places = global.columns.iter().map(|name| place_of(&grid, name)).collect::<Result<Vec<_>, _>>()?;
        grid.columns = places.iter().map(|place| grid.columns[*place].clone()).collect();
        for row in &mut grid.rows {
            *row = places.iter().map(|place| row[*place].clone()).collect();
        }
    }
    Ok(grid)
}

/// Refuses what only rows have in formats that have none.
pub fn check(global: &Global) -> Result<(), CliError> {
    match global.format {
        Format::Table | Format::Csv | Format::Markdown => Ok(()),
        Format::Json | Format::Lines | Format::Sarif => {
            Err(CliError::usage("--columns and --sort arrange rows: --format table, csv or markdown"))
        }
    }
}

fn place_of(grid: &Grid, name: &str) -> Result<usize, CliError> {
    grid.columns.iter().position(|column| column.key == name).ok_or_else(|| {
        let known: Vec<&str> = grid.columns.iter().map(|column| column.key).collect();
        CliError::usage(format!("no column is called {name}")).with_hint(format!("there are {}", known.join(", ")))
    })
}

fn number(cell: &Cell) -> Option<f64> {
    cell.text.parse().ok()
}

/// Whether a text is a date, with or without a time (RFC 3339).
fn is_date(text: &str) -> bool {
    text.get(..10).is_some_and(|date| date.parse::<jiff::civil::Date>().is_ok())
}

/// Numbers and dates from the highest, words from A; what is not known comes last.
fn order(a: &Cell, b: &Cell, by_number: bool) -> Ordering {
    let known = a.text.is_empty().cmp(&b.text.is_empty());
    known.then_with(|| match (by_number, is_date(&a.text) && is_date(&b.text)) {
        (true, _) => number(b).unwrap_or(0.0).total_cmp(&number(a).unwrap_or(0.0)),
        (false, true) => b.text.cmp(&a.text),
        (false, false) => a.text.to_lowercase().cmp(&b.text.to_lowercase()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_and_dates_come_from_the_highest_words_from_a_and_nothing_last() {
        for (texts, expected) in [
            (["9", "", "10", "-1"], ["10", "9", "-1", ""]),
            (["tarn", "", "Beacon", "anchor"], ["anchor", "Beacon", "tarn", ""]),
            (
                ["2026-01-30", "", "2026-02-11T08:00:00Z", "2025-12-01"],
                ["2026-02-11T08:00:00Z", "2026-01-30", "2025-12-01", ""],
            ),
            (["2", "10", "", "tarn"], ["10", "2", "tarn", ""]),
        ] {
            let mut cells = texts.map(Cell::plain);
            let by_number = cells.iter().all(|cell| cell.text.is_empty() || number(cell).is_some());
            cells.sort_by(|a, b| order(a, b, by_number));
            assert_eq!(cells.map(|cell| cell.text), expected);
        }
    }
}
