//! SQLite databases of managers: the file with the write-ahead log beside it.

use rusqlite::Connection;

use crate::bytes::ByteString;
use crate::fs::{Limit, Root};
use whodunit_formats::database::{self, Source as _};

/// The log beside a database; empty where there is none.
fn read_log(root: &Root, file: &[u8]) -> Result<Vec<u8>, String> {
    match root.read(&[file, b"-wal"].concat(), Limit::RECORD) {
        Ok(log) => Ok(log),
        Err(error) if error.is_missing() => Ok(Vec::new()),
        Err(error) => Err(error.to_string()),
    }
}

/// Opens a database together with its log, as both were at one moment.
pub fn open(root: &Root, file: &[u8]) -> Result<Connection, String> {
    // A writer may move pages from the log into the database meanwhile: then both are taken again.
    for _ in 0..4 {
        let log = read_log(root, file)?;
        let opened = root.open(file).map_err(|error| error.to_string())?;
        let length = opened.length();
        let database = database::open(opened, &log).map_err(|error| format!("{}: {error}", ByteString::from(file)))?;
        let after = root.target(file).map_err(|error| error.to_string())?;
        if read_log(root, file)? == log && after.size == length {
            root.watch(file, after);
            return Ok(database);
        }
    }
    Err(format!("{}: it kept changing while it was being read", ByteString::from(file)))
}
