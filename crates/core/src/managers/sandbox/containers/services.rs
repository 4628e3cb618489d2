//! Services of podman: the files, and what changes them (`podman-systemd.unit(5)`).
//!
//! Traps, as podman's own generator has them: directories below count as well, and hidden ones too; what changes a file
//! can lie in any of the directories, below the file's name, its template's, a part of its name up to a `-`, or
//! `container.d` for all; of two such files of one name, the more special counts, and all are taken in the order of
//! their names; an empty value takes back those before.

use std::collections::BTreeMap;

use super::{Image, add_image};
use crate::backend::simple::InstalledPackage;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Evidence, Loss};
use whodunit_formats::key_file::KeyFile;

/// Where services of the system are described, the strongest first.
pub(super) const OF_SYSTEM: [&str; 3] =
    ["/run/containers/systemd", "/etc/containers/systemd", "/usr/share/containers/systemd"];
/// Where those of all users are.
pub(super) const OF_USERS: &str = "/etc/containers/systemd/users";

/// More than any machine has.
const MAX_DIRS: usize = 1_000;

/// The services that files in these directories describe, the strongest directory first.
pub(super) fn read(
    host: &Host,
    dirs: &[ByteString],
    images: &[(String, ByteString)],
    notes: &mut Vec<Loss>,
) -> Vec<InstalledPackage> {
    let dirs = with_those_below(host, dirs);
    let mut seen: Vec<ByteString> = Vec::new();
    let mut found = Vec::new();
    for dir in &dirs {
        for (name, kind) in host.root.names_in(dir) {
            let Some(stem) = name.strip_suffix(b".container") else { continue };
            if kind == Kind::Dir || seen.contains(&name) {
                continue;
            }
            seen.push(name.clone());
            found.extend(service(host, &dirs, &path::join(dir, &name), stem, images, notes));
        }
    }
    found
}

/// These directories, each with those below it; without those of single users and those of changes.
fn with_those_below(host: &Host, dirs: &[ByteString]) -> Vec<ByteString> {
    let mut found: Vec<ByteString> = Vec::new();
    for dir in dirs {
        let mut open = vec![dir.clone()];
        while let Some(dir) = open.pop().filter(|_| found.len() < MAX_DIRS) {
            let is_others = |below: &ByteString| {
                let of_one = *dir == *OF_USERS.as_bytes() && path::name(below).iter().all(u8::is_ascii_digit);
                of_one || **below == *OF_USERS.as_bytes()
            };
            let names = host.root.names_in(&dir).into_iter();
            let below = names.filter(|(name, kind)| *kind == Kind::Dir && !name.ends_with(b".d"));
            let mut below: Vec<ByteString> = below.map(|(name, _)| path::join(&dir, &name)).collect();
            below.retain(|below| !is_others(below));
            below.reverse();
            open.extend(below);
            found.push(dir);
        }
    }
    found
}

/// A service; `None` where it starts nothing.
fn service(
    host: &Host,
    dirs: &[ByteString],
    file: &ByteString,
    stem: &[u8],
    images: &[(String, ByteString)],
    notes: &mut Vec<Loss>,
) -> Option<InstalledPackage> {
    let mut image = value(host, dirs, file, "Container", "Image", notes)?;
    // An image that a file of its own describes.
    if image.0.ends_with(".image") && !image.0.contains('/') {
        let named = dirs.iter().map(|dir| path::join(dir, image.0.as_bytes()));
        let described = named.into_iter().find(|file| host.root.entry(file).is_ok());
        image = described.and_then(|file| value(host, dirs, &file, "Image", "Image", notes)).unwrap_or(image);
    }
    let (name, at) = image;
    let mut item = InstalledPackage::new("container", stem);
    item.installed_at = host.root.modified(file);
    item.also.push([stem, b".service"].concat().into());
    match Image::parse(&name) {
        Some(image) => {
            let says = add_image(&mut item, &image, images);
            item.evidence.insert(0, Evidence::at(at, "Image", says));
        }
        None => item.evidence.push(Evidence::at(at, "Image", "a container, of which image is not told")),
    }
    Some(item)
}

/// The value of a key in a file, as other files change it; and where it stands.
fn value(
    host: &Host,
    dirs: &[ByteString],
    file: &ByteString,
    group: &str,
    key: &str,
    notes: &mut Vec<Loss>,
) -> Option<(String, ByteString)> {
    let mut found = None;
    for file in std::iter::once(file.clone()).chain(changes(host, dirs, path::name(file))) {
        // What is to start nothing is a link to this.
        if host.root.read_link(&file).is_ok_and(|target| *target == *b"/dev/null") {
            continue;
        }
        match host.root.read(&file, Limit::SMALL) {
            Ok(content) => {
                let read = KeyFile::parse(&content);
                if let Some(value) = read.get(group, key) {
                    let value = value.trim().trim_matches(['"', '\'']);
                    found = (!value.is_empty()).then(|| (value.to_owned(), file));
                }
            }
            Err(error) => notes.push(Loss::unread(&error, "what it starts is unknown")),
        }
    }
    found
}

/// The files that change one of this name, in the order in which they do.
fn changes(host: &Host, dirs: &[ByteString], name: &[u8]) -> Vec<ByteString> {
    let dot = memchr::memrchr(b'.', name).unwrap_or(name.len());
    let (stem, ending) = name.split_at(dot);
    let mut places: Vec<Vec<u8>> = vec![[name, b".d"].concat()];
    let mut cut = |end: usize| places.push([&stem[..end], ending, b".d"].concat());
    if let Some(at) = memchr::memchr(b'@', stem).filter(|at| at + 1 < stem.len()) {
        cut(at + 1);
    }
    memchr::memrchr_iter(b'-', stem).filter(|at| at + 1 < stem.len()).for_each(|at| cut(at + 1));
    places.push([&ending[1.min(ending.len())..], b".d"].concat());
    let mut found: BTreeMap<ByteString, ByteString> = BTreeMap::new();
    for place in &places {
        for dir in dirs {
            let dir = path::join(dir, place);
            let names = host.root.names_in(&dir).into_iter().filter(|(name, _)| name.ends_with(b".conf"));
            for (name, _) in names {
                let file = path::join(&dir, &name);
                found.entry(name).or_insert(file);
            }
        }
    }
    found.into_values().collect()
}
