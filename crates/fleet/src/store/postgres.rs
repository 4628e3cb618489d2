//! A store in a database of PostgreSQL.

use bytes::BytesMut;
use postgres::binary_copy::BinaryCopyInWriter;
use postgres::types::{IsNull, ToSql, Type as SqlType, to_sql_checked};
use postgres::{Client, Transaction};

use super::connect::{Access, connect, told};
use super::places::{PLACES_FROM, Places};
use super::written::Written;
use super::{NEWEST, Purpose, SCHEMA, Store, StoreError, holders, migrations};
use crate::rows::SnapshotRows;
use crate::tables::{CONTEXTS, Entity, HOLDERS, MACHINES, PACKED_LISTS, PLACES, SNAPSHOTS, Table, Type};
use crate::value::{Row, Value};

/// The lock that loaders hold while they write: one after the other.
const LOADING: i64 = 0x7768_6f64_756e_6974;

/// A database.
pub struct PostgresStore {
    client: Client,
    place: String,
    written: Written,
    places: Places,
}

/// Whether a store is meant by the URL of a database.
#[must_use]
pub fn is_url(place: &str) -> bool {
    place.starts_with("postgres://") || place.starts_with("postgresql://")
}

/// The URL without its password.
fn shown(url: &str) -> String {
    let Some((scheme, rest)) = url.split_once("://") else { return url.to_owned() };
    match rest.split_once('@') {
        Some((user, rest)) if !user.contains('/') => {
            format!("{scheme}://{}@{rest}", user.split(':').next().unwrap_or_default())
        }
        _ => url.to_owned(),
    }
}

/// What the server says, with its cause.
fn failure(place: &str, cause: &dyn std::error::Error) -> StoreError {
    StoreError::failed(place, told(cause))
}

impl PostgresStore {
    /// Connects to a database, and makes the tables.
    ///
    /// # Errors
    /// When it cannot be reached, or has no tables of ours that this version knows.
    pub fn open(url: &str, purpose: Purpose, access: &Access) -> Result<Self, StoreError> {
        let place = shown(url);
        let connected = connect(url, access);
        let mut client = connected.map_err(|cause| StoreError::failed(&place, cause))?;
        let exists = "SELECT to_regclass('refinery_schema_history') IS NOT NULL";
        let exists: bool = client.query_one(exists, &[]).map_err(|cause| failure(&place, &cause))?.get(0);
        if exists {
            let sql = "SELECT max(version) FROM refinery_schema_history";
            let version = client.query_one(sql, &[]).map_err(|cause| failure(&place, &cause))?;
            if version.get::<_, Option<i32>>(0).is_some_and(|version| version > NEWEST) {
                return Err(StoreError::Newer { place });
            }
        }
        if purpose == Purpose::Ask {
            if !exists {
                return Err(StoreError::Missing { place });
            }
            let read_only = "SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY";
            client.batch_execute(read_only).map_err(|cause| failure(&place, &cause))?;
        } else {
            let runner = migrations(SCHEMA).map_err(|cause| failure(&place, &cause))?;
            // Two loaders make the tables one after the other.
            let lock = format!("SELECT pg_advisory_lock({LOADING})");
            client.batch_execute(&lock).map_err(|cause| failure(&place, &cause))?;
            runner.run(&mut client).map_err(|cause| failure(&place, &cause))?;
            let unlock = format!("SELECT pg_advisory_unlock({LOADING})");
            client.batch_execute(&unlock).map_err(|cause| failure(&place, &cause))?;
            let staging = staging();
            client.batch_execute(&staging).map_err(|cause| failure(&place, &cause))?;
        }
        Ok(PostgresStore { client, place, written: Written::default(), places: Places::default() })
    }
}

/// Every table that rows are written to.
fn tables() -> Vec<Table> {
    let of_entity = Entity::ALL.iter().flat_map(|entity| [entity.table(), entity.lists()]);
    [MACHINES, CONTEXTS, PLACES, PACKED_LISTS, HOLDERS].into_iter().chain(of_entity).chain([SNAPSHOTS]).collect()
}

/// Tables of this session, to which rows are copied before those that are new are added.
fn staging() -> String {
    let one = |table: Table| {
        let name = table.name;
        format!("CREATE TEMPORARY TABLE new_{name} (LIKE {name}) ON COMMIT DELETE ROWS;")
    };
    tables().into_iter().map(one).collect()
}

impl ToSql for Value {
    fn to_sql(&self, kind: &SqlType, out: &mut BytesMut) -> Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        match self {
            Value::Null => Ok(IsNull::Yes),
            Value::Int(number) => number.to_sql(kind, out),
            Value::Text(text) => text.to_sql(kind, out),
            Value::Bytes(bytes) => bytes.to_sql(kind, out),
        }
    }

    fn accepts(kind: &SqlType) -> bool {
        <i64 as ToSql>::accepts(kind) || <String as ToSql>::accepts(kind) || <Vec<u8> as ToSql>::accepts(kind)
    }

    to_sql_checked!();
}

/// The type of a column, as the server has it.
fn sql_type(kind: Type) -> SqlType {
    match kind {
        Type::Int => SqlType::INT8,
        Type::Text => SqlType::TEXT,
        Type::Bytes => SqlType::BYTEA,
    }
}

/// Adds those of the rows that are not there yet.
fn insert<'r>(
    transaction: &mut Transaction<'_>,
    table: Table,
    rows: impl IntoIterator<Item = &'r Row>,
) -> Result<u64, postgres::Error> {
    let (name, names) = (table.name, table.columns.iter().map(|(name, _)| *name).collect::<Vec<_>>().join(", "));
    let types: Vec<SqlType> = table.columns.iter().map(|(_, kind)| sql_type(*kind)).collect();
    let writer = transaction.copy_in(&format!("COPY new_{name} ({names}) FROM STDIN BINARY"))?;
    let mut writer = BinaryCopyInWriter::new(writer, &types);
    let mut count = 0;
    for row in rows {
        writer.write_raw(row.iter().map(|value| value as &(dyn ToSql + Sync)))?;
        count += 1;
    }
    writer.finish()?;
    if count == 0 {
        return Ok(0);
    }
    let added = format!("INSERT INTO {name} ({names}) SELECT {names} FROM new_{name} ON CONFLICT DO NOTHING");
    transaction.execute(&added, &[])
}

fn value(row: &postgres::Row, column: usize) -> Result<Value, postgres::Error> {
    Ok(match *row.columns()[column].type_() {
        SqlType::BYTEA => row.try_get::<_, Option<Vec<u8>>>(column)?.into(),
        SqlType::INT8 => row.try_get::<_, Option<i64>>(column)?.into(),
        SqlType::INT4 => row.try_get::<_, Option<i32>>(column)?.map(i64::from).into(),
        SqlType::BOOL => row.try_get::<_, Option<bool>>(column)?.into(),
        _ => row.try_get::<_, Option<String>>(column)?.map(Value::Text).unwrap_or(Value::Null),
    })
}

fn rows(found: &[postgres::Row]) -> Result<Vec<Row>, postgres::Error> {
    found.iter().map(|row| (0..row.len()).map(|column| value(row, column)).collect()).collect()
}

impl Store for PostgresStore {
    fn ask(&mut self, sql: &str, parameters: &[Value]) -> Result<Vec<Row>, StoreError> {
        let parameters: Vec<&(dyn ToSql + Sync)> = parameters.iter().map(|value| value as _).collect();
        let asked = self.client.query(sql, &parameters).and_then(|found| rows(&found));
        asked.map_err(|cause| failure(&self.place, &cause))
    }

    fn add(&mut self, batch: &[SnapshotRows]) -> Result<usize, StoreError> {
        self.written.begin();
        let (client, written, places) = (&mut self.client, &mut self.written, &mut self.places);
        let result = (|| {
            let mut transaction = client.transaction()?;
            transaction.batch_execute(&format!("SELECT pg_advisory_xact_lock({LOADING})"))?;
            insert(&mut transaction, MACHINES, batch.iter().map(|one| &one.machine))?;
            insert(&mut transaction, CONTEXTS, batch.iter().flat_map(|one| &one.contexts))?;
            places.learn(rows(&transaction.query(PLACES_FROM, &[&places.next()])?)?);
            insert(&mut transaction, PLACES, &places.give(batch))?;
            insert(&mut transaction, PACKED_LISTS, &places.packed(batch))?;
            for entity in Entity::ALL {
                let lists: Vec<_> =
                    batch.iter().flat_map(|one| &one.lists).filter(|list| list.entity == entity).collect();
                let items = lists.iter().flat_map(|list| &list.items);
                let items = items.filter(|row| written.is_new(row[0].int()));
                insert(&mut transaction, entity.table(), items)?;
                insert(&mut transaction, entity.lists(), lists.iter().flat_map(|list| &list.members))?;
            }
            let count = insert(&mut transaction, SNAPSHOTS, batch.iter().map(|one| &one.snapshot))?;
            transaction.commit()?;
            Ok(count)
        })();
        match &result {
            Ok(_) => written.keep(),
            Err(_) => *places = Places::default(),
        }
        let count = result.map_err(|cause: postgres::Error| failure(&self.place, &cause))?;
        Ok(usize::try_from(count).unwrap_or(usize::MAX))
    }

    fn summarize(&mut self) -> Result<(), StoreError> {
        let rows = holders(self)?;
        let result = (|| {
            let mut transaction = self.client.transaction()?;
            transaction.batch_execute(&format!("SELECT pg_advisory_xact_lock({LOADING}); DELETE FROM holders"))?;
            insert(&mut transaction, HOLDERS, &rows)?;
            transaction.commit()?;
            self.client.batch_execute("ANALYZE")
        })();
        result.map_err(|cause: postgres::Error| failure(&self.place, &cause))
    }
}
