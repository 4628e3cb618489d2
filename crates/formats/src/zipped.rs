//! Single files in ZIP archives (PKWARE, "`.ZIP` File Format Specification"), also where a program stands before the
//! archive.

use std::io::{Read, Seek};

use zip::ZipArchive;
use zip::result::ZipError;

/// What stands in some files of an archive, in the order in which they are asked for; `None` for one that is not in it.
///
/// # Errors
/// In words, where this is no archive, or a file that is in it cannot be unpacked or is longer than `most` bytes.
pub fn files(archive: impl Read + Seek, names: &[&str], most: u64) -> Result<Vec<Option<Vec<u8>>>, String> {
    let mut archive = ZipArchive::new(archive).map_err(|error| error.to_string())?;
    let mut one = |name: &&str| match archive.by_name(name) {
        Ok(file) => {
            let mut content = Vec::new();
            file.take(most + 1).read_to_end(&mut content).map_err(|error| format!("{name}: {error}"))?;
            if content.len() as u64 > most {
                return Err(format!("{name}: longer than {most} bytes"));
            }
            Ok(Some(content))
        }
        Err(ZipError::FileNotFound) => Ok(None),
        Err(error) => Err(format!("{name}: {error}")),
    };
    names.iter().map(&mut one).collect()
}

#[cfg(test)]
mod tests {
    use std::io::{Cursor, Write as _};

    use zip::write::SimpleFileOptions;

    use super::*;

    fn archive() -> Vec<u8> {
        let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
        for (name, content) in [("META/a", "tide"), ("long", &"x".repeat(5000))] {
            writer.start_file(name, SimpleFileOptions::default()).unwrap();
            writer.write_all(content.as_bytes()).unwrap();
        }
        writer.finish().unwrap().into_inner()
    }

    #[test]
    fn files_are_found_behind_a_program_as_well() {
        let behind = [b"#!/bin/sh\nexec java -jar \"$0\"\n", &archive()[..]].concat();
        for bytes in [archive(), behind] {
            let read = files(Cursor::new(&bytes), &["META/a", "none"], 100).unwrap();
            assert_eq!(read, [Some(b"tide".to_vec()), None]);
            let error = files(Cursor::new(&bytes), &["long"], 100).unwrap_err();
            assert_eq!(error, "long: longer than 100 bytes");
        }
    }

    #[test]
    fn damage_is_told() {
        let whole = archive();
        for end in 0..whole.len() {
            assert!(files(Cursor::new(&whole[..end]), &["META/a"], 100).is_err(), "{end}");
        }
        for at in 0..whole.len() {
            let mut changed = whole.clone();
            changed[at] ^= 0x55;
            let _ = files(Cursor::new(&changed), &["META/a", "long"], 10_000);
        }
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(content: Vec<u8>) {
            let _ = files(Cursor::new(&content), &["a"], 100);
        }
    }
}
