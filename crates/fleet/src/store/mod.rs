//! Where snapshots are kept: one contract over several engines.

mod dataset;
mod files;
mod parquet;
mod postgres;
mod sqlite;

use hashbrown::HashSet;
use refinery::{Migration, Runner};
use thiserror::Error;

use crate::rows::SnapshotRows;
use crate::value::{Row, Value};

pub use self::dataset::{Dataset, is_dataset};
pub use self::postgres::{PostgresStore, is_url};
pub use self::sqlite::SqliteStore;

/// The whole schema, in PostgreSQL's words.
pub const SCHEMA: &str = include_str!("../schema.sql");

/// The number of the newest change of the schema that this program knows.
const NEWEST: i32 = 1;

/// Why a store cannot be used.
#[derive(Debug, Error)]
pub enum StoreError {
    /// There is none.
    #[error("there is no store {place}")]
    Missing {
        /// Where it would be.
        place: String,
    },
    /// Something else is there.
    #[error("{place} is no store of snapshots")]
    Foreign {
        /// Where.
        place: String,
    },
    /// It was written by a newer version.
    #[error("the store {place} was made by a newer version of this program")]
    Newer {
        /// Where it is.
        place: String,
    },
    /// The engine says so.
    #[error("the store {place}: {cause}")]
    Failed {
        /// Where it is.
        place: String,
        /// What the engine says.
        cause: String,
    },
}

/// What a store is opened for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// To ask; nothing is changed, and it has to be there.
    Ask,
    /// To load; it is made where it is not there.
    Load,
}

/// A store of snapshots.
pub trait Store {
    /// Asks in SQL. Parameters are `$1`, `$2` …, first used in this order.
    ///
    /// # Errors
    /// What the engine says.
    fn ask(&mut self, sql: &str, parameters: &[Value]) -> Result<Vec<Row>, StoreError>;

    /// Which of the files with these digests were loaded before.
    ///
    /// # Errors
    /// What the engine says.
    fn known_files(&mut self, digests: &[String]) -> Result<HashSet<String>, StoreError> {
        let mut known = HashSet::new();
        for some in digests.chunks(200) {
            let sql =
                format!("SELECT DISTINCT file_digest FROM snapshots WHERE file_digest IN ({})", places(some.len()));
            let parameters: Vec<Value> = some.iter().map(Value::from).collect();
            known.extend(self.ask(&sql, &parameters)?.iter().filter_map(|row| row[0].text()));
        }
        Ok(known)
    }

    /// Adds these snapshots, all or none; those that are there already stay as they are. The number of new ones.
    ///
    /// # Errors
    /// What the engine says; nothing is added then.
    fn add(&mut self, batch: &[SnapshotRows]) -> Result<usize, StoreError>;

    /// Makes anew what is computed from all snapshots.
    ///
    /// # Errors
    /// What the engine says.
    fn summarize(&mut self) -> Result<(), StoreError>;
}

/// Opens a store: the URL of a PostgreSQL database, a directory of Parquet files (one that is to be made ends in a
/// slash), or the path of a file.
///
/// # Errors
/// When it is not there, cannot be reached, or is no store that this version knows.
pub fn open(place: &str, purpose: Purpose) -> Result<Box<dyn Store>, StoreError> {
    if is_url(place) {
        return Ok(Box::new(PostgresStore::open(place, purpose)?));
    }
    if is_dataset(place) {
        return Ok(Box::new(Dataset::open(place, purpose)?));
    }
    Ok(Box::new(SqliteStore::open(place, purpose)?))
}

/// The places of so many parameters: `$1, $2`.
pub(crate) fn places(count: usize) -> String {
    (1..=count).map(|number| format!("${number}")).collect::<Vec<_>>().join(", ")
}

/// The statements that count anew on how many machines everything is.
fn summaries() -> Vec<String> {
    let count = |what: &str| {
        format!(
            "INSERT INTO holders SELECT '{what}', p.{what}, count(DISTINCT s.machine) FROM latest s \
             JOIN package_lists l ON l.list = s.package_list JOIN packages p ON p.package = l.item GROUP BY p.{what}"
        )
    };
    vec!["DELETE FROM holders".to_owned(), count("software"), count("release")]
}

/// What brings the schema up to date; `sql` is the schema in the words of an engine.
fn migrations(sql: &str) -> Result<Runner, refinery::Error> {
    Ok(Runner::new(&[Migration::unapplied("V1__initial", sql)?]))
}
