//! What distributions declare that they require.
//!
//! `METADATA` has a `Requires-Dist` for each requirement; an old `.egg-info` has them in `requires.txt`, the optional
//! ones under headings such as `[png]`, with a marker behind a colon: `[:python_version < "3"]`.

use super::distribution::{self, Distribution};
use super::requirement::Requirement;
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};

/// A distribution with what it requires.
#[derive(Debug, Clone)]
pub struct Declared {
    /// Its name, in the form in which names are compared.
    pub key: Vec<u8>,
    /// Its name as it spells it.
    pub name: ByteString,
    /// Its version.
    pub version: Option<ByteString>,
    /// The file that names it.
    pub file: ByteString,
    /// What it requires, each with the line of the file that says so.
    pub requires: Vec<(u32, ByteString, Requirement)>,
}

/// A file, and what could not be made out in it.
pub type Loss = (ByteString, String);

/// The bytes of `METADATA` that are read first; the headers are seldom longer.
const HEADERS: usize = 16 << 10;

/// Every distribution in a directory of modules, and what could not be read.
pub fn in_dir(root: &Root, dir: &ByteString) -> (Vec<Declared>, Vec<Loss>) {
    // What cannot be read of the distributions themselves is noted where packages are read.
    let (found, _) = distribution::in_dir(root, dir);
    let mut notes = Vec::new();
    let declared = found.into_iter().map(|one| declared(root, one, &mut notes)).collect();
    (declared, notes)
}

/// The requirements of a distribution; losses are added to `notes`.
pub fn declared(root: &Root, one: Distribution, notes: &mut Vec<Loss>) -> Declared {
    let is_egg = !one.metadata.ends_with(b".dist-info");
    let file = path::join(&one.metadata, if is_egg { b"requires.txt" } else { b"METADATA" });
    let mut lines: Vec<(u32, String)> = Vec::new();
    match if is_egg { root.read(&file, Limit::SMALL) } else { headers(root, &file) } {
        Ok(content) if is_egg => lines = of_requires(&content),
        Ok(content) => {
            let numbered =
                (1..).zip(content.split(|&b| b == b'\n')).take_while(|(_, line)| !line.trim_ascii().is_empty());
            lines.extend(numbered.filter_map(|(number, line)| {
                let at = memchr::memchr(b':', line).filter(|at| line[..*at].eq_ignore_ascii_case(b"Requires-Dist"))?;
                Some((number, String::from_utf8_lossy(line[at + 1..].trim_ascii()).into_owned()))
            }));
        }
        Err(error) if error.is_missing() => {}
        Err(error) => {
            notes.push((file.clone(), format!("{}: what {} requires is unknown", error.reason(), one.name)));
        }
    }
    let requires = lines.into_iter().filter_map(|(line, text)| match Requirement::parse(&text) {
        Some(requirement) => Some((line, text.into(), requirement)),
        None => {
            notes.push((file.clone(), format!("line {line} is not a requirement: one of {} is unknown", one.name)));
            None
        }
    });
    let requires = requires.collect();
    Declared { key: one.normal_name(), name: one.name, version: one.version, file, requires }
}

fn headers(root: &Root, file: &ByteString) -> Result<Vec<u8>, crate::fs::FsError> {
    let start = root.read_start(file, HEADERS)?;
    let ends = start.len() < HEADERS || memchr::memmem::find(&start, b"\n\n").is_some();
    if ends { Ok(start) } else { root.read(file, Limit::LIST) }
}

/// The lines of `requires.txt` that are not optional, with the markers of their headings.
fn of_requires(content: &[u8]) -> Vec<(u32, String)> {
    let mut heading = String::new();
    let mut is_optional = false;
    let mut found = Vec::new();
    for (number, line) in (1..).zip(content.split(|&b| b == b'\n')) {
        let line = String::from_utf8_lossy(line.trim_ascii()).into_owned();
        if let Some(inside) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            let (extra, marker) = inside.split_once(':').unwrap_or((inside, ""));
            is_optional = !extra.is_empty();
            heading = marker.to_owned();
        } else if !line.is_empty() && !line.starts_with('#') && !is_optional {
            found.push((number, if heading.is_empty() { line } else { format!("{line} ; {heading}") }));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headings_of_old_lists_are_markers_or_options() {
        let lines = of_requires(b"knots>=1\n\n[:python_version < \"3\"]\nbuoy\n\n[png]\ntide\n");
        let expected = [(1, "knots>=1".to_owned()), (4, "buoy ; python_version < \"3\"".to_owned())];
        assert_eq!(lines, expected);
    }
}
