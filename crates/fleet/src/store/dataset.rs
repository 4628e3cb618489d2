//! A store as a dataset of Parquet files, which other engines read in place.
//!
//! `TABLE/host=HOST/taken=TIME/NUMBER.parquet`: one file for each table and snapshot. The row of `snapshots` is written
//! last, so that a snapshot that is not there as a whole does not count. The questions are asked of an SQLite database
//! that is filled from the files.

use std::cell::OnceCell;

use hashbrown::HashSet;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::{Kind, Limit, Root};

use super::parquet::{self, Columns};
use super::{Purpose, SqliteStore, Store, StoreError, files};
use crate::rows::{List, SnapshotRows};
use crate::tables::{CONTEXTS, Entity, SNAPSHOTS, Type};
use crate::value::{Row, Value};

/// What a name of a partition keeps of a host's name.
const KEPT: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.');
/// The partition of a host without a name, as other engines write it.
const NO_NAME: &str = "__HIVE_DEFAULT_PARTITION__";
/// The first column of `snapshots` that names a list.
const FIRST_LIST: usize = 11;
/// How many snapshots are read at once.
const BATCH: usize = 8;

/// A directory.
pub struct Dataset {
    root: Root,
    dir: ByteString,
    /// The same in a database, once it was asked.
    database: Option<SqliteStore>,
    /// What was loaded before.
    digests: OnceCell<HashSet<String>>,
}

/// Whether a store is meant by a directory.
#[must_use]
pub fn is_dataset(place: &str) -> bool {
    let is_dir = || Root::live().target(place.as_bytes()).is_ok_and(|meta| meta.kind == Kind::Dir);
    place.ends_with('/') || is_dir()
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

impl Dataset {
    /// Opens a directory, which is made when something is added.
    ///
    /// # Errors
    /// When it is to be asked and there is none, or it has no snapshots.
    pub fn open(place: &str, purpose: Purpose) -> Result<Self, StoreError> {
        let dir = ByteString::from(place.trim_end_matches('/'));
        let root = Root::live();
        let is_there = |dir: &ByteString| root.target(dir).is_ok_and(|meta| meta.kind == Kind::Dir);
        if purpose == Purpose::Ask && !is_there(&path::join(&dir, SNAPSHOTS.name.as_bytes())) {
            let place = dir.to_string();
            return Err(if is_there(&dir) { StoreError::Foreign { place } } else { StoreError::Missing { place } });
        }
        Ok(Dataset { root, dir, database: None, digests: OnceCell::new() })
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
    fn snapshots(&self) -> Vec<ByteString> {
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

    fn read(&self, file: &ByteString, columns: &Columns) -> Result<Vec<Row>, StoreError> {
        let content = self
            .root
            .read(file, Limit::RECORD)
            .map_err(|error| StoreError::failed(file.to_string(), error.reason()))?;
        parquet::read(columns, content).map_err(|cause| StoreError::failed(file.to_string(), cause))
    }

    /// A snapshot, by the file of its own row.
    fn snapshot(&self, file: &ByteString) -> Result<SnapshotRows, StoreError> {
        let one = self.read(file, &snapshot_columns())?.into_iter().next();
        let mut snapshot = one.ok_or_else(|| StoreError::failed(file.to_string(), "it has no row"))?;
        let identity = snapshot.pop().unwrap_or(Value::Null);
        let machine = vec![snapshot[1].clone(), identity];
        let number = snapshot[0].int();
        let mut rows = SnapshotRows { number, machine, snapshot, contexts: Vec::new(), lists: Vec::new() };
        let without_snapshot = |mut row: Row| row.split_off(1);
        let contexts = self.read(&self.place_of(CONTEXTS.name, &rows), &columns_of(CONTEXTS.columns, &[]))?;
        rows.contexts = contexts.into_iter().map(without_snapshot).collect();
        for (entity, column) in Entity::ALL.into_iter().zip(FIRST_LIST..) {
            let Value::Int(number) = rows.snapshot[column] else { continue };
            let items = self.read(&self.place_of(entity.table().name, &rows), &item_columns(entity))?;
            let mut items: Vec<Row> = items.into_iter().map(without_snapshot).collect();
            let width = entity.table().columns.len();
            let member = |row: &mut Row| {
                let more = row.split_off(width);
                [vec![number.into(), row[0].clone()], more].concat()
            };
            let members = items.iter_mut().map(member).collect();
            rows.lists.push(List { entity, number, items, members });
        }
        Ok(rows)
    }

    /// The database that is asked.
    fn database(&mut self) -> Result<&mut SqliteStore, StoreError> {
        if self.database.is_none() {
            let mut database = SqliteStore::temporary()?;
            for some in self.snapshots().chunks(BATCH) {
                let rows = some.iter().map(|file| self.snapshot(file)).collect::<Result<Vec<_>, _>>()?;
                database.add(&rows)?;
            }
            database.summarize()?;
            self.database = Some(database);
        }
        self.database.as_mut().ok_or_else(|| StoreError::Missing { place: self.dir.to_string() })
    }

    fn add_one(&self, rows: &SnapshotRows) -> Result<bool, StoreError> {
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

impl Store for Dataset {
    fn ask(&mut self, sql: &str, parameters: &[Value]) -> Result<Vec<Row>, StoreError> {
        self.database()?.ask(sql, parameters)
    }

    fn known_files(&mut self, digests: &[String]) -> Result<HashSet<String>, StoreError> {
        if self.digests.get().is_none() {
            let mut known = HashSet::new();
            for file in self.snapshots() {
                known.extend(self.read(&file, &snapshot_columns())?.iter().filter_map(|row| row[4].text()));
            }
            let _ = self.digests.set(known);
        }
        let known = self.digests.get();
        Ok(digests.iter().filter(|digest| known.is_some_and(|known| known.contains(*digest))).cloned().collect())
    }

    fn add(&mut self, batch: &[SnapshotRows]) -> Result<usize, StoreError> {
        self.database = None;
        let mut count = 0;
        for rows in batch {
            count += usize::from(self.add_one(rows)?);
        }
        Ok(count)
    }

    fn summarize(&mut self) -> Result<(), StoreError> {
        Ok(())
    }
}
