//! The files of a dataset: where they are, and what is in them.

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::{Kind, Limit, Root};

use super::parquet::{self, Columns, Content};
use super::written::Written;
use super::{StoreError, files};
use crate::rows::{List, SnapshotRows};
use crate::tables::{CONTEXTS, Entity, SNAPSHOTS, Type};
use crate::value::{Row, Value};

/// What a name of a partition keeps of a host's name.
const KEPT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.');
/// The partition of a host without a name, as other engines write it.
const NO_NAME: &str = "__HIVE_DEFAULT_PARTITION__";

/// A directory of files, one for each table and snapshot.
pub(super) struct Partitions {
    root: Root,
    dir: ByteString,
}

/// The columns of the files of `snapshots`: those of the table, and the identity of the machine.
fn snapshot_columns() -> Vec<(&'static str, Type)> {
    [SNAPSHOTS.columns, &[("identity", Type::Text)]].concat()
}

/// The columns of the files of another table: the snapshot that has a row, and those of the table.
fn columns_of(columns: &Columns, more: &Columns) -> Vec<(&'static str, Type)> {
    [&SNAPSHOTS.columns[..1], columns, more].concat()
}

/// The columns of the files of what lists have. Members of a list that say more than what they have, say it here.
fn item_columns(entity: Entity) -> Vec<(&'static str, Type)> {
    columns_of(entity.table().columns, &entity.lists().columns[2..])
}

impl Partitions {
    /// Those in a directory.
    pub fn of(dir: ByteString) -> Self {
        Partitions { root: Root::live(), dir }
    }

    /// Where they are.
    pub fn dir(&self) -> &ByteString {
        &self.dir
    }

    /// Whether there is a directory for them, and whether there are snapshots in it.
    pub fn are_there(&self) -> (bool, bool) {
        let is_dir = |dir: &ByteString| self.root.target(dir).is_ok_and(|meta| meta.kind == Kind::Dir);
        (is_dir(&self.dir), is_dir(&path::join(&self.dir, SNAPSHOTS.name.as_bytes())))
    }

    /// Where the file of a table is for a snapshot.
    fn place_of(&self, table: &str, rows: &SnapshotRows) -> ByteString {
        let text = |column: usize| rows.snapshot[column].text().filter(|text| !text.is_empty());
        let host = text(5).map_or(NO_NAME.to_owned(), |host| utf8_percent_encode(&host, KEPT).to_string());
        let taken = text(2).map_or(NO_NAME.to_owned(), |time| time.replace([':', '-'], ""));
        let taken = utf8_percent_encode(&taken, KEPT);
        let below = format!("{table}/host={host}/taken={taken}/{:016x}.parquet", rows.number);
        path::join(&self.dir, below.as_bytes())
    }

    /// The files of the snapshots that are there as a whole.
    pub fn snapshots(&self) -> Vec<ByteString> {
        let mut found = vec![path::join(&self.dir, b"snapshots")];
        for _ in 0..3 {
            found = found
                .into_iter()
                .flat_map(|dir| {
                    let names = self.root.names_in(&dir).into_iter().map(|(name, _)| name);
                    names
                        .filter(|name| !name.starts_with(b"."))
                        .map(move |name| path::join(&dir, &name))
                        .collect::<Vec<_>>()
                })
                .collect();
        }
        found.retain(|file| file.ends_with(b".parquet"));
        found.sort_unstable();
        found
    }

    fn read(&self, file: &ByteString, columns: &Columns) -> Result<Content, StoreError> {
        let content = self
            .root
            .read(file, Limit::RECORD)
            .map_err(|error| StoreError::failed(file.to_string(), error.reason()))?;
        parquet::read(columns, content).map_err(|cause| StoreError::failed(file.to_string(), cause))
    }

    /// A snapshot without its lists, by the file of its own row.
    pub fn snapshot(&self, file: &ByteString) -> Result<SnapshotRows, StoreError> {
        let failed = |cause: String| StoreError::failed(file.to_string(), cause);
        let content = self.read(file, &snapshot_columns())?;
        let first = content.rows().map_err(failed)?.into_iter().next();
        let mut snapshot = first.ok_or_else(|| failed("it has no row".to_owned()))?;
        let identity = snapshot.pop().unwrap_or(Value::Null);
        let (number, machine) = (snapshot[0].int(), vec![snapshot[1].clone(), identity]);
        Ok(SnapshotRows { number, machine, snapshot, contexts: Vec::new(), lists: Vec::new() })
    }

    /// The sets of contexts of a snapshot.
    pub fn contexts(&self, of: &SnapshotRows) -> Result<Vec<Row>, StoreError> {
        let file = self.place_of(CONTEXTS.name, of);
        let rows = self.read(&file, &columns_of(CONTEXTS.columns, &[]))?.rows();
        let rows = rows.map_err(|cause| StoreError::failed(file.to_string(), cause))?;
        Ok(rows.into_iter().map(|mut row| row.split_off(1)).collect())
    }

    /// A list of a snapshot. Of its items only those that are not written yet.
    pub fn list(&self, of: &SnapshotRows, entity: Entity, written: &Written) -> Result<List, StoreError> {
        let number = of.snapshot[entity.column()].int();
        let (file, columns) = (self.place_of(entity.table().name, of), item_columns(entity));
        let content = self.read(&file, &columns)?;
        // First the number of the snapshot, then the item, then what a member says besides.
        let (first, width) = (1, entity.table().columns.len());
        let more = first + width..columns.len();
        let (mut items, mut members) = (Vec::new(), Vec::with_capacity(content.len()));
        let mut read = || {
            for row in 0..content.len() {
                let item = content.value(row, first)?;
                if !written.is_there(item.int()) {
                    items.push(content.row(row)?.drain(first..first + width).collect());
                }
                let mut member = vec![number.into(), item];
                for column in more.clone() {
                    member.push(content.value(row, column)?);
                }
                members.push(member);
            }
            Ok(())
        };
        read().map_err(|cause: String| StoreError::failed(file.to_string(), cause))?;
        Ok(List { entity, number, items, members })
    }

    /// Writes the files of a snapshot, that of its own row last. Whether it was not there.
    pub fn add(&self, rows: &SnapshotRows) -> Result<bool, StoreError> {
        let own = self.place_of(SNAPSHOTS.name, rows);
        if self.root.entry(&own).is_ok() {
            return Ok(false);
        }
        let write = |file: &ByteString, columns: &Columns, rows: &[Row]| {
            let content = parquet::write(columns, rows).map_err(|cause| StoreError::failed(file.to_string(), cause))?;
            files::replace(file, &content).map_err(|cause| StoreError::failed(file.to_string(), cause))
        };
        let number = [Value::from(rows.number)];
        let contexts: Vec<Row> = rows.contexts.iter().map(|row| [&number, &row[..]].concat()).collect();
        write(&self.place_of(CONTEXTS.name, rows), &columns_of(CONTEXTS.columns, &[]), &contexts)?;
        for list in &rows.lists {
            // Items and members are in the same order; what a member has besides stands behind its item.
            let pairs = list.items.iter().zip(&list.members);
            let joined: Vec<Row> = pairs.map(|(item, member)| [&number, &item[..], &member[2..]].concat()).collect();
            write(&self.place_of(list.entity.table().name, rows), &item_columns(list.entity), &joined)?;
        }
        let row = [&rows.snapshot[..], &rows.machine[1..]].concat();
        write(&own, &snapshot_columns(), &[row])?;
        Ok(true)
    }
}
