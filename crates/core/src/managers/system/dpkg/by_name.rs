//! The lines of all lists by the last part of their paths.
//!
//! A question that names few files reads the lists once and keeps little. Where the same run asks again and again, as a
//! check of the whole machine does twenty times, they are read a second time, kept, and from then on looked up.

use std::hash::BuildHasher as _;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};

use hashbrown::{DefaultHashBuilder, HashSet, HashTable};

use super::lists::Lines;
use crate::bytes::path;
use crate::model::RecordPosition;

/// Lists that are larger together are not kept, in bytes: 400,000 files have about that much.
const MAX_KEPT: usize = 24 << 20;

/// The lists, once they have been asked for twice.
#[derive(Debug, Default)]
pub struct ListsByName {
    asked: AtomicUsize,
    kept: OnceLock<Option<Kept>>,
}

impl ListsByName {
    /// The kept lists; none where the lists have to be read. The second to ask has them read by `read_all`, which hands
    /// over one list after the other; whoever asks meanwhile does not wait.
    pub fn get(&self, read_all: impl FnOnce(&mut dyn FnMut(Lines))) -> Option<&Kept> {
        if let Some(kept) = self.kept.get() {
            return kept.as_ref();
        }
        if self.asked.fetch_add(1, Ordering::Relaxed) != 1 {
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
    /// The number of the list, and of the line among its lines.
    lines: Vec<(u32, u32)>,
    by_name: HashTable<u32>,
    hasher: DefaultHashBuilder,
}

impl Kept {
    fn new(lists: Vec<Lines>) -> Self {
        let count = lists.iter().map(Lines::len).sum();
        let mut lines: Vec<(u32, u32)> = Vec::with_capacity(count);
        for (list, kept) in (0..).zip(&lists) {
            lines.extend((0..).take(kept.len()).map(|line| (list, line)));
        }
        let hasher = DefaultHashBuilder::default();
        let mut by_name = HashTable::with_capacity(count);
        let hash = |place: &u32| {
            let (list, line) = lines[*place as usize];
            hasher.hash_one(path::name(lists[list as usize].text(line)))
        };
        for place in (0..).take(count) {
            by_name.insert_unique(hash(&place), place, hash);
        }
        Kept { lists, lines, by_name, hasher }
    }

    /// Hands every line with one of these names to `take`, in the order of the lists, with the number of the package.
    pub fn each(&self, names: &HashSet<Box<[u8]>>, take: &mut dyn FnMut(u32, &[u8], RecordPosition)) {
        let mut found: Vec<u32> = Vec::new();
        for name in names {
            let alike = self.by_name.iter_hash(self.hasher.hash_one(&**name)).copied();
            found.extend(alike.filter(|place| {
                let (list, line) = self.lines[*place as usize];
                path::name(self.lists[list as usize].text(line)) == &**name
            }));
        }
        found.sort_unstable();
        for place in found {
            let (list, line) = self.lines[place as usize];
            let lines = &self.lists[list as usize];
            lines.one(line, &mut |text, position| take(lines.package, text, position));
        }
    }
}
