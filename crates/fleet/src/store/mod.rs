//! Where snapshots are kept: one contract over several engines.

mod connect;
mod dataset;
mod files;
pub mod lists;
mod parquet;
mod partitions;
mod places;
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
use self::lists::Tally;
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
    // Software and releases as small numbers, too: in the order in which they are met.
    let (mut software, mut exact) = (Counts::default(), Counts::default());
    let known: Vec<Option<(usize, usize)>> = releases
        .iter()
        .map(|both| both.map(|(one, release)| (software.place_of(one), exact.place_of(release))))
        .collect();
    let sql = "SELECT package_list, count(*) FROM latest GROUP BY package_list";
    let machines: HashMap<i64, usize> = store.ask(sql, &[])?.iter().map(|row| (row[0].int(), row[1].count())).collect();
    let numbers: Vec<i64> = machines.keys().copied().collect();
    let mut round = 0;
    lists::each(store, &numbers, &mut |list, items| {
        round += 1;
        let on = machines.get(&list).copied().unwrap_or(0);
        for (one, release) in items.iter().filter_map(|place| *known.get(*place)?) {
            software.counts[one].1.add(round, on);
            exact.counts[release].1.add(round, on);
        }
    })?;
    Ok([software.rows("software"), exact.rows("release")].concat())
}

/// On how many machines each of some things is.
#[derive(Default)]
struct Counts {
    places: HashMap<i64, usize>,
    /// Of each its number: several packages of one thing count once.
    counts: Vec<(i64, Tally)>,
}

impl Counts {
    fn place_of(&mut self, number: i64) -> usize {
        *self.places.entry(number).or_insert_with(|| {
            self.counts.push((number, Tally::default()));
            self.counts.len() - 1
        })
    }

    fn rows(self, what: &str) -> Vec<Row> {
        let is_somewhere = |one: &(i64, Tally)| one.1.machines > 0;
        let row = |(number, tally): (i64, Tally)| vec![what.into(), number.into(), tally.machines.into()];
        self.counts.into_iter().filter(is_somewhere).map(row).collect()
    }
}

/// What brings the schema up to date; `sql` is the schema in the words of an engine.
fn migrations(sql: &str) -> Result<Runner, refinery::Error> {
    Ok(Runner::new(&[Migration::unapplied("V1__initial", sql)?]))
}
