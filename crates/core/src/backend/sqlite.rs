//! SQLite databases of managers: the file with the write-ahead log beside it.

use rusqlite::Connection;

use crate::bytes::ByteString;
use crate::fs::{Limit, Root};
use whodunit_formats::database;

/// The log beside a database; empty where there is none.
pub fn read_log(root: &Root, file: &[u8]) -> Result<Vec<u8>, String> {
    match root.read(&[file, b"-wal"].concat(), Limit::RECORD) {
        Ok(log) => Ok(log),
        Err(error) if error.is_missing() => Ok(Vec::new()),
        Err(error) => Err(error.to_string()),
    }
}

/// Takes a database whole.
pub fn open(root: &Root, file: &[u8]) -> Result<Connection, String> {
    let log = read_log(root, file)?;
    let image = root.read(file, Limit::RECORD).map_err(|error| error.to_string())?;
    database::open(image, &log).map_err(|error| format!("{}: {error}", ByteString::from(file)))
}
