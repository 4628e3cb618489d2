//! Comma-separated values (RFC 4180) with a header.

use std::borrow::Cow;
use std::io::{self, Write};

use super::Grid;

/// Writes the rows.
pub fn write(out: &mut impl Write, grid: &Grid) -> io::Result<()> {
    let mut writer = csv::WriterBuilder::new().from_writer(out);
    writer.write_record(grid.columns.iter().map(|column| column.key)).map_err(plain)?;
    for row in &grid.rows {
        writer.write_record(row.iter().map(|cell| as_text(&cell.text))).map_err(plain)?;
    }
    writer.flush()
}

/// A text that no spreadsheet takes for a formula: names and versions are strangers'.
fn as_text(text: &str) -> Cow<'_, [u8]> {
    match text.starts_with(['=', '+', '-', '@']) {
        true => Cow::Owned(format!("'{text}").into_bytes()),
        false => Cow::Borrowed(text.as_bytes()),
    }
}

/// The system's own error, so that a closed pipe is known as one.
fn plain(error: csv::Error) -> io::Error {
    match error.into_kind() {
        csv::ErrorKind::Io(error) => error,
        other => io::Error::other(format!("{other:?}")),
    }
}
