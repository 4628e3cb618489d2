//! Bundles by their content, and what each says of itself.

use hashbrown::HashSet;

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Meta, WalkLimits};
use crate::host::Host;
use whodunit_formats::bundle::{self, Bundle, HEAD};
use whodunit_formats::desktop_entry::DesktopEntry;

const LIMITS: WalkLimits = WalkLimits { depth: 4, entries: 50_000 };

/// Every bundle in the directories, each file once.
pub fn look(host: &Host, dirs: &[ByteString], seen: &mut HashSet<ByteString>) -> Vec<Found> {
    let mut found = Vec::new();
    for dir in dirs {
        let start = host.root.canonicalize_dir(dir);
        if !host.root.target(&start).is_ok_and(|meta| meta.kind == Kind::Dir) {
            continue;
        }
        host.root.walk_quietly(&start, LIMITS, &mut |entry| {
            if entry.kind == Kind::File && seen.insert(entry.path.clone()) {
                found.extend(Found::at(host, entry.path));
            }
            true
        });
    }
    found
}

/// The links in some directories that lead to files, with these.
pub fn links_in(host: &Host, dirs: &[ByteString]) -> Vec<(ByteString, ByteString)> {
    let mut found = Vec::new();
    for dir in dirs {
        let Ok(names) = host.root.dir(dir).and_then(|dir| dir.list()) else { continue };
        for (name, _) in names.iter().filter(|(_, kind)| *kind == Kind::Link) {
            let link = path::join(dir, name);
            let target = host.root.canonicalize_dir(&link);
            if host.root.entry(&target).is_ok_and(|meta| meta.kind == Kind::File) {
                found.push((link, target));
            }
        }
    }
    found
}

/// A bundle, by its file.
pub struct Found {
    pub path: ByteString,
    pub meta: Meta,
    pub bundle: Bundle,
    pub name: ByteString,
    pub version: Option<ByteString>,
}

impl Found {
    pub fn at(host: &Host, file: &ByteString) -> Option<Self> {
        let head = host.root.read_listed_start(file, HEAD).ok()?;
        bundle::form(&head)?;
        let meta = host.root.entry(file).ok()?;
        let bundle = bundle::inspect(|| host.root.open(file).ok(), &head, meta.size)?;
        let entry = bundle.launcher.as_ref().and_then(|(_, content)| DesktopEntry::parse(content).ok());
        let inside =
            |key: &str| entry.as_ref().and_then(|entry| entry.text(key)).filter(|text| !text.trim().is_empty());
        let (guessed, guess) = from_file_name(&String::from_utf8_lossy(path::name(file)));
        let name = inside("X-AppImage-Name").or_else(|| inside("Name")).unwrap_or(guessed);
        let version = inside("X-AppImage-Version").or(guess);
        Some(Found { path: file.clone(), meta, bundle, name: name.into(), version: version.map(ByteString::from) })
    }
}

/// `Wigeon-0.3-beta2-x86_64.AppImage` → `Wigeon` and `0.3-beta2`.
fn from_file_name(file: &str) -> (String, Option<String>) {
    let stem = file.strip_suffix(".AppImage").or_else(|| file.strip_suffix(".appimage")).unwrap_or(file);
    let arches = ["-x86_64", "-i686", "-i386", "-aarch64", "-armhf"];
    let stem = arches.iter().find_map(|arch| stem.strip_suffix(arch)).unwrap_or(stem);
    let cut = stem.match_indices('-').find(|(at, _)| {
        let rest = stem[at + 1..].trim_start_matches('v');
        rest.starts_with(|c: char| c.is_ascii_digit())
    });
    match cut {
        Some((at, _)) if at > 0 => (stem[..at].to_owned(), Some(stem[at + 1..].trim_start_matches('v').to_owned())),
        _ => (stem.to_owned(), None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn file_names_give_a_guess() {
        for (file, name, version) in [
            ("Wigeon-0.3-beta2-x86_64.AppImage", "Wigeon", Some("0.3-beta2")),
            ("Foghorn.AppImage", "Foghorn", None),
            ("tide-clock-v2.1.AppImage", "tide-clock", Some("2.1")),
            ("redpoll", "redpoll", None),
            ("-1.0.AppImage", "-1.0", None),
        ] {
            assert_eq!(from_file_name(file), (name.to_owned(), version.map(str::to_owned)), "{file}");
        }
    }
}
