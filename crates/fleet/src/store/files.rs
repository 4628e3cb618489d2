//! Writes the files of a dataset: the only place of this crate that writes to a disk by itself.

#![expect(clippy::disallowed_methods, reason = "the files of a store are written here and nowhere else")]

use std::ffi::OsStr;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::Path;

/// Writes a file as a whole or not at all, with its directories, readable only by its owner. One that is there already is
/// replaced: it has the same content, or is the rest of a loading that was broken off.
///
/// # Errors
/// As the system says.
pub(super) fn replace(file: &[u8], content: &[u8]) -> io::Result<()> {
    let file = Path::new(OsStr::from_bytes(file));
    let dir = file.parent().unwrap_or(Path::new("/"));
    fs::DirBuilder::new().recursive(true).mode(0o700).create(dir)?;
    let unfinished = dir.join(format!(".whodunit-{}", std::process::id()));
    let written = (|| {
        let mut open = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&unfinished)?;
        io::Write::write_all(&mut open, content)?;
        open.sync_all()?;
        fs::rename(&unfinished, file)
    })();
    if written.is_err() {
        let _ = fs::remove_file(&unfinished);
    }
    written
}
