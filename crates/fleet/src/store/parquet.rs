//! Rows of a table as a Parquet file (*Apache Parquet*, format version 1): one row group, compressed with Snappy.

use std::sync::Arc;

use bytes::Bytes;
use parquet::basic::Compression;
use parquet::column::reader::{ColumnReader, ColumnReaderImpl};
use parquet::column::writer::ColumnWriter;
use parquet::data_type::{ByteArray, DataType};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{FileReader as _, SerializedFileReader};
use parquet::file::writer::SerializedFileWriter;
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

/// What a file has, column by column.
#[derive(Debug)]
pub(super) struct Content {
    columns: Vec<Column>,
    rows: usize,
}

#[derive(Debug)]
enum Column {
    Numbers(Vec<Option<i64>>),
    Texts(Vec<Option<ByteArray>>),
    Bytes(Vec<Option<ByteArray>>),
}

impl Column {
    fn len(&self) -> usize {
        match self {
            Column::Numbers(values) => values.len(),
            Column::Texts(values) | Column::Bytes(values) => values.len(),
        }
    }

    fn value(&self, row: usize) -> Result<Value, String> {
        let text = |bytes: &ByteArray| match std::str::from_utf8(bytes.data()) {
            Ok(text) => Ok(Value::Text(text.to_owned())),
            Err(_) => Err("it has a text that is not UTF-8".to_owned()),
        };
        match self {
            Column::Numbers(values) => Ok(values[row].into()),
            Column::Texts(values) => values[row].as_ref().map_or(Ok(Value::Null), text),
            Column::Bytes(values) => Ok(values[row].as_ref().map(|bytes| bytes.data().to_vec()).into()),
        }
    }
}

impl Content {
    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.rows
    }

    /// A value.
    pub fn value(&self, row: usize, column: usize) -> Result<Value, String> {
        self.columns[column].value(row)
    }

    /// A row.
    pub fn row(&self, row: usize) -> Result<Row, String> {
        self.columns.iter().map(|column| column.value(row)).collect()
    }

    /// All rows.
    pub fn rows(&self) -> Result<Vec<Row>, String> {
        (0..self.rows).map(|row| self.row(row)).collect()
    }
}

/// Reads a file that has these columns, in this order, and perhaps more behind them.
pub(super) fn read(columns: &Columns, content: Vec<u8>) -> Result<Content, String> {
    // The library stops a program on some files that are damaged; here they cost only themselves.
    caught(|| read_all(columns, content)).unwrap_or_else(|| Err("it is damaged".to_owned()))
}

fn read_all(columns: &Columns, content: Vec<u8>) -> Result<Content, String> {
    let told = |error: ParquetError| error.to_string();
    let reader = SerializedFileReader::new(Bytes::from(content)).map_err(told)?;
    let schema = reader.metadata().file_metadata().schema_descr();
    let fields = schema.columns();
    let is_as_ours = fields.len() >= columns.len()
        && columns.iter().zip(fields).all(|(own, its)| own.0 == its.name() && its.max_rep_level() == 0);
    if !is_as_ours {
        return Err("it has other columns than a table of snapshots".to_owned());
    }
    let empty = |(_, kind): &(&str, Type)| match kind {
        Type::Int => Column::Numbers(Vec::new()),
        Type::Text => Column::Texts(Vec::new()),
        Type::Bytes => Column::Bytes(Vec::new()),
    };
    let mut read: Vec<Column> = columns.iter().map(empty).collect();
    for group in 0..reader.num_row_groups() {
        let group = reader.get_row_group(group).map_err(told)?;
        for (place, (column, field)) in read.iter_mut().zip(fields).enumerate() {
            let there = field.max_def_level();
            match (group.get_column_reader(place).map_err(told)?, column) {
                (ColumnReader::Int64ColumnReader(from), Column::Numbers(into)) => read_column(from, there, into),
                (ColumnReader::ByteArrayColumnReader(from), Column::Texts(into) | Column::Bytes(into)) => {
                    read_column(from, there, into)
                }
                _ => return Err(format!("its column {} is of another type", field.name())),
            }
            .map_err(told)?;
        }
    }
    let rows = read.first().map_or(0, Column::len);
    if read.iter().any(|column| column.len() != rows) {
        return Err("its columns are not equally long".to_owned());
    }
    Ok(Content { columns: read, rows })
}

/// Reads a column of a row group; `there` is the level of a value that is not null.
fn read_column<T: DataType>(
    mut from: ColumnReaderImpl<T>,
    there: i16,
    into: &mut Vec<Option<T::T>>,
) -> Result<(), ParquetError> {
    loop {
        let (mut levels, mut values) = (Vec::new(), Vec::new());
        let (rows, _, _) = from.read_records(AT_ONCE, Some(&mut levels), None, &mut values)?;
        if rows == 0 {
            return Ok(());
        }
        let mut values = values.into_iter();
        if there == 0 {
            into.extend(values.map(Some));
        } else {
            into.extend(levels.iter().map(|level| if *level == there { values.next() } else { None }));
        }
    }
}

/// How many values are read at once.
const AT_ONCE: usize = 8192;

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
        let read_rows = |content: Vec<u8>| read(COLUMNS, content).and_then(|content| content.rows());
        assert_eq!(read_rows(written.clone()).unwrap(), rows);
        assert_eq!(read_rows(write(COLUMNS, &[]).unwrap()).unwrap(), Vec::<Row>::new());
        for cut in 0..written.len() {
            assert!(read_rows(written[..cut].to_vec()).is_err(), "{cut}");
        }
        // A byte that has turned costs the file, or at most what it says; never the program.
        let mut told = 0;
        for at in 0..written.len() {
            for turn in [0x01, 0x40, 0x80, 0xff] {
                let mut turned = written.clone();
                turned[at] ^= turn;
                told += usize::from(read_rows(turned).is_err());
            }
        }
        assert!(told > written.len() / 2, "{told} of {}", written.len() * 4);
        let other: &Columns = &[("number", Type::Int), ("title", Type::Text)];
        assert!(read(other, written.clone()).unwrap_err().contains("other columns"));
        let other: &Columns = &[("number", Type::Text)];
        assert!(read(other, written).unwrap_err().contains("column number is of another type"));
    }
}
