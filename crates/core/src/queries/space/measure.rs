//! What packages take on the disk, every file once.

use std::sync::{Mutex, PoisonError};

use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use crate::bytes::{ByteString, path};
use crate::digests::Progress;
use crate::fs::{FsError, Kind, Meta};
use crate::model::{Depth, FileRecord};
use crate::queries::by_holder;
use crate::survey::Survey;

/// A package: holder and number.
pub(super) type Key = (u16, u32);

/// What one package takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Size {
    /// Bytes of files that only it has.
    pub(super) own: u64,
    /// Bytes of files that other packages have as well.
    pub(super) shared: u64,
    /// Whether a part could not be looked at.
    pub(super) is_partial: bool,
}

/// What all packages take.
#[derive(Debug, Default)]
pub(super) struct Measured {
    /// Each package whose files are known.
    pub(super) sizes: HashMap<Key, Size>,
    /// Packages that lie within the tree of another one, which go with it.
    pub(super) within: HashMap<Key, Vec<Key>>,
    /// Bytes of files that several packages have, by who has them.
    pub(super) sharing: HashMap<Vec<Key>, u64>,
    /// Files of packages that have several names.
    pub(super) linked: HashSet<(u64, u64)>,
}

/// One file on the disk, under whatever names.
#[derive(Debug, Clone, Copy)]
struct File {
    bytes: u64,
    first: Key,
    is_linked: bool,
}

/// The files that packages have one by one, or under several names.
#[derive(Debug, Default)]
struct Files {
    known: HashMap<(u64, u64), File>,
    /// The owners of files that have several.
    owners: HashMap<(u64, u64), Vec<Key>>,
}

impl Files {
    fn add(&mut self, key: Key, meta: Meta) {
        let File { first, .. } = *self.known.entry(meta.identity).or_insert(File {
            bytes: meta.disk,
            first: key,
            is_linked: meta.links > 1,
        });
        if first != key {
            let owners = self.owners.entry(meta.identity).or_insert_with(|| vec![first]);
            if !owners.contains(&key) {
                owners.push(key);
            }
        }
    }
}

/// Looks at every file of every package, or of these only; tells of each.
pub(super) fn measure(survey: &Survey<'_>, only: Option<&HashSet<Key>>, progress: &dyn Progress) -> Measured {
    let mut measured = Measured::default();
    let mut files = Files::default();
    add_listed(survey, only, &mut measured, &mut files, progress);
    add_trees(survey, only, &mut measured, &mut files, progress);
    for (identity, File { bytes, first, is_linked }) in &files.known {
        if *is_linked {
            measured.linked.insert(*identity);
        }
        match files.owners.get(identity) {
            None => measured.sizes.entry(*first).or_default().own += bytes,
            Some(owners) => {
                owners.iter().for_each(|key| measured.sizes.entry(*key).or_default().shared += bytes);
                let mut owners = owners.clone();
                owners.sort_unstable();
                *measured.sharing.entry(owners).or_default() += bytes;
            }
        }
    }
    measured
}

/// The files that managers list one by one.
fn add_listed(
    survey: &Survey<'_>,
    only: Option<&HashSet<Key>>,
    measured: &mut Measured,
    files: &mut Files,
    progress: &dyn Progress,
) {
    let root = survey.root();
    let of_holder = only.map(|only| by_holder(only.iter().copied()));
    for (holder, held) in (0..).zip(survey.installations()) {
        let Some(records) = held.file_records() else { continue };
        let numbers = of_holder.as_ref().map(|of_holder| of_holder.get(&holder).map_or(&[][..], Vec::as_slice));
        if numbers.is_some_and(<[u32]>::is_empty) {
            continue;
        }
        records.each_batch(numbers, Depth::Presence, &mut |mut batch: Vec<FileRecord>| {
            batch.retain(|one| !survey.is_foreign(holder, one.package));
            let of_dir = |together: &[FileRecord]| -> Vec<(u32, Result<Meta, FsError>)> {
                let dir = root.dir(path::parent(&together[0].path));
                let of_file = |one: &FileRecord| match &dir {
                    Ok(dir) => (one.package, dir.entry(path::name(&one.path))),
                    Err(_) => (one.package, root.entry(&one.path)),
                };
                together.iter().map(of_file).collect()
            };
            let is_together = |a: &FileRecord, b: &FileRecord| path::parent(&a.path) == path::parent(&b.path);
            let found: Vec<_> = batch.par_chunk_by(is_together).flat_map_iter(of_dir).collect();
            for (package, meta) in found {
                let size = measured.sizes.entry((holder, package)).or_default();
                match meta {
                    // A directory is mostly that of many packages, and takes next to nothing.
                    Ok(meta) if meta.kind == Kind::Dir => {}
                    Ok(meta) => {
                        progress.done(meta.disk);
                        files.add((holder, package), meta);
                    }
                    Err(error) => size.is_partial |= !error.is_missing(),
                }
            }
        });
    }
}

/// What a walk through one tree finds.
#[derive(Debug, Default)]
struct Walked {
    bytes: u64,
    linked: Vec<Meta>,
    within: HashSet<Key>,
}

/// What lies in trees that are a package's own. What another package has within such a tree is that one's.
fn add_trees(
    survey: &Survey<'_>,
    only: Option<&HashSet<Key>>,
    measured: &mut Measured,
    files: &mut Files,
    progress: &dyn Progress,
) {
    let root = survey.root();
    let mut trees: HashMap<ByteString, Key> = HashMap::new();
    for (holder, held) in (0..).zip(survey.installations()) {
        for (number, tree) in held.trees() {
            let key = (holder, number);
            // What is listed file by file is known already.
            if !measured.sizes.contains_key(&key) && only.is_none_or(|only| only.contains(&key)) {
                trees.entry(root.canonicalize(&tree)).or_insert(key);
            }
        }
    }
    for (tree, key) in &trees {
        let Ok(start) = root.entry(tree) else { continue };
        let walked: Mutex<Walked> = Mutex::default();
        let gaps = root.gaps().len();
        let visit = |found: &ByteString, meta: Meta| {
            progress.done(meta.disk);
            let other = trees.get(found).filter(|other| *other != key);
            let claimed = files.known.get(&meta.identity).map(|file| &file.first).filter(|other| *other != key);
            let mut walked = walked.lock().unwrap_or_else(PoisonError::into_inner);
            match other.or(claimed.filter(|_| meta.links < 2)) {
                Some(other) => {
                    walked.within.insert(*other);
                }
                None if meta.kind != Kind::Dir && meta.links > 1 => walked.linked.push(meta),
                None => walked.bytes = walked.bytes.saturating_add(meta.disk),
            }
            other.is_none()
        };
        if start.kind == Kind::Dir {
            root.each_entry(tree, &visit);
        } else {
            visit(tree, start);
        }
        let walked = walked.into_inner().unwrap_or_else(PoisonError::into_inner);
        let size = measured.sizes.entry(*key).or_default();
        size.own = size.own.saturating_add(walked.bytes);
        size.is_partial |= root.gaps().len() > gaps;
        walked.linked.into_iter().for_each(|meta| files.add(*key, meta));
        if !walked.within.is_empty() {
            measured.within.entry(*key).or_default().extend(walked.within);
        }
    }
}
