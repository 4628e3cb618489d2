//! Brings snapshots into a store.

use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use sha2::{Digest as _, Sha256};
use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::{Kind, Limit, Root};
use whodunit_core::history::Snapshot;

use crate::rows::SnapshotRows;
use crate::store::{Store, StoreError};

/// How many snapshots are read and written at once: one of a large machine takes ten MiB.
const BATCH: usize = 8;
/// How deep a directory is looked into.
const MAX_DEPTH: usize = 8;

/// The digest and the bytes of a file, or why it cannot be read.
type Content = Result<(String, Vec<u8>), String>;

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
    for batch in files.chunks(BATCH) {
        let read = |file: &ByteString| root.read(file, Limit::RECORD).map_err(|error| error.reason());
        let contents: Vec<(&ByteString, Content)> = batch
            .par_iter()
            .map(|file| (file, read(file).map(|bytes| (hex::encode(Sha256::digest(&bytes)), bytes))))
            .collect();
        let digests: Vec<String> =
            contents.iter().filter_map(|(_, content)| Some(content.as_ref().ok()?.0.clone())).collect();
        let known = store.known_files(&digests)?;
        let rows = |content: Content| {
            let (digest, bytes) = content?;
            if known.contains(&digest) {
                return Ok(None);
            }
            let snapshot = Snapshot::read(&bytes).map_err(|error| error.to_string())?;
            Ok(Some(SnapshotRows::of(&snapshot, &digest, loaded_at)))
        };
        let rows: Vec<(&ByteString, Result<Option<SnapshotRows>, String>)> =
            contents.into_par_iter().map(|(file, content)| (file, rows(content))).collect();
        let mut new = Vec::new();
        for (file, result) in rows {
            match result {
                Ok(Some(rows)) => new.push(rows),
                Ok(None) => answer.known += 1,
                Err(problem) => answer.refused.push(Refused { file: file.clone(), problem }),
            }
        }
        let added = store.add(&new)?;
        answer.loaded += added;
        answer.known += new.len() - added.min(new.len());
        tell(batch.len());
    }
    if answer.loaded > 0 {
        store.summarize()?;
    }
    Ok(answer)
}
