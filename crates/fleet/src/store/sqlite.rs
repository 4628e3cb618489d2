//! A store in a file, by SQLite.

use std::time::Duration;

use rusqlite::types::{ToSqlOutput, ValueRef};
use rusqlite::{Connection, OpenFlags, ToSql, Transaction, TransactionBehavior, params_from_iter};

use super::places::{PLACES_FROM, Places};
use super::written::Written;
use super::{NEWEST, Purpose, SCHEMA, Store, StoreError, holders, migrations};
use crate::rows::SnapshotRows;
use crate::tables::{CONTEXTS, HOLDERS, MACHINES, PACKED_LISTS, PLACES, SNAPSHOTS, Table};
use crate::value::{Row, Value};

/// How long another loader is waited for.
const PATIENCE: Duration = Duration::from_secs(120);
/// How often making the tables is tried again, and how long is waited before that.
const MAX_ATTEMPTS: u32 = 20;
const PAUSE: Duration = Duration::from_millis(100);
/// How much of a file is kept in memory while it is written, in KiB below zero as SQLite has it.
const CACHE: i64 = -96 * 1024;

/// A file.
pub struct SqliteStore {
    connection: Connection,
    place: String,
    written: Written,
    places: Places,
    /// The indexes that are not there yet: their tables, and what makes them.
    to_index: Vec<(String, String)>,
}

impl SqliteStore {
    /// A store for the time of this process, in a file that goes with it. Its tables have no indexes until
    /// [`SqliteStore::index`] makes them, which is quicker when a table is full.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn temporary() -> Result<Self, StoreError> {
        let mut store = SqliteStore::open("", Purpose::Load)?;
        let sql = "SELECT name, tbl_name, sql FROM sqlite_master WHERE type = 'index' AND sql IS NOT NULL";
        for row in store.ask(sql, &[])? {
            store.execute(&format!("DROP INDEX {}", row[0].words()))?;
            store.to_index.push((row[1].words(), row[2].words()));
        }
        Ok(store)
    }

    /// What this loader has written.
    pub(super) fn written(&self) -> &Written {
        &self.written
    }

    /// Makes the indexes of these tables.
    ///
    /// # Errors
    /// What the engine says.
    pub fn index(&mut self, tables: &[&str]) -> Result<(), StoreError> {
        let is_of_these = |(table, _): &mut (String, String)| tables.contains(&table.as_str());
        let now: Vec<(String, String)> = self.to_index.extract_if(.., is_of_these).collect();
        now.iter().try_for_each(|(_, sql)| self.execute(sql))
    }

    fn execute(&self, sql: &str) -> Result<(), StoreError> {
        self.connection.execute_batch(sql).map_err(|cause| StoreError::failed(&self.place, cause))
    }

    /// Opens a file, or makes it.
    ///
    /// # Errors
    /// When it is not there, is no database, or is none of ours.
    pub fn open(place: &str, purpose: Purpose) -> Result<Self, StoreError> {
        let flags = match purpose {
            Purpose::Ask => OpenFlags::SQLITE_OPEN_READ_ONLY,
            Purpose::Load => OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE,
        };
        let failed = |cause: &dyn std::fmt::Display| StoreError::failed(place, cause);
        let connection = Connection::open_with_flags(place, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX);
        let mut connection = connection.map_err(|cause| match cause.sqlite_error_code() {
            Some(rusqlite::ErrorCode::CannotOpen) if purpose == Purpose::Ask => {
                StoreError::Missing { place: place.to_owned() }
            }
            _ => failed(&cause),
        })?;
        connection.busy_timeout(PATIENCE).map_err(|cause| failed(&cause))?;
        if purpose == Purpose::Load {
            set_up(&mut connection, place)?;
            // Rows are numbered by what they have, and so are written all over their tables.
            connection.pragma_update(None, "cache_size", CACHE).map_err(|cause| failed(&cause))?;
            // What is lost when the power fails is loaded again.
            connection.pragma_update(None, "synchronous", "normal").map_err(|cause| failed(&cause))?;
        } else {
            check_version(&connection, place)?;
        }
        let (written, places) = (Written::default(), Places::default());
        Ok(SqliteStore { connection, place: place.to_owned(), written, places, to_index: Vec::new() })
    }
}

/// Brings the schema up to date. Another loader that is doing the same is waited for.
fn set_up(connection: &mut Connection, place: &str) -> Result<(), StoreError> {
    let mut attempts = 0;
    loop {
        let sql = "SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name <> 'refinery_schema_history' \
                   AND name NOT LIKE 'sqlite_%'";
        let tables: i64 = connection.query_row(sql, [], |row| row.get(0)).map_err(|cause| foreign(place, &cause))?;
        if tables > 0 {
            check_version(connection, place)?;
        }
        let made = migrations(&words(SCHEMA)).and_then(|runner| runner.run(connection));
        match made {
            Ok(_) => return Ok(()),
            Err(cause) if attempts == MAX_ATTEMPTS => return Err(StoreError::failed(place, &cause)),
            Err(_) => std::thread::sleep(PAUSE),
        }
        attempts += 1;
    }
}

/// The schema in the words of SQLite.
fn words(schema: &str) -> String {
    schema.replace(" COLLATE \"C\"", "").replace("BIGINT", "INTEGER").replace("/* WITHOUT ROWID */", "WITHOUT ROWID")
}

/// A file that is no database is somebody's.
fn foreign(place: &str, cause: &rusqlite::Error) -> StoreError {
    match cause.sqlite_error_code() {
        Some(rusqlite::ErrorCode::NotADatabase) => StoreError::Foreign { place: place.to_owned() },
        _ => StoreError::failed(place, cause),
    }
}

/// Whether it is a store, and one that this version knows.
fn check_version(connection: &Connection, place: &str) -> Result<(), StoreError> {
    let sql = "SELECT count(*) FROM sqlite_master WHERE name IN ('refinery_schema_history', 'package_lists')";
    let tables: i64 = connection.query_row(sql, [], |row| row.get(0)).map_err(|cause| foreign(place, &cause))?;
    if tables != 2 {
        return Err(StoreError::Foreign { place: place.to_owned() });
    }
    let sql = "SELECT max(version) FROM refinery_schema_history";
    let version: Option<i32> =
        connection.query_row(sql, [], |row| row.get(0)).map_err(|cause| StoreError::failed(place, &cause))?;
    match version {
        Some(version) if version > NEWEST => Err(StoreError::Newer { place: place.to_owned() }),
        _ => Ok(()),
    }
}

impl ToSql for Value {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Value::Null => ValueRef::Null,
            Value::Int(number) => ValueRef::Integer(*number),
            Value::Text(text) => ValueRef::Text(text.as_bytes()),
            Value::Bytes(bytes) => ValueRef::Blob(bytes),
        }))
    }
}

fn value(of: ValueRef<'_>) -> Value {
    match of {
        ValueRef::Null => Value::Null,
        ValueRef::Integer(number) => Value::Int(number),
        #[expect(clippy::cast_possible_truncation, reason = "no column of ours is a fraction")]
        ValueRef::Real(number) => Value::Int(number as i64),
        ValueRef::Text(text) => Value::Text(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Value::Bytes(bytes.to_vec()),
    }
}

/// The rows that a statement asks for.
fn asked(connection: &Connection, sql: &str, parameters: &[Value]) -> rusqlite::Result<Vec<Row>> {
    let mut statement = connection.prepare_cached(sql)?;
    let columns = statement.column_count();
    let row = |row: &rusqlite::Row<'_>| (0..columns).map(|column| Ok(value(row.get_ref(column)?))).collect();
    statement.query_map(params_from_iter(parameters), row)?.collect()
}

/// Writes rows that are not there yet.
fn insert<'r>(
    transaction: &Transaction<'_>,
    table: Table,
    rows: impl IntoIterator<Item = &'r Row>,
) -> rusqlite::Result<usize> {
    let names: Vec<&str> = table.columns.iter().map(|(name, _)| *name).collect();
    let places: Vec<String> = (1..=names.len()).map(|number| format!("?{number}")).collect();
    let (name, names, places) = (table.name, names.join(", "), places.join(", "));
    let sql = format!("INSERT INTO {name} ({names}) VALUES ({places}) ON CONFLICT DO NOTHING");
    let mut statement = transaction.prepare_cached(&sql)?;
    let mut count = 0;
    for row in rows {
        count += statement.execute(params_from_iter(row))?;
    }
    Ok(count)
}

impl Store for SqliteStore {
    fn ask(&mut self, sql: &str, parameters: &[Value]) -> Result<Vec<Row>, StoreError> {
        asked(&self.connection, sql, parameters).map_err(|cause| StoreError::failed(&self.place, &cause))
    }

    fn add(&mut self, batch: &[SnapshotRows]) -> Result<usize, StoreError> {
        self.written.begin();
        let (connection, written, places) = (&mut self.connection, &mut self.written, &mut self.places);
        let result = (|| {
            let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
            places.learn(asked(&transaction, PLACES_FROM, &[places.next().into()])?);
            insert(&transaction, PLACES, &places.give(batch))?;
            insert(&transaction, PACKED_LISTS, &places.packed(batch))?;
            let mut count = 0;
            for one in batch {
                insert(&transaction, MACHINES, [&one.machine])?;
                insert(&transaction, CONTEXTS, &one.contexts)?;
                for list in &one.lists {
                    let items = list.items.iter().filter(|row| written.is_new(row[0].int()));
                    insert(&transaction, list.entity.table(), items)?;
                    insert(&transaction, list.entity.lists(), &list.members)?;
                }
                count += insert(&transaction, SNAPSHOTS, [&one.snapshot])?;
            }
            transaction.commit()?;
            Ok(count)
        })();
        match &result {
            Ok(_) => written.keep(),
            Err(_) => *places = Places::default(),
        }
        result.map_err(|cause: rusqlite::Error| StoreError::failed(&self.place, &cause))
    }

    fn summarize(&mut self) -> Result<(), StoreError> {
        let rows = holders(self)?;
        let result = (|| {
            let transaction = self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
            transaction.execute("DELETE FROM holders", [])?;
            insert(&transaction, HOLDERS, &rows)?;
            transaction.execute_batch("ANALYZE")?;
            transaction.commit()
        })();
        result.map_err(|cause: rusqlite::Error| StoreError::failed(&self.place, &cause))
    }
}
