//! Where snapshots are kept, and how they are named.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;

use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::{Limit, Root};
use whodunit_core::history::Snapshot;

use crate::error::CliError;
use crate::process;

/// What the file of a snapshot ends in.
const ENDING: &str = ".json.zst";
/// The word for the machine as it is.
pub const NOW: &str = "now";

/// The directory of this user's snapshots.
pub fn dir() -> Result<ByteString, CliError> {
    let state = process::state_dir().ok_or_else(|| {
        CliError::usage("there is no directory for snapshots: neither HOME nor XDG_STATE_HOME is set")
            .with_hint("give the path of a file instead of a name")
    })?;
    Ok(path::join(&state, b"whodunit/snapshots"))
}

/// The file of a snapshot: one with a slash in it is a path, any other word is a name.
pub fn file_of(word: &OsStr) -> Result<ByteString, CliError> {
    let bytes = word.as_bytes();
    if bytes.contains(&b'/') {
        return Ok(path::absolute(bytes, &process::process_env().dir));
    }
    let is_plain = !bytes.is_empty() && !bytes.starts_with(b".") && !bytes.starts_with(b"-");
    if !is_plain || bytes == NOW.as_bytes() || bytes.iter().any(u8::is_ascii_control) {
        return Err(CliError::usage(format!("{} is no name for a snapshot", ByteString::from(bytes))));
    }
    Ok(path::join(&dir()?, &[bytes, ENDING.as_bytes()].concat()))
}

/// The name of a snapshot's file.
fn name_of(file: &[u8]) -> Option<ByteString> {
    Some(path::name(file).strip_suffix(ENDING.as_bytes())?.into())
}

/// Reads a snapshot.
pub fn read(word: &OsStr) -> Result<Snapshot, CliError> {
    let file = file_of(word)?;
    let bytes = Root::live().read(&file, Limit::RECORD).map_err(|cause| match cause.is_missing() {
        true => CliError::NoSnapshot { name: word.as_bytes().into() },
        false => CliError::Snapshot { file: file.clone(), cause: cause.reason() },
    })?;
    Snapshot::read(&bytes).map_err(|cause| CliError::Snapshot { file, cause: cause.to_string() })
}

/// One snapshot that is kept.
pub struct Kept {
    pub name: ByteString,
    pub file: ByteString,
    pub bytes: u64,
    /// When it was written: seconds since 1970.
    pub written: i64,
    /// Why it cannot be used, where it cannot.
    pub snapshot: Result<Snapshot, String>,
}

/// Every snapshot that is kept, the oldest first.
pub fn kept() -> Result<Vec<Kept>, CliError> {
    let (root, dir) = (Root::live(), dir()?);
    let names = match root.dir(&dir).and_then(|dir| dir.list()) {
        Ok(names) => names,
        Err(error) if error.is_missing() => Vec::new(),
        Err(error) => return Err(CliError::Snapshot { file: dir, cause: error.reason() }),
    };
    let one = |(entry, _): (ByteString, _)| {
        let (name, file) = (name_of(&entry)?, path::join(&dir, &entry));
        let meta = root.target(&file).ok()?;
        let read = root.read(&file, Limit::RECORD).map_err(|error| error.reason());
        let snapshot = read.and_then(|bytes| Snapshot::read(&bytes).map_err(|error| error.to_string()));
        Some(Kept { name, file, bytes: meta.size, written: meta.modified, snapshot })
    };
    let mut kept: Vec<Kept> = names.into_iter().filter_map(one).collect();
    kept.sort_by(|a, b| (a.taken_at(), a.written, &a.name).cmp(&(b.taken_at(), b.written, &b.name)));
    Ok(kept)
}

impl Kept {
    /// When it was taken, as it says itself.
    pub fn taken_at(&self) -> Option<&str> {
        self.snapshot.as_ref().ok()?.taken_at.as_deref()
    }
}
