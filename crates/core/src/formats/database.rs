//! SQLite databases, read from their bytes alone.
//!
//! A database that is in use has its newest rows in a write-ahead log beside it, and to open it in the
//! usual way writes beside it too. So both files are taken as bytes, the log's committed pages are laid
//! over the database's (*Database File Format*, section 4, "The Write-Ahead Log"), and SQLite gets the
//! result as an image in memory. Nothing is written anywhere, and a read-only disk is no obstacle.

use rusqlite::Connection;

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
    let word = |bytes: &[u8], at: usize| {
        bytes.get(at..at + 4).map(|four| u32::from_be_bytes([four[0], four[1], four[2], four[3]]))
    };
    let Some(magic) = word(log, 0).filter(|magic| magic & !1 == 0x377f_0682) else { return };
    let big_endian = magic & 1 == 1;
    let Some(page_size) = word(log, 8).map(|size| size as usize) else { return };
    if !page_size.is_power_of_two() || !(512..=65536).contains(&page_size) || log.len() < WAL_HEADER {
        return;
    }
    let mut sum = checksum((0, 0), &log[..24], big_endian);
    if Some(sum.0) != word(log, 24) || Some(sum.1) != word(log, 28) {
        return;
    }
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
            if whole > image.len() + log.len() {
                break;
            }
            image.resize(whole, 0);
            for (at, page) in pending.drain(..) {
                if let Some(place) = image.get_mut(at..at + page_size) {
                    place.copy_from_slice(page);
                }
            }
        }
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

    fn count(database: &Connection) -> i64 {
        database.query_row("SELECT count(*) FROM tides", [], |row| row.get(0)).unwrap()
    }

    #[test]
    fn rows_that_stand_in_the_log_alone_are_seen() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("tides.sqlite");
        let log = folder.path().join("tides.sqlite-wal");
        let writer = Connection::open(&file).unwrap();
        writer
            .execute_batch("PRAGMA journal_mode = WAL; PRAGMA wal_autocheckpoint = 0; CREATE TABLE tides (height);")
            .unwrap();
        writer.execute_batch("PRAGMA wal_checkpoint(TRUNCATE); INSERT INTO tides VALUES (1), (2), (3);").unwrap();
        writer.execute_batch("BEGIN; INSERT INTO tides VALUES (4);").unwrap();
        let (image, log) = (fs::read(&file).unwrap(), fs::read(&log).unwrap());
        assert_eq!(count(&open(image.clone(), &[]).unwrap()), 0);
        assert_eq!(count(&open(image.clone(), &log).unwrap()), 3, "the open transaction does not count");
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
