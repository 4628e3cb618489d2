//! Brings snapshots into a store.

use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use sha2::{Digest as _, Sha256};
use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::{Kind, Limit, Root};
use whodunit_core::history::{ReadError, Snapshot};

use crate::rows::SnapshotRows;
use crate::store::{Store, StoreError};

/// How many snapshots are read and written at once: one of 3,000 packages takes ten MiB.
const BATCH: usize = 8;
/// The most of a file among several, and of what is in it, in bytes: more than 6,000 packages take.
const MAX_TOGETHER: u64 = 4 << 20;
/// The same of a file that is read alone: 100,000 packages.
const MAX_ALONE: u64 = 64 << 20;
/// How deep a directory is looked into.
const MAX_DEPTH: usize = 8;

/// Why a file is not loaded with others.
enum Left {
    /// It is larger than they may be.
    Large,
    /// It cannot be used.
    Refused(String),
}

/// The digest and the bytes of a file.
type Content = Result<(String, Vec<u8>), Left>;

/// A file that was not loaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Refused {
    /// The file.
    pub file: ByteString,
    /// Why.
    pub problem: String,
}

/// The answer.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Loaded {
    /// Snapshots that are new in the store.
    pub loaded: usize,
    /// Snapshots that were there already.
    pub known: usize,
    /// Files that could not be used.
    pub refused: Vec<Refused>,
}

/// The files of snapshots that are meant by paths: files as they are, directories with all snapshots below them.
#[must_use]
pub fn files(root: &Root, places: &[ByteString]) -> (Vec<ByteString>, Vec<Refused>) {
    let (mut files, mut refused) = (Vec::new(), Vec::new());
    for place in places {
        match root.target(place) {
            Ok(meta) if meta.kind == Kind::Dir => below(root, place, MAX_DEPTH, &mut files),
            Ok(_) => files.push(place.clone()),
            Err(error) => refused.push(Refused { file: place.clone(), problem: error.reason() }),
        }
    }
    (files, refused)
}

fn below(root: &Root, dir: &ByteString, depth: usize, files: &mut Vec<ByteString>) {
    let mut names = root.names_in(dir);
    names.sort_unstable_by(|a, b| a.0.cmp(&b.0));
    for (name, kind) in names {
        let place = path::join(dir, &name);
        let is_snapshot = name.ends_with(b".json.zst") || name.ends_with(b".json");
        match kind {
            Kind::Dir if depth > 0 => below(root, &place, depth - 1, files),
            Kind::File if is_snapshot && !name.starts_with(b".") => files.push(place),
            _ => {}
        }
    }
}

/// Loads these files. Those that were loaded before are not even parsed. `tell` hears how many files are done.
///
/// # Errors
/// When the store fails; what was added until then stays, and loading the same again goes on from there.
pub fn load(
    store: &mut dyn Store,
    root: &Root,
    files: &[ByteString],
    loaded_at: &str,
    tell: &mut dyn FnMut(usize),
) -> Result<Loaded, StoreError> {
    let mut answer = Loaded::default();
    let mut large = Vec::new();
    for batch in files.chunks(BATCH) {
        let left = load_some(store, root, batch, loaded_at, MAX_TOGETHER, &mut answer)?;
        tell(batch.len() - left.len());
        large.extend(left);
    }
    for file in large {
        for file in load_some(store, root, std::slice::from_ref(file), loaded_at, MAX_ALONE, &mut answer)? {
            let problem = format!("it is larger than {} MiB, and no machine has so much", MAX_ALONE >> 20);
            answer.refused.push(Refused { file: file.clone(), problem });
        }
        tell(1);
    }
    if answer.loaded > 0 {
        store.summarize()?;
    }
    Ok(answer)
}

/// Loads some files at once, and returns those that are larger than `max`.
fn load_some<'f>(
    store: &mut dyn Store,
    root: &Root,
    files: &'f [ByteString],
    loaded_at: &str,
    max: u64,
    answer: &mut Loaded,
) -> Result<Vec<&'f ByteString>, StoreError> {
    let read = |file: &ByteString| {
        if root.target(file).is_ok_and(|meta| meta.size > max) {
            return Err(Left::Large);
        }
        let bytes = root.read(file, Limit::bytes(max)).map_err(|error| Left::Refused(error.reason()))?;
        Ok((hex::encode(Sha256::digest(&bytes)), bytes))
    };
    let contents: Vec<Content> = files.par_iter().map(read).collect();
    let digests: Vec<String> = contents.iter().flatten().map(|(digest, _)| digest.clone()).collect();
    let known = store.known_files(&digests)?;
    // None of a snapshot that is known.
    let rows = |content: Content| {
        let (digest, bytes) = content?;
        if known.contains(&digest) {
            return Ok(None);
        }
        let snapshot = Snapshot::read_within(&bytes, max).map_err(|error| match error {
            ReadError::TooLarge => Left::Large,
            other => Left::Refused(other.to_string()),
        })?;
        Ok(Some(SnapshotRows::of(&snapshot, &digest, loaded_at)))
    };
    let rows: Vec<Result<Option<SnapshotRows>, Left>> = contents.into_par_iter().map(rows).collect();
    let (mut new, mut large) = (Vec::new(), Vec::new());
    for (file, result) in files.iter().zip(rows) {
        match result {
            Ok(Some(rows)) => new.push(rows),
            Ok(None) => answer.known += 1,
            Err(Left::Large) => large.push(file),
            Err(Left::Refused(problem)) => answer.refused.push(Refused { file: file.clone(), problem }),
        }
    }
    let added = store.add(&new)?;
    answer.loaded += added;
    answer.known += new.len() - added.min(new.len());
    Ok(large)
}
