//! What repositories offer: `sync/REPOSITORY.db`, an archive (tar, compressed in any way) of descriptions.
//!
//! Only the repositories that the settings name count, in their order. Nothing is unpacked onto a disk: members are
//! read as they pass, whatever their names say.

use std::io::Read;

use hashbrown::HashMap;

use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::Loss;
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
    pub size: Option<u64>,
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
/// The largest description that is read, in bytes.
const MAX_OF_ONE: u64 = 1 << 20;

/// The catalogues of the repositories that are set, in their order; those that were never fetched are not there.
pub fn read(root: &Root, database: &ByteString, settings: &Settings, notes: &mut Vec<Loss>) -> Vec<Catalogue> {
    let dir = path::join(database, b"sync");
    let mut found = Vec::new();
    for repository in &settings.repositories {
        let file = path::join(&dir, &[&*repository.name, b".db"].concat());
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
    let unpacked = packed::open(bytes).map_err(|error| error.to_string())?;
    let mut archive = tar::Archive::new(unpacked.take(MAX_UNPACKED));
    for member in archive.entries().map_err(|error| error.to_string())? {
        let mut member = member.map_err(|error| error.to_string())?;
        if !member.path_bytes().ends_with(b"/desc") {
            continue;
        }
        let mut content = Vec::new();
        member.by_ref().take(MAX_OF_ONE).read_to_end(&mut content).map_err(|error| error.to_string())?;
        offers.push(offered(&content));
    }
    Ok(())
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
            b"ISIZE" => offer.size = std::str::from_utf8(first).ok().and_then(|size| size.parse().ok()),
            _ => {}
        }
    }
    offer
}
