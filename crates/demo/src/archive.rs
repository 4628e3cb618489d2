//! ZIP archives, as programs of Java's are.

use std::io::{Cursor, Write as _};

use zip::ZipWriter;
use zip::result::ZipResult;
use zip::write::SimpleFileOptions;

/// An archive of these files.
///
/// # Errors
/// When a name is one that no archive takes, or one stands twice.
pub fn archive(files: &[(&str, &str)]) -> ZipResult<Vec<u8>> {
    let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in files {
        writer.start_file(*name, SimpleFileOptions::default())?;
        writer.write_all(content.as_bytes())?;
    }
    Ok(writer.finish()?.into_inner())
}
