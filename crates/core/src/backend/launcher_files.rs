//! The launchers of a data directory (*Desktop Entry Specification*, "Desktop File ID").

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Root};

/// A launcher's file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LauncherFile {
    /// Its id.
    pub id: ByteString,
    /// Where it is.
    pub path: ByteString,
}

/// Directories below `applications/` that are examined.
const MAX_DEPTH: usize = 8;
/// Far more launchers than any machine has.
const MAX_LAUNCHERS: usize = 100_000;

/// The launchers of a data directory, by id. Links to directories are followed, within bounds.
#[must_use]
pub fn files_in(root: &Root, data_dir: &[u8]) -> Vec<LauncherFile> {
    let top = path::join(data_dir, b"applications");
    // Each directory with those above it: one that is its own ancestor is a circle, while one that is
    // reached twice has its launchers under two ids.
    let mut open: Vec<(ByteString, Vec<ByteString>)> = vec![(top.clone(), Vec::new())];
    let mut found = Vec::new();
    while let Some((dir, mut above)) = open.pop() {
        let canonical = root.canonicalize_dir(&dir);
        if above.len() > MAX_DEPTH || found.len() >= MAX_LAUNCHERS || above.contains(&canonical) {
            continue;
        }
        above.push(canonical);
        let Ok(names) = root.dir(&dir).and_then(|dir| dir.list()) else { continue };
        for (name, kind) in names {
            let whole = path::join(&dir, &name);
            let is_dir = match kind {
                Kind::Dir => true,
                Kind::Link => root.target(&whole).is_ok_and(|meta| meta.kind == Kind::Dir),
                _ => false,
            };
            if is_dir {
                open.push((whole, above.clone()));
            } else if name.ends_with(b".desktop") {
                let below = whole[top.len() + 1..].iter().map(|&b| if b == b'/' { b'-' } else { b });
                found.push(LauncherFile { id: below.collect::<Vec<u8>>().into(), path: whole });
            }
        }
    }
    found.sort_by(|a, b| (&a.id, &a.path).cmp(&(&b.id, &b.path)));
    found
}
