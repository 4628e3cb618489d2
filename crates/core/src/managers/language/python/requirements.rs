//! What distributions declare that they require.
//!
//! `METADATA` has a `Requires-Dist` for each requirement, and so has an `.egg-info` or its `PKG-INFO`; where an old one
//! has none, they stand in `requires.txt`, the optional ones under headings such as `[png]`, with a marker behind a
//! colon: `[:python_version < "3"]`.

use super::distribution::{self, Distribution};
use super::requirement::Requirement;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};

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
    let mut said = |file: &ByteString, is_list: bool| {
        let read = if is_list { root.read(file, Limit::SMALL) } else { headers(root, file) };
        match read {
            Ok(content) if is_list => of_requires(&content),
            Ok(content) => of_headers(&content),
            Err(error) if error.is_missing() => Vec::new(),
            Err(error) => {
                notes.push((file.clone(), format!("{}: what {} requires is unknown", error.reason(), one.name)));
                Vec::new()
            }
        }
    };
    let mut file = header_file(root, &one.metadata);
    let mut lines = said(&file, false);
    // Only where its headers name nothing is an old one's list read.
    if lines.is_empty() && !one.metadata.ends_with(b".dist-info") {
        let list = path::join(&one.metadata, b"requires.txt");
        lines = said(&list, true);
        file = if lines.is_empty() { file } else { list };
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

/// The file that has the headers of a distribution.
fn header_file(root: &Root, metadata: &ByteString) -> ByteString {
    let is_file = || root.target(metadata).is_ok_and(|meta| meta.kind == Kind::File);
    match metadata.ends_with(b".dist-info") {
        true => path::join(metadata, b"METADATA"),
        false if is_file() => metadata.clone(),
        false => path::join(metadata, b"PKG-INFO"),
    }
}

fn headers(root: &Root, file: &ByteString) -> Result<Vec<u8>, crate::fs::FsError> {
    let start = root.read_start(file, HEADERS)?;
    let ends = start.len() < HEADERS || memchr::memmem::find(&start, b"\n\n").is_some();
    if ends { Ok(start) } else { root.read(file, Limit::LIST) }
}

/// What each `Requires-Dist` of the headers says.
fn of_headers(content: &[u8]) -> Vec<(u32, String)> {
    let headers = (1..).zip(content.split(|&b| b == b'\n')).take_while(|(_, line)| !line.trim_ascii().is_empty());
    let required = headers.filter_map(|(number, line)| {
        let at = memchr::memchr(b':', line).filter(|at| line[..*at].eq_ignore_ascii_case(b"Requires-Dist"))?;
        Some((number, String::from_utf8_lossy(line[at + 1..].trim_ascii()).into_owned()))
    });
    required.collect()
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
