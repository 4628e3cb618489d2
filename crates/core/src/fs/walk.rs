//! Going through a tree without following its links, within bounds.

use super::{Kind, Root};
use crate::bytes::{ByteString, path};

/// How far a walk goes.
#[derive(Debug, Clone, Copy)]
pub struct WalkLimits {
    /// Directories below the start: 0 looks at the start's own entries only.
    pub depth: usize,
    /// Entries in all; more are not looked at, and a gap is noted.
    pub entries: usize,
}

/// One entry of a walk.
#[derive(Debug)]
pub struct Found<'a> {
    /// Its whole path.
    pub path: &'a ByteString,
    /// What it is; links are not followed.
    pub kind: Kind,
}

/// File systems that show the kernel's state and are no place for programs.
const PSEUDO: [&[u8]; 4] = [b"/proc", b"/sys", b"/dev", b"/run"];

/// Visits every entry; for a directory, the visitor says whether to go into it.
pub(super) fn walk(
    root: &Root,
    start: &[u8],
    limits: WalkLimits,
    note: bool,
    visit: &mut dyn FnMut(Found<'_>) -> bool,
) {
    let mut open: Vec<(ByteString, usize)> = vec![(start.into(), 0)];
    let mut left = limits.entries;
    while let Some((dir, depth)) = open.pop() {
        // A directory that may not be read has been noted by the root; one that has vanished is no loss.
        let Ok(names) = root.dir(&dir).and_then(|opened| opened.list()) else { continue };
        let mut below = Vec::new();
        for (name, kind) in names {
            if left == 0 {
                // Where it is a bound against endless trees, to reach it is a loss.
                if note {
                    root.note_gap(start, format!("more than {} files; the rest was not examined", limits.entries));
                }
                return;
            }
            left -= 1;
            let whole = path::join(&dir, &name);
            let pseudo = root.is_live() && PSEUDO.contains(&whole.as_bytes());
            let enter = !pseudo && visit(Found { path: &whole, kind });
            if kind == Kind::Dir && enter {
                if depth < limits.depth {
                    below.push((whole, depth + 1));
                } else if note {
                    root.note_gap(&whole, format!("more than {} directories deep; not entered", limits.depth));
                }
            }
        }
        open.extend(below.into_iter().rev());
    }
}
