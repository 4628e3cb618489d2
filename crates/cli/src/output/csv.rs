//! Comma-separated values (RFC 4180) with a header.

use std::io::{self, Write};

use super::Grid;

/// Writes the rows.
pub fn write(out: &mut impl Write, grid: &Grid) -> io::Result<()> {
    let mut writer = csv::WriterBuilder::new().from_writer(out);
    writer.write_record(grid.columns.iter().map(|column| column.key))?;
    for row in &grid.rows {
        writer.write_record(row.iter().map(|cell| &cell.text))?;
    }
    writer.flush()
}
