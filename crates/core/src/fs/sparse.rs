//! Directories in which much is looked for and little is there: homes above all. Their names are read once, and what is
//! not among them needs no lookup of its own.

use std::sync::OnceLock;

use hashbrown::{HashMap, HashSet};

use super::Root;
use crate::bytes::{ByteString, path};

/// Below each home, the directories in which most managers keep their things.
const BELOW: [&str; 4] = [".local", ".local/share", ".config", ".cache"];

/// The directories.
#[derive(Debug, Default)]
pub(super) struct SparseDirs(HashMap<ByteString, OnceLock<Names>>);

/// The names in a directory, in lower case; none where it could not be listed.
type Names = Option<HashSet<Vec<u8>>>;

impl Root {
    /// Says that much will be looked for in these homes.
    pub fn expect_sparse(&mut self, homes: impl IntoIterator<Item = ByteString>) {
        for home in homes.into_iter().filter(|home| home.len() > 1) {
            let below = BELOW.map(|below| path::join(&home, below.as_bytes()));
            self.sparse.0.extend([home].into_iter().chain(below).map(|dir| (dir, OnceLock::new())));
        }
    }

    /// Whether a path is known not to be there.
    pub(super) fn is_absent(&self, path: &[u8]) -> bool {
        if self.sparse.0.is_empty() {
            return false;
        }
        // A directory before those in it.
        let dirs = memchr::memchr_iter(b'/', path).filter(|at| *at > 0).map(|at| path.split_at(at));
        dirs.filter_map(|(dir, rest)| Some((dir, &rest[1..], self.sparse.0.get(dir)?))).any(|(dir, below, names)| {
            let first = below.split(|&b| b == b'/').next().unwrap_or_default();
            // Names that lead elsewhere, and those that a file system may spell in several ways.
            if matches!(first, b"" | b"." | b"..") || !first.is_ascii() {
                return false;
            }
            let names = names.get_or_init(|| {
                let names = self.dir(dir).and_then(|dir| dir.list()).ok()?;
                Some(names.into_iter().map(|(name, _)| name.to_ascii_lowercase()).collect())
            });
            names.as_ref().is_some_and(|names| !names.contains(&first.to_ascii_lowercase()))
        })
    }
}
