//! Rows and columns, for terminals and for Markdown.

use std::borrow::Cow;
use std::io::{self, Write};

use tabled::builder::Builder;
use tabled::settings::object::Columns;
use tabled::settings::peaker::Priority;
use tabled::settings::{Alignment, Padding, Style, Width};

use super::text::Tone;
use super::units;

/// One column.
#[derive(Debug, Clone)]
pub struct Column {
    /// Its name in data formats.
    pub key: &'static str,
    /// Its heading for users.
    pub title: Cow<'static, str>,
    /// Whether its values are numbers, which are set to the right.
    pub number: bool,
}

impl Column {
    /// A column of words.
    pub const fn words(key: &'static str, title: &'static str) -> Self {
        Column { key, title: Cow::Borrowed(title), number: false }
    }

    /// A column of words whose heading depends on the answer.
    pub fn titled(key: &'static str, title: String) -> Self {
        Column { key, title: Cow::Owned(title), number: false }
    }

    /// A column of numbers.
    pub const fn numbers(key: &'static str, title: &'static str) -> Self {
        Column { key, title: Cow::Borrowed(title), number: true }
    }
}

/// One cell: what data formats hold, what users see, and in which tone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cell {
    /// For data formats.
    pub text: String,
    /// For users, where that differs.
    pub shown: Option<String>,
    /// How users see it.
    pub tone: Tone,
}

impl Cell {
    /// Ordinary text.
    pub fn plain(text: impl Into<String>) -> Self {
        Cell { text: text.into(), shown: None, tone: Tone::Plain }
    }

    /// Text in a tone.
    pub fn toned(tone: Tone, text: impl Into<String>) -> Self {
        Cell { text: text.into(), shown: None, tone }
    }

    /// A value, and how users see it.
    pub fn shown(text: impl Into<String>, shown: impl Into<String>) -> Self {
        Cell { text: text.into(), shown: Some(shown.into()), tone: Tone::Plain }
    }

    /// A number of bytes, which users see in KiB, MiB and GiB; nothing where it is not known.
    pub fn bytes(bytes: Option<u64>) -> Self {
        bytes.map_or_else(|| Cell::plain(""), |bytes| Cell::shown(bytes.to_string(), units::size(bytes)))
    }

    fn for_humans(&self) -> &str {
        self.shown.as_ref().unwrap_or(&self.text)
    }
}

/// Rows and columns.
#[derive(Debug, Clone, Default)]
pub struct Grid {
    pub columns: Vec<Column>,
    pub rows: Vec<Vec<Cell>>,
}

/// Writes aligned columns for a terminal.
pub fn aligned(out: &mut impl Write, grid: &Grid, width: Option<usize>, color: bool) -> io::Result<()> {
    for row in rows(grid, width, color) {
        writeln!(out, "{row}")?;
    }
    Ok(())
}

/// Aligned columns, a text for each row: the widest column is cut first until the rows fit.
pub fn rows(grid: &Grid, width: Option<usize>, color: bool) -> Vec<String> {
    let toned = |tone: Tone, text: &str| match color && tone != Tone::Plain && !text.is_empty() {
        true => format!("{}{text}{:#}", tone.style(), tone.style()),
        false => text.to_owned(),
    };
    let mut table = Builder::with_capacity(grid.rows.len() + 1, grid.columns.len());
    table.push_record(grid.columns.iter().map(|column| toned(Tone::Faint, &column.title)));
    for row in &grid.rows {
        table.push_record(row.iter().map(|cell| toned(cell.tone, cell.for_humans())));
    }
    let mut table = table.build();
    table.with(Style::empty()).with(Padding::new(0, 2, 0, 0));
    for (index, _) in grid.columns.iter().enumerate().filter(|(_, column)| column.number) {
        table.modify(Columns::one(index), Alignment::right());
    }
    table.modify(Columns::last(), Padding::zero());
    if let Some(width) = width {
        table.with(Width::truncate(width).suffix("…").priority(Priority::max(true)));
    }
    table.to_string().lines().map(|line| line.trim_end().to_owned()).collect()
}

/// A text in which Markdown sees no table, link or HTML of its own.
fn literal(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '|' | '[' => out.extend(['\\', c]),
            _ => out.push(c),
        }
    }
    out
}

/// Writes a Markdown table.
pub fn markdown(out: &mut impl Write, grid: &Grid) -> io::Result<()> {
    let mut table = Builder::with_capacity(grid.rows.len() + 1, grid.columns.len());
    table.push_record(grid.columns.iter().map(|column| &*column.title));
    for row in &grid.rows {
        table.push_record(row.iter().map(|cell| literal(cell.for_humans())));
    }
    writeln!(out, "{}", table.build().with(Style::markdown()))
}
