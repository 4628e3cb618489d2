//! SQLite databases, read from their bytes alone.
//!
//! A database that is in use has its newest rows in a write-ahead log beside it, and to open it in the
//! usual way writes beside it too. So both files are taken as bytes, the log's committed pages are laid
//! over the database's (*Database File Format*, section 4, "The Write-Ahead Log"), and SQLite gets the
//! result as an image in memory. Nothing is written anywhere, and a read-only disk is no obstacle. A large
//! database of which little is asked is not taken whole: SQLite then reads its pages through [`Source`].

use std::collections::BTreeMap;
use std::io::{self, ErrorKind};
use std::sync::{Mutex, OnceLock, PoisonError};

use rusqlite::limits::Limit;
use rusqlite::{Connection, OpenFlags};
use sqlite_vfs::{DatabaseHandle, LockKind, OpenOptions, Vfs, WalDisabled};

/// Why an image is no database.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DatabaseError {
    /// The first bytes are not those of an SQLite database.
    #[error("not an SQLite database")]
    NotSqlite,
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
const WAL_HEADER: usize = 32;
const FRAME_HEADER: usize = 24;

/// Opens the image of a database, with the log that lay beside it; an empty log is none.
///
/// # Errors
/// When the image is no database. Damage inside it shows up when it is queried.
pub fn open(mut image: Vec<u8>, log: &[u8]) -> Result<Connection, DatabaseError> {
    if !image.starts_with(HEADER) || image.len() < 100 {
        return Err(DatabaseError::NotSqlite);
    }
    lay_over(&mut image, log);
    // Write and read version: 2 would ask for a log that the image in memory has no need of.
    image[18..20].copy_from_slice(&[1, 1]);
    let mut database = Connection::open_in_memory()?;
    let size = image.len();
    database.deserialize_read_exact("main", image.as_slice(), size, true)?;
    // Nothing that the schema itself could start is trusted.
    database.execute_batch("PRAGMA trusted_schema = OFF; PRAGMA cell_size_check = ON;")?;
    Ok(database)
}

/// Copies the pages of every committed transaction of the log into the image.
fn lay_over(image: &mut Vec<u8>, log: &[u8]) {
    let Some(pages) = committed(log, image.len()) else { return };
    image.resize(pages.whole, 0);
    for (at, page) in pages.by_place {
        if let Some(place) = image.get_mut(at..at + pages.page_size) {
            place.copy_from_slice(page);
        }
    }
}

/// The pages of every committed transaction of a log, the last one of each place.
struct Committed<'l> {
    page_size: usize,
    by_place: BTreeMap<usize, &'l [u8]>,
    /// How long the database is with them.
    whole: usize,
}

fn committed(log: &[u8], length: usize) -> Option<Committed<'_>> {
    let word = |bytes: &[u8], at: usize| {
        bytes.get(at..at + 4).map(|four| u32::from_be_bytes([four[0], four[1], four[2], four[3]]))
    };
    let magic = word(log, 0).filter(|magic| magic & !1 == 0x377f_0682)?;
    let big_endian = magic & 1 == 1;
    let page_size = word(log, 8)? as usize;
    if !page_size.is_power_of_two() || !(512..=65536).contains(&page_size) || log.len() < WAL_HEADER {
        return None;
    }
    let mut sum = checksum((0, 0), &log[..24], big_endian);
    if Some(sum.0) != word(log, 24) || Some(sum.1) != word(log, 28) {
        return None;
    }
    let mut found = Committed { page_size, by_place: BTreeMap::new(), whole: length };
    let salts = &log[16..24];
    let mut pending: Vec<(usize, &[u8])> = Vec::new();
    for frame in log[WAL_HEADER..].chunks_exact(FRAME_HEADER + page_size) {
        let (head, page) = frame.split_at(FRAME_HEADER);
        sum = checksum(checksum(sum, &head[..8], big_endian), page, big_endian);
        // What stands behind the first frame that does not fit is left over from an earlier log.
        if head[8..16] != *salts || Some(sum.0) != word(head, 16) || Some(sum.1) != word(head, 20) {
            break;
        }
        let (Some(number), Some(pages)) = (word(head, 0), word(head, 4)) else { break };
        let Some(at) = (number as usize).checked_sub(1).and_then(|index| index.checked_mul(page_size)) else { break };
        pending.push((at, page));
        if pages > 0 {
            let whole = pages as usize * page_size;
            // No honest log makes the database larger than what was there and what it brings.
            if whole > found.whole + log.len() {
                break;
            }
            found.whole = whole;
            found.by_place.extend(pending.drain(..));
        }
    }
    Some(found)
}

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

/// Opens a database that is not taken whole, with the log that lay beside it. What a writer changes
/// meanwhile can be seen in part: ask afterwards whether the file is still the same.
///
/// # Errors
/// As [`open`].
pub fn open_in_part(source: impl Source, log: &[u8]) -> Result<Connection, DatabaseError> {
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
    registered()?;
    // One at a time, for the number stands in for a path.
    let mut next = NEXT.lock().unwrap_or_else(PoisonError::into_inner);
    *next += 1;
    *WAITING.lock().unwrap_or_else(PoisonError::into_inner) = Some((*next, laid));
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let opened = Connection::open_with_flags_and_vfs(next.to_string(), flags, IN_PART);
    drop(next);
    let database = opened?;
    database.set_limit(Limit::SQLITE_LIMIT_LENGTH, LONGEST)?;
    database.execute_batch("PRAGMA trusted_schema = OFF; PRAGMA cell_size_check = ON;")?;
    Ok(database)
}

/// As long a value may be that is read in part, in bytes: a file of holes can claim any length.
const LONGEST: i32 = 256 << 20;

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
        // Write and read version, as in `open`.
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

fn checksum(mut sum: (u32, u32), bytes: &[u8], big_endian: bool) -> (u32, u32) {
    for pair in bytes.chunks_exact(8) {
        let word = |at: usize| {
            let four = [pair[at], pair[at + 1], pair[at + 2], pair[at + 3]];
            if big_endian { u32::from_be_bytes(four) } else { u32::from_le_bytes(four) }
        };
        sum.0 = sum.0.wrapping_add(word(0)).wrapping_add(sum.1);
        sum.1 = sum.1.wrapping_add(word(4)).wrapping_add(sum.0);
    }
    sum
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
        assert_eq!(count(&open(image.clone(), &[]).unwrap()), 0);
        assert_eq!(count(&open(image.clone(), &log).unwrap()), 3, "the open transaction does not count");
        let in_part = |log: &[u8]| open_in_part(Whole(image.clone()), log).unwrap();
        assert_eq!((count(&in_part(&[])), count(&in_part(&log))), (0, 3));
        assert!(in_part(&log).execute_batch("INSERT INTO tides VALUES (5)").is_err());
        // Cut or damaged logs end at the last sound transaction.
        for end in 0..log.len().min(9000) {
            assert!(count(&open(image.clone(), &log[..end]).unwrap()) <= 3);
        }
        let mut damaged = log.clone();
        damaged[WAL_HEADER + FRAME_HEADER + 100] ^= 1;
        assert_eq!(count(&open(image, &damaged).unwrap()), 0);
    }

    #[test]
    fn what_is_no_database_is_refused() {
        assert_eq!(open(b"not a database".to_vec(), &[]).err(), Some(DatabaseError::NotSqlite));
        let mut hollow = HEADER.to_vec();
        hollow.resize(4096, 0xff);
        let damaged = open(hollow, &[]).and_then(|database| {
            Ok(database.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get::<_, i64>(0))?)
        });
        assert!(matches!(damaged, Err(DatabaseError::Damaged(_))), "{damaged:?}");
    }
}
