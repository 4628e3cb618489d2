//! What repositories offered when dnf or zypper last asked them.

use std::io::{BufReader, Read as _};

use super::modules::Modules;
use super::records::Records;
use super::repositories::Repository;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::Loss;
use whodunit_formats::{packed, primary};

/// Where caches are, and whether dnf keeps them: a directory's name ends in a digest of the address then.
const CACHES: [(&[u8], bool); 3] =
    [(b"/var/cache/dnf", true), (b"/var/cache/libdnf5", true), (b"/var/cache/zypp/raw", false)];

/// The most bytes of one catalogue that are read.
const MAX_UNPACKED: u64 = 2 << 30;

/// One package in a catalogue.
#[derive(Debug, Clone)]
pub struct Offered {
    pub repository: ByteString,
    pub file: ByteString,
    /// When it was fetched: seconds since 1970.
    pub dated: i64,
    pub package: primary::Primary,
}

/// Every wanted package that a repository in use offers.
pub fn read(
    root: &Root,
    records: &Records,
    wanted: &dyn Fn(&primary::Primary) -> bool,
    notes: &mut Vec<Loss>,
) -> Vec<Offered> {
    let mut found = Vec::new();
    let mut take = |of: &Catalogue<'_>, package: primary::Primary| {
        if wanted(&package) {
            let (repository, file) = (of.repository.name.clone(), of.file.clone());
            found.push(Offered { repository, file, dated: of.dated, package });
        }
    };
    each(root, records, Relations::LeftOut, &mut take, notes);
    found
}

/// What a package is listed in.
pub struct Catalogue<'r> {
    pub repository: &'r Repository,
    file: ByteString,
    dated: i64,
}

/// Whether it is read what packages provide and need.
#[derive(Clone, Copy)]
pub enum Relations {
    Read,
    LeftOut,
}

/// Hands over every package that a repository in use gives.
pub fn each(
    root: &Root,
    records: &Records,
    relations: Relations,
    take: &mut dyn FnMut(&Catalogue<'_>, primary::Primary),
    notes: &mut Vec<Loss>,
) {
    let used = |fetched: Fetched| {
        let repository = records.repositories.iter().find(|one| one.enabled && one.name == fetched.repository)?;
        Some((repository, fetched))
    };
    let fetched: Vec<(&Repository, Fetched)> = files(root).into_iter().filter_map(used).collect();
    let of_modules: Vec<ByteString> = fetched.iter().filter_map(|(_, one)| one.modules.clone()).collect();
    let modules = records.modules.get_or_init(|| Modules::read(root, &of_modules));
    notes.extend(modules.notes.iter().cloned());
    for (used, Fetched { file, .. }) in fetched {
        let dated = root.entry(&file).map_or(0, |meta| meta.modified);
        let catalogue = Catalogue { repository: used, file: file.clone(), dated };
        let mut taken = |package: primary::Primary| {
            if used.gives(package.name.as_bytes(), package.arch.as_bytes())
                && (used.ignores_modules || modules.give(&package))
            {
                take(&catalogue, package);
            }
        };
        let relations = if modules.ask_for_provides() { Relations::Read } else { relations };
        let read = match root.stream(&file, Limit::RECORD) {
            Ok(bytes) => packed::open(bytes).map_err(|error| error.to_string()).and_then(|stream| {
                let stream = BufReader::with_capacity(256 << 10, stream.take(MAX_UNPACKED));
                let read = match relations {
                    Relations::Read => primary::each_with_relations(stream, &mut taken),
                    Relations::LeftOut => primary::each(stream, &mut taken),
                };
                read.map_err(|error| error.to_string())
            }),
            Err(error) => Err(error.reason()),
        };
        notes.extend(read.err().map(|problem| Loss::damaged(file.clone(), problem, "what follows is unknown")));
    }
}

/// The repositories of which a catalogue was fetched.
pub fn fetched(root: &Root) -> Vec<ByteString> {
    files(root).into_iter().map(|one| one.repository).collect()
}

/// The files of a repository's metadata.
pub struct Fetched {
    pub repository: ByteString,
    /// The catalogue.
    pub file: ByteString,
    /// The modules, in dnf's caches.
    modules: Option<ByteString>,
}

/// Each repository with its files, once.
pub fn files(root: &Root) -> Vec<Fetched> {
    let mut found: Vec<Fetched> = Vec::new();
    for (cache, is_of_dnf) in CACHES {
        let names = root.names_in(cache);
        for (name, _) in names.iter().filter(|(_, kind)| *kind == Kind::Dir) {
            // `NAME-0123456789abcdef`
            let cut = name.len().checked_sub(17).filter(|&at| is_of_dnf && name[at] == b'-');
            let repository = &name[..cut.unwrap_or(name.len())];
            if found.iter().any(|other| *other.repository == *repository) {
                continue;
            }
            let dir = path::join(&path::join(cache, name), b"repodata");
            let files = root.names_in(&dir);
            let called = |part: &[u8]| {
                let file = files.iter().find(|(file, _)| memchr::memmem::find(file, part).is_some());
                file.map(|(file, _)| path::join(&dir, file))
            };
            found.extend(called(b"primary.xml").map(|file| Fetched {
                repository: repository.into(),
                file,
                modules: called(b"modules.yaml").filter(|_| is_of_dnf),
            }));
        }
    }
    found
}
