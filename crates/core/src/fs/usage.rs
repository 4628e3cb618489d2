//! What trees take on a disk.

use rayon::prelude::*;

use super::{Kind, Meta, Root};
use crate::bytes::{ByteString, path};

/// Directories below the start that are looked at; what is deeper is a gap.
const MAX_DEPTH: usize = 512;

/// Hands every entry of a tree, and its start, to `visit`: the path, what the file system says of it, and nothing of
/// what is on other file systems mounted below. For a directory, `visit` says whether to go into it. Entries come in no
/// order, many at a time.
pub(super) fn each_entry(root: &Root, start: &ByteString, visit: &(dyn Fn(&ByteString, Meta) -> bool + Sync)) {
    let Ok(first) = root.entry(start) else { return };
    if !visit(start, first) || first.kind != Kind::Dir {
        return;
    }
    let below = |dir: &ByteString| -> Vec<ByteString> {
        // A directory that may not be read has been noted by the root; one that has vanished is no loss.
        let Ok(opened) = root.dir(dir) else { return Vec::new() };
        let mut dirs = Vec::new();
        for (name, _) in opened.list().unwrap_or_default() {
            let Ok(meta) = opened.entry(&name) else { continue };
            let whole = path::join(dir, &name);
            // A layered file system gives files other devices than directories.
            let is_here = meta.kind != Kind::Dir || meta.identity.0 == first.identity.0;
            if is_here && visit(&whole, meta) && meta.kind == Kind::Dir {
                dirs.push(whole);
            }
        }
        dirs
    };
    let mut level = vec![start.clone()];
    for _ in 0..MAX_DEPTH {
        if level.is_empty() {
            return;
        }
        level = level.par_iter().flat_map_iter(below).collect();
    }
    level.iter().for_each(|dir| root.note_gap(dir, format!("more than {MAX_DEPTH} directories deep; not entered")));
}
