//! What packages take on the disk, every file once.

use std::sync::{Mutex, PoisonError};

use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use super::shared::{Covered, Extents};
use crate::bytes::{ByteString, path};
use crate::digests::Progress;
use crate::fs::{FsError, Kind, Meta, SharedExtent};
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
    /// Those of them that stay when it goes: something that is of no package has them under another name, or on a file
    /// system with copy-on-write in another file.
    pub(super) staying: u64,
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
    pub(super) sharing: HashMap<Vec<Key>, Sharing>,
    /// Files of packages that have several names.
    pub(super) linked: HashSet<(u64, u64)>,
    /// Places on disks that files of packages share with others.
    pub(super) covered: Covered,
}

/// What several packages have in common.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Sharing {
    pub(super) bytes: u64,
    /// Those of them that stay when all of them go.
    pub(super) staying: u64,
}

impl Measured {
    /// Counts bytes that these packages have; without any, nothing.
    fn count(&mut self, owners: &[Key], bytes: u64, stays: bool) {
        let staying = if stays { bytes } else { 0 };
        if let [only] = owners {
            let size = self.sizes.entry(*only).or_default();
            size.own += bytes;
            size.staying += staying;
            return;
        }
        owners.iter().for_each(|key| self.sizes.entry(*key).or_default().shared += bytes);
        if !owners.is_empty() {
            let sharing = self.sharing.entry_ref(owners).or_default();
            sharing.bytes += bytes;
            sharing.staying += staying;
        }
    }
}

/// One file on the disk, under whatever names.
#[derive(Debug, Clone, Copy)]
struct File {
    number: u32,
    /// Without what it shares with other files.
    bytes: u64,
    first: Key,
    /// Names that it has, and those of them that packages have or that go with them.
    links: u64,
    names: u64,
}

/// The files that packages have one by one, or under several names.
#[derive(Debug, Default)]
struct Files {
    known: HashMap<(u64, u64), File>,
    /// The owners of files that have several.
    owners: HashMap<(u64, u64), Vec<Key>>,
    extents: Extents,
    /// The files that share places, by their numbers.
    sharing: HashMap<u32, (u64, u64)>,
}

impl Files {
    fn add(&mut self, key: Key, meta: Meta, extents: Vec<SharedExtent>, along: u64) {
        let number = u32::try_from(self.known.len()).unwrap_or(u32::MAX);
        let shared: u64 = extents.iter().map(SharedExtent::bytes).sum();
        let bytes = meta.disk.saturating_sub(shared);
        let new = File { number, bytes, first: key, links: meta.links, names: along };
        let file = self.known.entry(meta.identity).or_insert(new);
        file.names += 1;
        let first = file.first;
        if file.number == number && !extents.is_empty() {
            self.sharing.insert(file.number, meta.identity);
            self.extents.add(file.number, extents);
        }
        if first != key {
            let owners = self.owners.entry(meta.identity).or_insert_with(|| vec![first]);
            if !owners.contains(&key) {
                owners.push(key);
            }
        }
    }

    /// Who has a file, in order.
    fn owners(&self, identity: &(u64, u64)) -> Vec<Key> {
        let first = self.known.get(identity).map(|file| file.first);
        let mut owners = self.owners.get(identity).cloned().unwrap_or_else(|| first.into_iter().collect());
        owners.sort_unstable();
        owners
    }

    fn has_other_names(&self, identity: &(u64, u64)) -> bool {
        self.known.get(identity).is_some_and(|file| file.names < file.links)
    }

    /// Counts each file once, and each place that files share.
    fn count(&self, measured: &mut Measured) {
        for (identity, file) in &self.known {
            if file.links > 1 {
                measured.linked.insert(*identity);
            }
            measured.count(&self.owners(identity), file.bytes, file.names < file.links);
        }
        self.extents.each_stretch(&mut |files, bytes, is_alone| {
            let identities = || files.iter().filter_map(|number| self.sharing.get(number));
            let mut owners: Vec<Key> = identities().flat_map(|identity| self.owners(identity)).collect();
            owners.sort_unstable();
            owners.dedup();
            let stays = is_alone || identities().any(|identity| self.has_other_names(identity));
            measured.count(&owners, bytes, stays);
        });
        measured.covered = self.extents.covered();
    }
}

/// Looks at every file of every package, or of these only; tells of each.
pub(super) fn measure(survey: &Survey<'_>, only: Option<&HashSet<Key>>, progress: &dyn Progress) -> Measured {
    let mut measured = Measured::default();
    let mut files = Files::default();
    add_listed(survey, only, &mut measured, &mut files, progress);
    add_trees(survey, only, &mut measured, &mut files, progress);
    files.count(&mut measured);
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
            type Looked = (u32, Result<(Meta, Vec<SharedExtent>), FsError>);
            let of_dir = |together: &[FileRecord]| -> Vec<Looked> {
                let dir = root.dir(path::parent(&together[0].path));
                let of_file = |one: &FileRecord| {
                    let name = path::name(&one.path);
                    let looked = match &dir {
                        Ok(dir) => dir.entry(name).map(|meta| (meta, dir.shared_extents(name, meta))),
                        Err(_) => root.entry(&one.path).map(|meta| (meta, root.shared_extents(&one.path, meta))),
                    };
                    (one.package, looked)
                };
                together.iter().map(of_file).collect()
            };
            let is_together = |a: &FileRecord, b: &FileRecord| path::parent(&a.path) == path::parent(&b.path);
            let found: Vec<_> = batch.par_chunk_by(is_together).flat_map_iter(of_dir).collect();
            for (package, looked) in found {
                let size = measured.sizes.entry((holder, package)).or_default();
                match looked {
                    // A directory is mostly that of many packages, and takes next to nothing.
                    Ok((meta, _)) if meta.kind == Kind::Dir => {}
                    Ok((meta, extents)) => {
                        progress.done(meta.disk);
                        files.add((holder, package), meta, extents, held.names_along());
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
    /// Files that may be elsewhere too: under another name, or in part.
    shared: Vec<(Meta, Vec<SharedExtent>)>,
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
            let extents = root.shared_extents(found, meta);
            let is_shared = meta.kind != Kind::Dir && (meta.links > 1 || !extents.is_empty());
            let mut walked = walked.lock().unwrap_or_else(PoisonError::into_inner);
            match other.or(claimed.filter(|_| meta.links < 2)) {
                Some(other) => {
                    walked.within.insert(*other);
                }
                None if is_shared => walked.shared.push((meta, extents)),
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
        let along = survey.installations()[usize::from(key.0)].names_along();
        walked.shared.into_iter().for_each(|(meta, extents)| files.add(*key, meta, extents, along));
        if !walked.within.is_empty() {
            measured.within.entry(*key).or_default().extend(walked.within);
        }
    }
}
