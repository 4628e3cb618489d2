//! SQLite databases, read from their bytes alone.
//!
//! A database that is in use has its newest rows in a write-ahead log beside it, and to open it in the
//! usual way writes beside it too. So SQLite reads the database's pages through [`Source`], with the log's
//! committed pages laid over them (*Database File Format*, section 4, "The Write-Ahead Log"). Nothing is
//! written anywhere, and a read-only disk is no obstacle.
//!
//! A database is a program of a kind: its schema can have views that never end, columns that are computed,
//! tables that are code. Only plain tables are read ([`DatabaseError::NotPlain`]), without views and triggers,
//! and the work that a query may do, the length of a value and all memory are bounded.

mod log;

use std::collections::BTreeMap;
use std::io::{self, ErrorKind};
use std::sync::{Mutex, OnceLock, PoisonError};

use log::committed;
use rusqlite::config::DbConfig;
use rusqlite::limits::Limit;
use rusqlite::{Connection, OpenFlags};
use sqlite_vfs::{DatabaseHandle, LockKind, OpenOptions, Vfs, WalDisabled};

/// Why an image is no database.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DatabaseError {
    /// The first bytes are not those of an SQLite database.
    #[error("not an SQLite database")]
    NotSqlite,
    /// Its schema has what no manager's has.
    #[error("it has {0}, which no package manager's database has, and is not read")]
    NotPlain(&'static str),
    /// SQLite's own words.
    #[error("{0}")]
    Damaged(String),
}

impl From<rusqlite::Error> for DatabaseError {
    fn from(error: rusqlite::Error) -> Self {
        DatabaseError::Damaged(error.to_string())
    }
}

const HEADER: &[u8; 16] = b"SQLite format 3\0";

/// A file that is read in part: where SQLite asks for it.
pub trait Source: Send + Sync + 'static {
    /// Its length in bytes.
    fn length(&self) -> u64;

    /// Reads bytes from a place on; fewer than asked for only at the end.
    ///
    /// # Errors
    /// Those of the file.
    fn read_at(&self, place: u64, buffer: &mut [u8]) -> io::Result<usize>;
}

/// Opens a database with the log that lay beside it; an empty log is none. What a writer changes meanwhile can
/// be seen in part: ask afterwards whether the file is still the same.
///
/// # Errors
/// When it is no database, or none that a package manager would write. Damage further inside shows up when it
/// is queried.
pub fn open(source: impl Source, log: &[u8]) -> Result<Connection, DatabaseError> {
    let length = usize::try_from(source.length()).map_err(|_| DatabaseError::NotSqlite)?;
    let mut head = [0; 100];
    let read = source.read_at(0, &mut head).map_err(|error| DatabaseError::Damaged(error.to_string()))?;
    if read < head.len() || !head.starts_with(HEADER) {
        return Err(DatabaseError::NotSqlite);
    }
    let mut laid = Laid { source: Box::new(source), length, pages: BTreeMap::new(), lock: LockKind::None };
    if let Some(pages) = committed(log, length) {
        laid.length = pages.whole;
        laid.pages = pages.by_place.into_iter().map(|(at, page)| (at, page.into())).collect();
    }
    let laid_length = laid.length;
    registered()?;
    // One at a time, for the number stands in for a path.
    let mut next = NEXT.lock().unwrap_or_else(PoisonError::into_inner);
    *next += 1;
    *WAITING.lock().unwrap_or_else(PoisonError::into_inner) = Some((*next, laid));
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let opened = Connection::open_with_flags_and_vfs(next.to_string(), flags, IN_PART);
    drop(next);
    let mut database = opened?;
    bound(&mut database, laid_length)?;
    plain(&database)?;
    Ok(database)
}

/// As long a value may be, in bytes: a file of holes can claim any length.
const MAX_VALUE: i32 = 64 << 20;
/// As much memory may all of SQLite take in this process, in bytes.
const MAX_MEMORY: u32 = 256 << 20;
/// Steps of SQLite's machine between two looks at the budget.
const STEPS: i32 = 10_000;

/// Sets limits: a query that does more than can be needed for a file of this length is interrupted.
fn bound(database: &mut Connection, length: usize) -> rusqlite::Result<()> {
    for (option, value) in [
        (DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true),
        (DbConfig::SQLITE_DBCONFIG_ENABLE_VIEW, false),
        (DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false),
    ] {
        database.set_db_config(option, value)?;
    }
    database.set_limit(Limit::SQLITE_LIMIT_LENGTH, MAX_VALUE)?;
    database.execute_batch(&format!(
        "PRAGMA trusted_schema = OFF; PRAGMA cell_size_check = ON; PRAGMA temp_store = MEMORY; \
         PRAGMA query_only = ON; PRAGMA hard_heap_limit = {MAX_MEMORY};"
    ))?;
    // A row takes some ten bytes at the least, and some ten steps of each query that reads it.
    let mut left = 2_000 + length / 500;
    database.progress_handler(
        STEPS,
        Some(move || {
            left = left.saturating_sub(1);
            left == 0
        }),
    )
}

/// Refuses what runs code of the schema's own.
fn plain(database: &Connection) -> Result<(), DatabaseError> {
    let has = |query: &str| database.query_row(query, [], |row| row.get::<_, bool>(0));
    if has("SELECT count(*) > 0 FROM sqlite_schema WHERE sql LIKE 'CREATE VIRTUAL%'")? {
        return Err(DatabaseError::NotPlain("virtual tables"));
    }
    let computed = "SELECT count(*) > 0 FROM sqlite_schema AS t, pragma_table_xinfo(t.name) AS c \
                    WHERE t.type = 'table' AND c.hidden IN (2, 3)";
    if has(computed)? { Err(DatabaseError::NotPlain("computed columns")) } else { Ok(()) }
}

/// The name under which SQLite knows this way of reading.
const IN_PART: &str = "whodunit";

/// What is about to be opened, with the number that stands for its path.
static WAITING: Mutex<Option<(u64, Laid)>> = Mutex::new(None);
static NEXT: Mutex<u64> = Mutex::new(0);

fn registered() -> Result<(), DatabaseError> {
    static DONE: OnceLock<bool> = OnceLock::new();
    let done = DONE.get_or_init(|| sqlite_vfs::register(IN_PART, InPart, false).is_ok());
    if *done { Ok(()) } else { Err(DatabaseError::Damaged("SQLite takes no reader of ours".to_owned())) }
}

/// A source with the pages of its log over it.
struct Laid {
    source: Box<dyn Source>,
    length: usize,
    pages: BTreeMap<usize, Box<[u8]>>,
    lock: LockKind,
}

fn never() -> io::Error {
    io::Error::new(ErrorKind::PermissionDenied, "nothing is written here")
}

impl DatabaseHandle for Laid {
    type WalIndex = WalDisabled;

    fn size(&self) -> io::Result<u64> {
        Ok(self.length as u64)
    }

    fn read_exact_at(&mut self, data: &mut [u8], offset: u64) -> io::Result<()> {
        let offset = usize::try_from(offset).map_err(|_| never())?;
        let wanted = data.len().min(self.length.saturating_sub(offset));
        // SQLite wants what lies behind the end as zeros.
        let (data, behind) = data.split_at_mut(wanted);
        behind.fill(0);
        let page = self.pages.range(..=offset).next_back();
        match page.filter(|(at, page)| offset + wanted <= *at + page.len()) {
            Some((at, page)) => data.copy_from_slice(&page[offset - at..offset - at + wanted]),
            None => {
                let read = self.source.read_at(offset as u64, data)?;
                data[read..].fill(0);
            }
        }
        // Write and read version: 2 would ask for a log, which is laid over it already.
        for place in 18..20_usize {
            if let Some(byte) = place.checked_sub(offset).and_then(|at| data.get_mut(at)) {
                *byte = 1;
            }
        }
        if behind.is_empty() { Ok(()) } else { Err(ErrorKind::UnexpectedEof.into()) }
    }

    fn write_all_at(&mut self, _: &[u8], _: u64) -> io::Result<()> {
        Err(never())
    }

    fn sync(&mut self, _: bool) -> io::Result<()> {
        Ok(())
    }

    fn set_len(&mut self, _: u64) -> io::Result<()> {
        Err(never())
    }

    fn lock(&mut self, lock: LockKind) -> io::Result<bool> {
        self.lock = lock;
        Ok(true)
    }

    fn reserved(&mut self) -> io::Result<bool> {
        Ok(false)
    }

    fn current_lock(&self) -> io::Result<LockKind> {
        Ok(self.lock)
    }

    fn wal_index(&self, _: bool) -> io::Result<WalDisabled> {
        Err(never())
    }
}

/// SQLite's view of the files: the one that waits, and nothing else; nothing can be written.
struct InPart;

impl Vfs for InPart {
    type Handle = Laid;

    fn open(&self, path: &str, _: OpenOptions) -> io::Result<Laid> {
        let mut waiting = WAITING.lock().unwrap_or_else(PoisonError::into_inner);
        match waiting.take() {
            Some((number, laid)) if path.trim_start_matches('/') == number.to_string() => Ok(laid),
            _ => Err(ErrorKind::NotFound.into()),
        }
    }

    fn delete(&self, _: &str) -> io::Result<()> {
        Err(never())
    }

    fn exists(&self, _: &str) -> io::Result<bool> {
        Ok(false)
    }

    fn temporary_name(&self) -> String {
        String::new()
    }

    fn random(&self, buffer: &mut [i8]) {
        buffer.fill(0);
    }

    fn sleep(&self, duration: std::time::Duration) -> std::time::Duration {
        duration
    }

    fn access(&self, _: &str, _: bool) -> io::Result<bool> {
        Ok(false)
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "lets SQLite write the files that are then read as bytes")]
mod tests {
    use super::*;
    use std::fs;

    struct Whole(Vec<u8>);

    impl Source for Whole {
        fn length(&self) -> u64 {
            self.0.len() as u64
        }
        fn read_at(&self, place: u64, buffer: &mut [u8]) -> std::io::Result<usize> {
            let rest = &self.0[usize::try_from(place).unwrap().min(self.0.len())..];
            let count = rest.len().min(buffer.len());
            buffer[..count].copy_from_slice(&rest[..count]);
            Ok(count)
        }
    }

    fn count(database: &Connection) -> i64 {
        database.query_row("SELECT count(*) FROM tides", [], |row| row.get(0)).unwrap()
    }

    #[test]
    fn rows_that_stand_in_the_log_alone_are_seen() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("tides.sqlite");
        let log = dir.path().join("tides.sqlite-wal");
        let writer = Connection::open(&file).unwrap();
        writer
            .execute_batch("PRAGMA journal_mode = WAL; PRAGMA wal_autocheckpoint = 0; CREATE TABLE tides (height);")
            .unwrap();
        writer.execute_batch("PRAGMA wal_checkpoint(TRUNCATE); INSERT INTO tides VALUES (1), (2), (3);").unwrap();
        writer.execute_batch("BEGIN; INSERT INTO tides VALUES (4);").unwrap();
        let (image, log) = (fs::read(&file).unwrap(), fs::read(&log).unwrap());
        let opened = |log: &[u8]| open(Whole(image.clone()), log).unwrap();
        assert_eq!(count(&opened(&[])), 0);
        assert_eq!(count(&opened(&log)), 3, "the open transaction does not count");
        assert!(opened(&log).execute_batch("INSERT INTO tides VALUES (5)").is_err());
        // Cut or damaged logs end at the last sound transaction.
        for end in 0..log.len().min(9000) {
            assert!(count(&opened(&log[..end])) <= 3);
        }
        let mut damaged = log.clone();
        damaged[log::WAL_HEADER + log::FRAME_HEADER + 100] ^= 1;
        assert_eq!(count(&opened(&damaged)), 0);
    }

    #[test]
    fn what_is_no_database_is_refused() {
        assert_eq!(open(Whole(b"not a database".to_vec()), &[]).err(), Some(DatabaseError::NotSqlite));
        let mut hollow = HEADER.to_vec();
        hollow.resize(4096, 0xff);
        let damaged = open(Whole(hollow), &[]);
        assert!(matches!(damaged, Err(DatabaseError::Damaged(_))), "{damaged:?}");
    }

    /// What a schema can do, and what the reader is told instead of rows.
    #[test]
    fn a_schema_that_is_a_program_is_not_run() {
        let endless = "CREATE VIEW tides AS WITH RECURSIVE n(height) AS (SELECT 1 UNION ALL SELECT height + 1 FROM n) \
                       SELECT height FROM n";
        let large = "CREATE TABLE tides (height, wide AS (zeroblob(900000000)))";
        let product = "CREATE TABLE tides (height); INSERT INTO tides VALUES (1)";
        for (schema, query, expected) in [
            (endless, "SELECT count(*) FROM tides", "no such table"),
            ("CREATE VIEW tides AS SELECT 1", "SELECT count(*) FROM tides", "access to view"),
            (large, "SELECT count(*) FROM tides", "computed columns"),
            ("CREATE VIRTUAL TABLE tides USING fts5(height)", "SELECT count(*) FROM tides", "virtual tables"),
            (product, "SELECT zeroblob(100000000)", "too big"),
            (
                product,
                "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT count(*) FROM n",
                "interrupt",
            ),
            (
                product,
                "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n LIMIT 900) \
                 SELECT count(*) FROM (SELECT zeroblob(900000) AS b FROM n ORDER BY b)",
                "out of memory",
            ),
        ] {
            let dir = tempfile::tempdir().unwrap();
            let file = dir.path().join("tides.sqlite");
            Connection::open(&file).unwrap().execute_batch(schema).unwrap();
            let asked = open(Whole(fs::read(&file).unwrap()), &[])
                .and_then(|database| Ok(database.query_row(query, [], |row| row.get::<_, i64>(0))?));
            let says = asked.expect_err(query).to_string();
            assert!(says.contains(expected), "{query}: {says}");
        }
    }
}
