//! Version hints for a file without an owner, without running it.

mod beside;
mod likely;

use std::io::Read as _;

pub use likely::Archives;

use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::Evidence;
use whodunit_formats::{binary, manual, settings, versioned};

/// A version that was found somewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hint {
    /// The version.
    pub version: ByteString,
    /// The name that goes with it, where one is given.
    pub name: Option<String>,
    /// Where it stands.
    pub evidence: Evidence,
    /// Whether it is a guess: it stands near the program, and need not be of the same build.
    pub is_probable: bool,
}

impl Hint {
    fn certain(version: impl Into<ByteString>, name: Option<String>, evidence: Evidence) -> Self {
        Hint { version: version.into(), name, evidence, is_probable: false }
    }

    fn probable(version: impl Into<ByteString>, name: Option<String>, evidence: Evidence) -> Self {
        Hint { is_probable: true, ..Hint::certain(version, name, evidence) }
    }
}

/// The most that a compressed manual page may grow to before its header is looked for.
const MANUAL_START: u64 = 64 << 10;

/// What the file says: a manual page's header, a pkg-config file's version, the build information in a program, a
/// script's own variable; else what was installed beside it, or a version in the name of a directory that it lies in.
#[must_use]
pub fn of_file(root: &Root, file: &ByteString) -> Option<Hint> {
    let inside = if is_manual(file) {
        manual_page(root, file)
    } else if file.ends_with(b".pc") {
        pkg_config(root, file)
    } else {
        let own = program(root, file).or_else(|| script(root, file));
        own.or_else(|| beside::application(root, file)).or_else(|| beside::of(root, file))
    };
    inside.or_else(|| of_dir(path::parent(file)))
}

/// What is near a program of which [`of_file`] knows nothing: its source tree, one of the archives that bears its name,
/// its name with a version behind it in its own data.
#[must_use]
pub fn probable(archives: &Archives<'_>, file: &ByteString) -> Option<Hint> {
    let host = archives.host;
    likely::source_tree(host, file).or_else(|| archives.of(file)).or_else(|| likely::data(&host.root, file))
}

/// Whether a path is that of a manual page: `man/man1/x.1`, `man/de/man1/x.1.gz`.
#[must_use]
pub fn is_manual(file: &[u8]) -> bool {
    let dir = path::name(path::parent(file));
    dir.len() > 3 && dir.starts_with(b"man") && dir[3].is_ascii_digit()
}

fn manual_page(root: &Root, file: &ByteString) -> Option<Hint> {
    let opened = root.open(file).ok()?;
    let mut start = Vec::new();
    if file.ends_with(b".gz") {
        flate2::read::GzDecoder::new(opened).take(MANUAL_START).read_to_end(&mut start).ok()?;
    } else {
        opened.take(MANUAL_START).read_to_end(&mut start).ok()?;
    }
    let (version, line) = manual::version(&start)?;
    let evidence =
        Evidence::line(file.clone(), line, format!("the manual page's header says {}", ByteString::from(&*version)));
    Some(Hint::certain(version, None, evidence))
}

fn pkg_config(root: &Root, file: &ByteString) -> Option<Hint> {
    let content = root.read(file, Limit::SMALL).ok()?;
    for (number, line) in (1..).zip(content.split(|&b| b == b'\n')) {
        if let Some(value) = line.strip_prefix(b"Version:") {
            let value = value.trim_ascii();
            // A variable is looked up among the file's own definitions.
            let value = match value.strip_prefix(b"${").and_then(|name| name.strip_suffix(b"}")) {
                Some(name) => settings::assignments(&content).find(|set| set.name == name)?.value,
                None => value,
            };
            let evidence = Evidence::line(file.clone(), number, format!("Version: {}", ByteString::from(value)));
            return (!value.is_empty()).then(|| Hint::certain(value, None, evidence));
        }
    }
    None
}

fn program(root: &Root, file: &ByteString) -> Option<Hint> {
    let info = binary::build_info(root.open(file).ok()?)?;
    let version = info.version?;
    let says = match &info.name {
        Some(name) => format!("{} {}", ByteString::from(name.as_str()), ByteString::from(version.as_str())),
        None => ByteString::from(version.as_str()).to_string(),
    };
    let evidence = Evidence::at(file.clone(), format!("section {}", info.section), says);
    Some(Hint::certain(version.trim_start_matches('v'), info.name, evidence))
}

/// The most of a script that is searched for a variable with its version.
const SCRIPT_START: usize = 256 << 10;

fn script(root: &Root, file: &ByteString) -> Option<Hint> {
    // Most programs are none: their first bytes tell.
    if root.read_start(file, 2).ok()? != b"#!" {
        return None;
    }
    let stated = versioned::in_script(&root.read_start(file, SCRIPT_START).ok()?)?;
    let evidence = Evidence::line(file.clone(), stated.line, format!("the script's own version is {}", stated.version));
    Some(Hint::certain(&*stated.version, None, evidence))
}

/// A version in the name of the nearest directory that has one: `/opt/barolog-2.1.0/bin`.
#[must_use]
pub fn of_dir(dir: &[u8]) -> Option<Hint> {
    let mut at = dir;
    while at.len() > 1 {
        let name = String::from_utf8_lossy(path::name(at)).into_owned();
        if is_plain_version(&name) {
            let software = String::from_utf8_lossy(path::name(path::parent(at))).into_owned();
            let evidence = Evidence::file_name(at, ByteString::from(&*name).to_string());
            return Some(Hint::certain(name, (!software.is_empty()).then_some(software), evidence));
        }
        if let Some((stem, version)) = split_version(&name) {
            let evidence = Evidence::file_name(at, format!("{} {}", ByteString::from(stem), ByteString::from(version)));
            return Some(Hint::certain(version, Some(stem.to_owned()), evidence));
        }
        at = path::parent(at);
    }
    None
}

/// `barolog-2.1.0-linux-x64` → `barolog` and `2.1.0`. A version needs a dot: `man1` and `python3` are names.
fn split_version(name: &str) -> Option<(&str, &str)> {
    let starts = name.char_indices().filter(|&(_, c)| matches!(c, '-' | '_'));
    for (at, _) in starts {
        let rest = &name[at + 1..];
        let rest = rest.strip_prefix('v').unwrap_or(rest);
        let end = rest.find(['-', '_']).unwrap_or(rest.len());
        let version = &rest[..end];
        let looks = version.starts_with(|c: char| c.is_ascii_digit())
            && version.contains('.')
            && version.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '+' | '~'));
        if looks && at > 0 {
            return Some((&name[..at], version));
        }
    }
    None
}

/// `5.100.0` or `v2.1`: nothing but digits with dots between them.
fn is_plain_version(name: &str) -> bool {
    let name = name.strip_prefix('v').unwrap_or(name);
    name.contains('.') && name.split('.').all(|part| !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dir_name_gives_a_version_only_where_it_has_one() {
        for (dir, hint) in [
            ("/opt/barolog-2.1.0/bin", Some(("barolog", "2.1.0"))),
            ("/opt/tide-gauge-v0.9.1-linux-x64", Some(("tide-gauge", "0.9.1"))),
            ("/opt/a_1.0/share/x-9", Some(("a", "1.0"))),
            ("/usr/local/lib/python3.11/man1", None),
            ("/opt/wave/v5.100.0/linux/x", Some(("wave", "v5.100.0"))),
            ("/opt/-1.0", None),
            ("/", None),
        ] {
            let found = of_dir(dir.as_bytes()).map(|hint| (hint.name.unwrap(), hint.version.to_string()));
            assert_eq!(found, hint.map(|(name, version)| (name.to_owned(), version.to_owned())), "{dir}");
        }
    }
}
