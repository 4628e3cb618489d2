//! The lines of all lists by the last part of their paths.
//!
//! A question that names few files reads the lists once and keeps little. Where the same run asks again and again, as a
//! check of the whole machine does twenty times, they are read once more, kept, and from then on looked up.

use std::hash::BuildHasher as _;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};

use hashbrown::{DefaultHashBuilder, HashSet};

use super::lists::Lines;
use crate::bytes::path;
use crate::model::RecordPosition;

/// Lists that are larger together are not kept, in bytes: 400,000 files have about that much.
const MAX_KEPT: usize = 24 << 20;

/// So many questions are answered by reading the lists: those about one file ask no more than twice.
const FEW: usize = 2;

/// The lists, once they have been asked for again and again.
#[derive(Debug, Default)]
pub struct ListsByName {
    asked: AtomicUsize,
    kept: OnceLock<Option<Kept>>,
}

impl ListsByName {
    /// The kept lists; none where the lists have to be read. Whoever asks after the first few has them read by `read_all`,
    /// which hands over one list after the other; those who ask meanwhile do not wait.
    pub fn get(&self, read_all: impl FnOnce(&mut dyn FnMut(Lines))) -> Option<&Kept> {
        if let Some(kept) = self.kept.get() {
            return kept.as_ref();
        }
        if self.asked.fetch_add(1, Ordering::Relaxed) != FEW {
            return None;
        }
        let mut lists = Vec::new();
        let mut size = 0;
        read_all(&mut |mut lines| {
            size += lines.size();
            if size <= MAX_KEPT {
                lines.shrink_to_fit();
                lists.push(lines);
            } else {
                lists = Vec::new();
            }
        });
        let kept = (size <= MAX_KEPT).then(|| Kept::new(lists));
        self.kept.get_or_init(|| kept).as_ref()
    }
}

/// Every line of every list.
#[derive(Debug)]
pub struct Kept {
    lists: Vec<Lines>,
    /// By the digest of the name: the number of the list, and of the line among its lines. Sorted, not hashed: twenty
    /// thousand files can have one name.
    lines: Vec<(u32, u32, u32)>,
    hasher: DefaultHashBuilder,
}

impl Kept {
    fn new(lists: Vec<Lines>) -> Self {
        let hasher = DefaultHashBuilder::default();
        let mut lines: Vec<(u32, u32, u32)> = Vec::with_capacity(lists.iter().map(Lines::len).sum());
        for (list, kept) in (0..).zip(&lists) {
            let line = |line: u32| (digest(&hasher, path::name(kept.text(line))), list, line);
            lines.extend((0..).take(kept.len()).map(line));
        }
        lines.sort_unstable();
        Kept { lists, lines, hasher }
    }

    /// Hands every line with one of these names to `take`, in the order of the lists, with the number of the package.
    pub fn each(&self, names: &HashSet<Box<[u8]>>, take: &mut dyn FnMut(u32, &[u8], RecordPosition)) {
        let mut found: Vec<(u32, u32)> = Vec::new();
        for name in names {
            let sought = digest(&self.hasher, name);
            let start = self.lines.partition_point(|(digest, ..)| *digest < sought);
            let alike = self.lines[start..].iter().take_while(|(digest, ..)| *digest == sought);
            let alike = alike.filter(|(_, list, line)| path::name(self.lists[*list as usize].text(*line)) == &**name);
            found.extend(alike.map(|(_, list, line)| (*list, *line)));
        }
        found.sort_unstable();
        for (list, line) in found {
            let lines = &self.lists[list as usize];
            lines.one(line, &mut |text, position| take(lines.package, text, position));
        }
    }
}

/// What names are sorted by.
fn digest(hasher: &DefaultHashBuilder, name: &[u8]) -> u32 {
    // Half of it tells a million names apart well enough.
    hasher.hash_one(name) as u32
}
