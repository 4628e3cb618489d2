//! What repositories offer: `sync/REPOSITORY.db`, an archive (tar, compressed in any way) of descriptions.
//!
//! Only the repositories that the settings name count, in their order. Nothing is unpacked onto a disk: members are
//! read as they pass, whatever their names say.

use std::io::Read;

use hashbrown::HashMap;

use crate::backend::listed::{Role, role};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::{Loss, Search};
use whodunit_formats::packed;

use super::local::sections;
use super::settings::Settings;

/// One offer.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Offered {
    pub name: ByteString,
    pub version: ByteString,
    pub arch: Option<ByteString>,
    pub says: Option<ByteString>,
    pub homepage: Option<ByteString>,
    pub license: Option<ByteString>,
    pub packager: Option<ByteString>,
    pub download_size: Option<u64>,
    pub size: Option<u64>,
    pub depends: Vec<ByteString>,
    pub provides: Vec<ByteString>,
}

/// What one repository had when it was last asked.
#[derive(Debug)]
pub struct Catalogue {
    pub repository: ByteString,
    pub file: ByteString,
    /// When it was fetched: seconds since 1970.
    pub dated: i64,
    pub offers: Vec<Offered>,
}

/// The most bytes of one catalogue that are read.
const MAX_UNPACKED: u64 = 512 << 20;
/// The largest description or list of files that is read, in bytes.
const MAX_OF_ONE: u64 = 16 << 20;

/// The catalogues of the repositories that are set, in their order; those that were never fetched are not there.
pub fn read(root: &Root, database: &ByteString, settings: &Settings, notes: &mut Vec<Loss>) -> Vec<Catalogue> {
    let mut found = Vec::new();
    for repository in &settings.repositories {
        let file = repository.file(database, ".db");
        let Ok(meta) = root.target(&file) else { continue };
        let lost = "what it offers is unknown in full";
        match root.read(&file, Limit::RECORD) {
            Ok(bytes) => {
                let mut offers = Vec::new();
                if let Err(problem) = members(&bytes, &mut offers) {
                    notes.push(Loss::damaged(file.clone(), problem.clone(), lost.to_string()));
                }
                found.push(Catalogue { repository: repository.name.clone(), file, dated: meta.modified, offers });
            }
            Err(error) => notes.push(Loss::unread(&error, lost.to_string())),
        }
    }
    found
}

/// For each name the first repository that has it: that one counts, whatever the others have.
pub fn firsts(catalogues: &[Catalogue]) -> HashMap<&ByteString, &ByteString> {
    let all = catalogues.iter().flat_map(|one| one.offers.iter().map(|offer| (&offer.name, &one.repository)));
    // Of several the last one stays.
    all.rev().collect()
}

fn members(bytes: &[u8], offers: &mut Vec<Offered>) -> Result<(), String> {
    each_member(bytes, b"/desc", &mut |_, content| offers.push(offered(content)))
}

/// Hands every member of an archive whose path ends so to `take`, with its path.
fn each_member(bytes: &[u8], ending: &[u8], take: &mut dyn FnMut(&[u8], &[u8])) -> Result<(), String> {
    let unpacked = packed::open(bytes).map_err(|error| error.to_string())?;
    let mut archive = tar::Archive::new(unpacked.take(MAX_UNPACKED));
    for member in archive.entries().map_err(|error| error.to_string())? {
        let mut member = member.map_err(|error| error.to_string())?;
        let place = member.path_bytes().into_owned();
        if !place.ends_with(ending) {
            continue;
        }
        let mut content = Vec::new();
        member.by_ref().take(MAX_OF_ONE).read_to_end(&mut content).map_err(|error| error.to_string())?;
        take(&place, &content);
    }
    Ok(())
}

fn number(text: &[u8]) -> Option<u64> {
    std::str::from_utf8(text).ok()?.parse().ok()
}

/// The name in `NAME-VERSION-RELEASE`.
fn name_of(entry: &[u8]) -> Option<&[u8]> {
    let release = memchr::memrchr(b'-', entry)?;
    let version = memchr::memrchr(b'-', &entry[..release])?;
    Some(&entry[..version])
}

/// Whether lists of files were fetched (`pacman -Fy`).
pub fn has_lists(root: &Root, database: &ByteString, settings: &Settings) -> bool {
    settings.repositories.iter().any(|one| root.target(&one.file(database, ".files")).is_ok())
}

/// The commands that packages bring, of those that a search names: from `sync/REPOSITORY.files`.
pub fn commands(
    root: &Root,
    database: &ByteString,
    settings: &Settings,
    search: &Search,
    notes: &mut Vec<Loss>,
) -> HashMap<ByteString, Vec<ByteString>> {
    let mut found: HashMap<ByteString, Vec<ByteString>> = HashMap::new();
    for repository in &settings.repositories {
        let file = repository.file(database, ".files");
        if root.target(&file).is_err() {
            continue;
        }
        let read = root.read(&file, Limit::RECORD).map_err(|error| error.reason()).and_then(|bytes| {
            each_member(&bytes, b"/files", &mut |place, content| {
                let Some(name) = name_of(path::parent(place).rsplit(|&b| b == b'/').next().unwrap_or_default()) else {
                    return;
                };
                for line in content.split(|&b| b == b'\n').filter(|line| search.is_command(path::name(line))) {
                    if role(&path::join(b"/", line)) == Some(Role::Command) {
                        let known = found.entry(name.into()).or_default();
                        known.push(path::name(line).into());
                    }
                }
            })
        });
        notes.extend(
            read.err().map(|problem| Loss::damaged(file, problem, "which commands packages bring is unknown in full")),
        );
    }
    found
}

fn offered(content: &[u8]) -> Offered {
    let mut offer = Offered::default();
    for (key, _, values) in sections(content) {
        let first = values.first().copied().unwrap_or_default();
        match key {
            b"NAME" => offer.name = first.into(),
            b"VERSION" => offer.version = first.into(),
            b"ARCH" => offer.arch = Some(first.into()),
            b"DESC" => offer.says = Some(first.into()),
            b"URL" => offer.homepage = ByteString::unless_empty(first),
            b"LICENSE" => offer.license = ByteString::unless_empty(values.join(&b" "[..])),
            b"PACKAGER" => offer.packager = ByteString::unless_empty(first),
            b"ISIZE" => offer.size = number(first),
            b"CSIZE" => offer.download_size = number(first),
            b"DEPENDS" => offer.depends = values.iter().map(|one| ByteString::from(*one)).collect(),
            b"PROVIDES" => offer.provides = values.iter().map(|one| ByteString::from(*one)).collect(),
            _ => {}
        }
    }
    offer
}
