//! Rows of a table as a Parquet file (*Apache Parquet*, format version 1): one row group, compressed with Snappy.

use std::sync::Arc;

use bytes::Bytes;
use parquet::basic::Compression;
use parquet::column::writer::ColumnWriter;
use parquet::data_type::ByteArray;
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{FileReader as _, SerializedFileReader};
use parquet::file::writer::SerializedFileWriter;
use parquet::record::Field;
use parquet::schema::parser::parse_message_type;
use whodunit_formats::caught::caught;

use crate::tables::Type;
use crate::value::{Row, Value};

/// The columns of a file.
pub(super) type Columns = [(&'static str, Type)];

/// Writes a file. Every column may have nulls.
pub(super) fn write(columns: &Columns, rows: &[Row]) -> Result<Vec<u8>, ParquetError> {
    let field = |(name, kind): &(&str, Type)| match kind {
        Type::Int => format!("optional int64 {name};"),
        Type::Text => format!("optional binary {name} (UTF8);"),
        Type::Bytes => format!("optional binary {name};"),
    };
    let message = format!("message row {{ {} }}", columns.iter().map(field).collect::<String>());
    let schema = Arc::new(parse_message_type(&message)?);
    let properties = Arc::new(WriterProperties::builder().set_compression(Compression::SNAPPY).build());
    let mut out = Vec::new();
    let mut writer = SerializedFileWriter::new(&mut out, schema, properties)?;
    let mut group = writer.next_row_group()?;
    let mut place = 0;
    while let Some(mut column) = group.next_column()? {
        let values = || rows.iter().map(|row| &row[place]);
        let levels: Vec<i16> = values().map(|value| i16::from(*value != Value::Null)).collect();
        match column.untyped() {
            ColumnWriter::Int64ColumnWriter(writer) => {
                let numbers: Vec<i64> = values().filter(|value| **value != Value::Null).map(Value::int).collect();
                writer.write_batch(&numbers, Some(&levels), None)?;
            }
            ColumnWriter::ByteArrayColumnWriter(writer) => {
                let texts: Vec<ByteArray> = values().filter_map(bytes_of).collect();
                writer.write_batch(&texts, Some(&levels), None)?;
            }
            _ => {}
        }
        column.close()?;
        place += 1;
    }
    group.close()?;
    writer.close()?;
    Ok(out)
}

fn bytes_of(value: &Value) -> Option<ByteArray> {
    match value {
        Value::Text(text) => Some(text.as_bytes().to_vec().into()),
        Value::Bytes(bytes) => Some(bytes.clone().into()),
        Value::Null | Value::Int(_) => None,
    }
}

/// Reads a file that has these columns, in this order, and perhaps more behind them.
pub(super) fn read(columns: &Columns, content: Vec<u8>) -> Result<Vec<Row>, String> {
    // The library stops a program on some files that are damaged; here they cost only themselves.
    caught(|| read_all(columns, content)).unwrap_or_else(|| Err("it is damaged".to_owned()))
}

fn read_all(columns: &Columns, content: Vec<u8>) -> Result<Vec<Row>, String> {
    let told = |error: ParquetError| error.to_string();
    let reader = SerializedFileReader::new(Bytes::from(content)).map_err(told)?;
    let fields = reader.metadata().file_metadata().schema().get_fields();
    let is_as_ours = fields.len() >= columns.len() && columns.iter().zip(fields).all(|(own, its)| own.0 == its.name());
    if !is_as_ours {
        return Err("it has other columns than a table of snapshots".to_owned());
    }
    let mut rows = Vec::new();
    for row in reader.get_row_iter(None).map_err(told)? {
        let row = row.map_err(told)?;
        let values = row.get_column_iter().take(columns.len()).map(|(_, field)| match field {
            Field::Long(number) => Ok(Value::Int(*number)),
            Field::Str(text) => Ok(Value::Text(text.clone())),
            Field::Bytes(bytes) => Ok(Value::Bytes(bytes.data().to_vec())),
            Field::Null => Ok(Value::Null),
            other => Err(format!("it has a value of another type: {other}")),
        });
        rows.push(values.collect::<Result<Row, String>>()?);
    }
    Ok(rows)
}

#[cfg(test)]
mod tests {
    use super::*;

    const COLUMNS: &Columns = &[("number", Type::Int), ("name", Type::Text), ("key", Type::Bytes)];

    #[test]
    fn rows_are_read_as_they_were_written_and_damage_is_told() {
        let row = |number: Value, name: Option<&str>, key: &[u8]| vec![number, name.into(), key.to_vec().into()];
        let rows = vec![
            row(i64::MIN.into(), Some("tidegauge"), &[0, 0xff]),
            row(Value::Null, None, &[]),
            row(7_i64.into(), Some("ebb and flow \u{1f30a}\n"), &[1]),
        ];
        let written = write(COLUMNS, &rows).unwrap();
        assert_eq!(read(COLUMNS, written.clone()).unwrap(), rows);
        assert_eq!(read(COLUMNS, write(COLUMNS, &[]).unwrap()).unwrap(), Vec::<Row>::new());
        for cut in 0..written.len() {
            assert!(read(COLUMNS, written[..cut].to_vec()).is_err(), "{cut}");
        }
        // A byte that has turned costs the file, or at most what it says; never the program.
        let mut told = 0;
        for at in 0..written.len() {
            for turn in [0x01, 0x40, 0x80, 0xff] {
                let mut turned = written.clone();
                turned[at] ^= turn;
                told += usize::from(read(COLUMNS, turned).is_err());
            }
        }
        assert!(told > written.len() / 2, "{told} of {}", written.len() * 4);
        let other: &Columns = &[("number", Type::Int), ("title", Type::Text)];
        assert!(read(other, written).unwrap_err().contains("other columns"));
    }
}
