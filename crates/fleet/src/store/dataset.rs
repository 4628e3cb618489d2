//! A store as a dataset of Parquet files, which other engines read in place.
//!
//! `TABLE/host=HOST/taken=TIME/NUMBER.parquet`: one file for each table and snapshot. The row of `snapshots` is written
//! last, so that a snapshot that is not there as a whole does not count. The questions are asked of an SQLite database
//! that is filled from the files, as far as a question needs it.

use std::cell::OnceCell;

use hashbrown::HashSet;
use rayon::prelude::*;
use whodunit_core::bytes::ByteString;
use whodunit_core::fs::{Kind, Root};

use super::partitions::Partitions;
use super::{Purpose, SqliteStore, Store, StoreError};
use crate::rows::SnapshotRows;
use crate::tables::{Entity, SNAPSHOTS};
use crate::value::{Row, Value};

/// How many snapshots are read at once.
const BATCH: usize = 16;

/// A directory.
pub struct Dataset {
    files: Partitions,
    /// The same in a database, as far as it was asked.
    filled: Option<Filled>,
    /// What was loaded before.
    digests: OnceCell<HashSet<String>>,
}

/// A database that has what was asked of a dataset.
struct Filled {
    database: SqliteStore,
    /// The snapshots, without their lists.
    snapshots: Vec<SnapshotRows>,
    /// What of their lists is in the database.
    entities: Vec<Entity>,
}

impl Filled {
    fn new(snapshots: Vec<SnapshotRows>) -> Result<Self, StoreError> {
        let mut database = SqliteStore::temporary()?;
        database.add(&snapshots)?;
        database.index(&[SNAPSHOTS.name])?;
        Ok(Filled { database, snapshots, entities: Vec::new() })
    }

    /// Brings all lists of one sort into the database, each once.
    fn fill(&mut self, files: &Partitions, entity: Entity) -> Result<(), StoreError> {
        let column = entity.column();
        let mut lists = HashSet::new();
        let has_new = |one: &&SnapshotRows| match one.snapshot[column] {
            Value::Int(list) => lists.insert(list),
            _ => false,
        };
        let with_new: Vec<&SnapshotRows> = self.snapshots.iter().filter(has_new).collect();
        for some in with_new.chunks(BATCH) {
            let written = self.database.written();
            let read = |one: &&SnapshotRows| {
                let list = files.list(one, entity, written)?;
                let contexts = if entity == Entity::Winners { files.contexts(one)? } else { Vec::new() };
                Ok(SnapshotRows { contexts, lists: vec![list], ..(*one).clone() })
            };
            let rows = some.par_iter().map(read).collect::<Result<Vec<_>, StoreError>>()?;
            self.database.add(&rows)?;
        }
        self.database.index(&[entity.table().name, entity.lists().name])?;
        if entity == Entity::Packages {
            self.database.summarize()?;
        }
        self.entities.push(entity);
        Ok(())
    }
}

/// Whether a statement reads a table that the lists of this sort fill. In ours every table follows `FROM` or `JOIN`.
fn names(sql: &str, entity: Entity) -> bool {
    let view = match entity {
        Entity::Packages => "installed",
        Entity::Winners => "started",
        Entity::Findings => "found",
        Entity::Offers => "outdated",
        Entity::Sources | Entity::Files => "",
    };
    let is_packed = matches!(entity, Entity::Packages | Entity::Offers);
    let words = sql.split(|one: char| !(one.is_ascii_alphanumeric() || one == '_'));
    let words: Vec<&str> = words.filter(|word| !word.is_empty()).collect();
    words.windows(2).filter(|pair| matches!(pair[0], "FROM" | "JOIN")).any(|pair| match pair[1] {
        "places" | "packed_lists" => is_packed,
        "holders" => entity == Entity::Packages,
        "contexts" => entity == Entity::Winners,
        word => word == entity.table().name || word == entity.lists().name || word == view,
    })
}

/// Whether a store is meant by a directory.
#[must_use]
pub fn is_dataset(place: &str) -> bool {
    let is_dir = || Root::live().target(place.as_bytes()).is_ok_and(|meta| meta.kind == Kind::Dir);
    place.ends_with('/') || is_dir()
}

impl Dataset {
    /// Opens a directory, which is made when something is added.
    ///
    /// # Errors
    /// When it is to be asked and there is none, or it has no snapshots.
    pub fn open(place: &str, purpose: Purpose) -> Result<Self, StoreError> {
        let files = Partitions::of(ByteString::from(place.trim_end_matches('/')));
        let (is_dir, has_snapshots) = files.are_there();
        if purpose == Purpose::Ask && !has_snapshots {
            let place = files.dir().to_string();
            return Err(if is_dir { StoreError::Foreign { place } } else { StoreError::Missing { place } });
        }
        Ok(Dataset { files, filled: None, digests: OnceCell::new() })
    }

    /// The database that is asked, with the tables that a statement names.
    fn database(&mut self, sql: &str) -> Result<&mut SqliteStore, StoreError> {
        let mut filled = match self.filled.take() {
            Some(filled) => filled,
            None => {
                let read = |file| self.files.snapshot(file);
                Filled::new(self.files.snapshots().par_iter().map(read).collect::<Result<Vec<_>, _>>()?)?
            }
        };
        for entity in Entity::ALL.into_iter().filter(|entity| names(sql, *entity)) {
            if !filled.entities.contains(&entity) {
                filled.fill(&self.files, entity)?;
            }
        }
        Ok(&mut self.filled.insert(filled).database)
    }
}

impl Store for Dataset {
    fn ask(&mut self, sql: &str, parameters: &[Value]) -> Result<Vec<Row>, StoreError> {
        self.database(sql)?.ask(sql, parameters)
    }

    fn known_files(&mut self, digests: &[String]) -> Result<HashSet<String>, StoreError> {
        if self.digests.get().is_none() {
            let mut known = HashSet::new();
            for file in self.files.snapshots() {
                known.extend(self.files.snapshot(&file)?.snapshot[4].text());
            }
            let _ = self.digests.set(known);
        }
        let known = self.digests.get();
        Ok(digests.iter().filter(|digest| known.is_some_and(|known| known.contains(*digest))).cloned().collect())
    }

    fn add(&mut self, batch: &[SnapshotRows]) -> Result<usize, StoreError> {
        self.filled = None;
        let mut count = 0;
        for rows in batch {
            count += usize::from(self.files.add(rows)?);
        }
        Ok(count)
    }

    fn summarize(&mut self) -> Result<(), StoreError> {
        Ok(())
    }
}
