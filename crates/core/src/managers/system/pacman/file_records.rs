//! What pacman recorded of each file: the package's `mtree`, and which of its files users are meant to change.
//!
//! | what | where |
//! |---|---|
//! | sort, permissions, owner, time, size, target, digest | `local/NAME-VERSION/mtree`, packed with gzip |
//! | settings | the section `%BACKUP%` of `files` |
//! | what was not unpacked on purpose | `NoExtract` of `pacman.conf` |
//!
//! Traps: `/set` lines change what is left out in the lines after them; names are escaped in octal; the first entries,
//! such as `./.PKGINFO`, are the package's own papers.

use hashbrown::{HashMap, HashSet};

use super::local::{sections, unescaped, unpacked};
use super::settings::Settings;
use crate::backend::simple::{InstalledPackage, each_record, whole};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Algorithm, Digest, FileRecord, Loss};

/// The files of these items, each with its number; losses are added to `notes`.
pub fn files(
    root: &Root,
    settings: &Settings,
    items: &[(u32, &InstalledPackage)],
    notes: &mut Vec<Loss>,
) -> Vec<FileRecord> {
    each_record(items, |number, item| whole(of_item(root, settings, number, item)), notes)
}

fn of_item(root: &Root, settings: &Settings, number: u32, item: &InstalledPackage) -> Result<Vec<FileRecord>, String> {
    let file = path::join(&item.entry, b"mtree");
    let packed = root.read(&file, Limit::LIST).map_err(|error| error.to_string())?;
    let content = unpacked(&packed).ok_or_else(|| format!("{file}: damaged"))?;
    let listed = match root.read(&path::join(&item.entry, b"files"), Limit::LIST) {
        // A package without files need not have a list.
        Err(error) if error.is_missing() => Vec::new(),
        read => read.map_err(|error| error.to_string())?,
    };
    let backup = sections(&listed).find(|(key, ..)| *key == b"BACKUP").map(|(_, _, values)| values);
    let name_of = |line: &[u8]| ByteString::from(line.split(|&b| b == b'\t').next().unwrap_or_default());
    let backup: HashSet<ByteString> = backup.unwrap_or_default().into_iter().map(name_of).collect();
    let mut usual: HashMap<&[u8], &[u8]> = HashMap::new();
    let mut found = Vec::new();
    for line in content.split(|&b| b == b'\n') {
        let mut words = line.split(|&b| b == b' ').filter(|word| !word.is_empty());
        let Some(first) = words.next() else { continue };
        let pairs = words.map(|word| {
            let at = memchr::memchr(b'=', word).unwrap_or(word.len());
            (&word[..at], word.get(at + 1..).unwrap_or_default())
        });
        if first == b"/set" {
            usual.extend(pairs);
            continue;
        }
        if first == b"/unset" {
            pairs.for_each(|(key, _)| {
                usual.remove(key);
            });
            continue;
        }
        let Some(named) = first.strip_prefix(b"./") else { continue };
        if named.starts_with(b".") && !named.contains(&b'/') {
            continue;
        }
        let name = ByteString::from(unescaped(named));
        let mut words = usual.clone();
        words.extend(pairs);
        let mut one = of_words(&words);
        one.package = number;
        one.is_settings = backup.contains(&name);
        one.may_be_absent = settings.leaves_out(&name);
        one.path = path::join(b"/", &name);
        found.push(one);
    }
    Ok(found)
}

fn of_words(words: &HashMap<&[u8], &[u8]>) -> FileRecord {
    let text = |key: &str| words.get(key.as_bytes()).and_then(|value| std::str::from_utf8(value).ok());
    let kind = match text("type") {
        Some("file") => Some(Kind::File),
        Some("dir") => Some(Kind::Dir),
        Some("link") => Some(Kind::Link),
        _ => None,
    };
    let is_file = kind == Some(Kind::File);
    let digest = |key: &str, algorithm| text(key).map(|digest| Digest::from_hexadecimal(algorithm, digest));
    let digest = digest("sha256digest", Algorithm::Sha256).or_else(|| digest("md5digest", Algorithm::Md5));
    let seconds = || text("time")?.split('.').next()?.parse().ok();
    FileRecord {
        kind,
        digest: digest.filter(|_| is_file),
        size: text("size").and_then(|size| size.parse().ok()).filter(|_| is_file),
        // A link has no permissions of its own.
        mode: text("mode").and_then(|mode| u32::from_str_radix(mode, 8).ok()).filter(|_| kind != Some(Kind::Link)),
        owner: text("uid").and_then(|uid| uid.parse().ok()),
        group: text("gid").and_then(|gid| gid.parse().ok()),
        // That of a directory changes with what is in it.
        modified: if kind == Some(Kind::Dir) { None } else { seconds() },
        target: words.get(&b"link"[..]).map(|target| unescaped(target).into()),
        ..FileRecord::default()
    }
}
