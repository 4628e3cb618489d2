//! Where snapshots are kept: one contract over several engines.

mod connect;
mod dataset;
mod files;
pub mod lists;
mod parquet;
mod postgres;
mod sqlite;
mod written;

use hashbrown::{HashMap, HashSet};
use refinery::{Migration, Runner};
use thiserror::Error;

use crate::rows::SnapshotRows;
use crate::value::{Row, Value};

pub use self::connect::Access;
pub use self::dataset::is_dataset;
pub use self::postgres::is_url;

use self::dataset::Dataset;
use self::postgres::PostgresStore;
use self::sqlite::SqliteStore;

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

impl StoreError {
    /// What an engine says.
    fn failed(place: impl Into<String>, cause: impl std::fmt::Display) -> Self {
        StoreError::Failed { place: place.into(), cause: cause.to_string() }
    }
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
        let digests: Vec<Value> = digests.iter().map(Value::from).collect();
        let mut known = HashSet::new();
        ask_in(self, "SELECT DISTINCT file_digest FROM snapshots WHERE file_digest", &digests, &mut |row| {
            known.extend(row[0].text());
        })?;
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
pub fn open(place: &str, purpose: Purpose, access: &Access) -> Result<Box<dyn Store>, StoreError> {
    if is_url(place) {
        return Ok(Box::new(PostgresStore::open(place, purpose, access)?));
    }
    if is_dataset(place) {
        return Ok(Box::new(Dataset::open(place, purpose)?));
    }
    Ok(Box::new(SqliteStore::open(place, purpose)?))
}

/// How many values a statement names at once.
const VALUES: usize = 400;

/// Asks a statement, which ends where `IN` and a list of values are to follow, of many values.
///
/// # Errors
/// What the engine says.
pub(crate) fn ask_in<S: Store + ?Sized>(
    store: &mut S,
    sql: &str,
    values: &[Value],
    show: &mut dyn FnMut(Row),
) -> Result<(), StoreError> {
    for some in values.chunks(VALUES) {
        let places: Vec<String> = (1..=some.len()).map(|number| format!("${number}")).collect();
        store.ask(&format!("{sql} IN ({})", places.join(", ")), some)?.into_iter().for_each(&mut *show);
    }
    Ok(())
}

/// On how many machines every piece of software and every release is now: rows of `holders`.
fn holders(store: &mut dyn Store) -> Result<Vec<Row>, StoreError> {
    let releases = lists::releases(store)?;
    let mut machines: HashMap<i64, i64> = HashMap::new();
    for row in store.ask("SELECT package_list, count(*) FROM latest GROUP BY package_list", &[])? {
        machines.insert(row[0].int(), row[1].int());
    }
    let numbers: Vec<i64> = machines.keys().copied().collect();
    let (mut software, mut exact): (HashMap<i64, i64>, HashMap<i64, i64>) = (HashMap::new(), HashMap::new());
    lists::each(store, &numbers, &mut |list, items| {
        let on = machines.get(&list).copied().unwrap_or(0);
        // Several packages of one piece of software count once.
        let mut of_list: Vec<(i64, i64)> = items.iter().filter_map(|item| releases.get(item).copied()).collect();
        of_list.sort_unstable();
        of_list.dedup();
        of_list.iter().for_each(|(_, release)| *exact.entry(*release).or_default() += on);
        of_list.dedup_by_key(|(software, _)| *software);
        of_list.iter().for_each(|(one, _)| *software.entry(*one).or_default() += on);
    })?;
    let row = |what: &str, (number, machines): (i64, i64)| vec![what.into(), number.into(), machines.into()];
    let rows = software.into_iter().map(|pair| row("software", pair));
    Ok(rows.chain(exact.into_iter().map(|pair| row("release", pair))).collect())
}

/// What brings the schema up to date; `sql` is the schema in the words of an engine.
fn migrations(sql: &str) -> Result<Runner, refinery::Error> {
    Ok(Runner::new(&[Migration::unapplied("V1__initial", sql)?]))
}
