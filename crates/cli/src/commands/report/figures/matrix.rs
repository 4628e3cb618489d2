//! Which copy of a name wins in which context.

use plotters::prelude::*;
use plotters::style::text_anchor::HPos;
use whodunit_core::queries::across::{Across, Meaning};

use super::{Figure, Palette, SOFT, TEXT, cut, drawn, fill, write};
use crate::commands::report::table::{Field, Table};

const ROW: i32 = 26;
const NAME: i32 = 190;
const CELL: i32 = 96;
/// Names that are drawn; the table has them all.
const MAX_DRAWN: usize = 16;

/// Whose program a name starts in one context, in a word.
fn whose(meaning: &Meaning) -> String {
    match &meaning.winner {
        Some(copy) => copy.owner.as_ref().map_or_else(|| "unowned".to_owned(), |owner| owner.manager.to_string()),
        None if meaning.taken.is_some() => "shell".to_owned(),
        None => "nothing".to_owned(),
    }
}

/// The figure: a row for each name that means different programs, a column for each context.
pub fn winners(across: &Across, user: &str, palette: &Palette) -> Figure {
    let of_user = if user.is_empty() { String::new() } else { format!(" for {user}") };
    let contexts: Vec<&str> = across.contexts.iter().map(|context| context.word()).collect();
    let drawn_rows = &across.rows[..across.rows.len().min(MAX_DRAWN)];
    let height = ROW * (i32::try_from(drawn_rows.len()).unwrap_or(0) + 1) + 8;
    let svg = drawn(height.unsigned_abs(), |area| {
        for (context, left) in contexts.iter().zip((NAME..).step_by(CELL.unsigned_abs() as usize)) {
            write(area, &cut(context, CELL + 8), (left + 2, ROW / 2), TEXT, HPos::Left)?;
        }
        for (row, top) in drawn_rows.iter().zip((ROW..).step_by(ROW.unsigned_abs() as usize)) {
            write(area, &cut(&row.name.to_string(), NAME), (NAME - 8, top + ROW / 2), TEXT, HPos::Right)?;
            for (meaning, left) in row.meanings.iter().zip((NAME..).step_by(CELL.unsigned_abs() as usize)) {
                let word = whose(meaning);
                let is_nobodys = matches!(word.as_str(), "nothing" | "shell" | "unowned");
                let (ground, ink) = match (is_nobodys, word.as_str()) {
                    (true, "unowned") => (RGBColor(0x6b, 0x21, 0x21), WHITE),
                    (true, _) => (SOFT, TEXT),
                    (false, _) => (palette.color(&word), WHITE),
                };
                fill(area, (left, top + 1), (left + CELL - 2, top + ROW - 1), ground)?;
                write(area, &cut(&word, CELL - 8), (left + 6, top + ROW / 2), ink, HPos::Left)?;
            }
        }
        Ok(())
    });
    let columns: Vec<&str> = ["name"].into_iter().chain(contexts).collect();
    let of_meaning = |meaning: &Meaning| match &meaning.winner {
        Some(copy) => Field::text(format!("{} ({})", copy.path, whose(meaning))),
        None => Field::text(whose(meaning)),
    };
    let rows = across.rows.iter().map(|row| {
        [Field::text(row.name.to_string())].into_iter().chain(row.meanings.iter().map(of_meaning)).collect()
    });
    let says = match across.rows.len() {
        0 => format!("Every name starts the same program in every context{of_user}"),
        count => {
            format!("{} start different programs in different contexts{of_user}", crate::output::count(count, "name"))
        }
    };
    Figure {
        id: "winners",
        title: format!("Which copy wins in which context{of_user}"),
        says,
        svg,
        table: [Table::new("winners-table", "Winners by context", &columns, rows.collect())],
    }
}
