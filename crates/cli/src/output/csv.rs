//! Comma-separated values (RFC 4180) with a header.

use std::io::{self, Write};

use super::Grid;

/// Writes the rows.
pub fn write(out: &mut impl Write, grid: &Grid) -> io::Result<()> {
    let mut writer = csv::WriterBuilder::new().from_writer(out);
    writer.write_record(grid.columns.iter().map(|column| column.key)).map_err(plain)?;
    for row in &grid.rows {
        writer.write_record(row.iter().map(|cell| &cell.text)).map_err(plain)?;
    }
    writer.flush()
}

/// The system's own error, so that a closed pipe is known as one.
fn plain(error: csv::Error) -> io::Error {
    match error.into_kind() {
        csv::ErrorKind::Io(error) => error,
        other => io::Error::other(format!("{other:?}")),
    }
}
