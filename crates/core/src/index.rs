//! The path → package index over all managers.
//!
//! A claim takes 28 bytes and its name, each path one entry of a hash table; directories are kept once. A path is looked
//! up in two steps: which of the directories that records spell are this one, with the links in them followed
//! ([`Root::canonicalize_dir`]), and which claims on the name each of them has. So a record that says `/bin/x` and one
//! that says `/usr/bin/x` are found alike, whichever of the two is a link on this machine; and a name that twenty
//! thousand packages have is found as fast as any other.

use std::hash::BuildHasher as _;
use std::sync::OnceLock;

use hashbrown::{DefaultHashBuilder, HashMap, HashTable, hash_table};

use crate::backend::Installation;
use crate::bytes::{ByteString, path};
use crate::fs::Root;
use crate::model::{Claimant, NameFilter, RecordPosition};

/// A claim that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundClaim {
    /// The path as the record spells it.
    pub path: ByteString,
    /// The number of the installations that make it.
    pub holder: u16,
    /// Who claims, within these installations.
    pub claimant: Claimant,
    /// Where its record stands.
    pub position: RecordPosition,
    /// Whether it is on a whole tree: then it says nothing of whether this very file should be there.
    pub on_tree: bool,
}

#[derive(Debug, Clone, Copy)]
struct Entry {
    dir: u32,
    name_start: u32,
    name_length: u16,
    holder: u16,
    rule: u16,
    is_group: bool,
    claimant: u32,
    line: u32,
    /// The claim on the same path that was added before; none where it is [`NONE`].
    before: u32,
}

const NONE: u32 = u32::MAX;

/// The index.
#[derive(Debug, Default)]
pub struct ClaimIndex {
    dirs: Vec<ByteString>,
    names: Vec<u8>,
    entries: Vec<Entry>,
    /// The last claim on each path, by directory and name.
    by_place: HashTable<u32>,
    /// The directories that are one once links are followed.
    spellings: OnceLock<HashMap<ByteString, Vec<u32>>>,
    hasher: DefaultHashBuilder,
    /// Claims that did not fit into the index; none on any machine below 4 GiB of names.
    left_out: usize,
}

impl ClaimIndex {
    /// Gathers the wanted claims of all installations.
    pub fn build<'h>(installations: impl IntoIterator<Item = &'h dyn Installation>, wanted: &NameFilter) -> Self {
        let mut index = ClaimIndex::default();
        let mut dir_numbers: HashMap<ByteString, u32> = HashMap::new();
        for (holder, held) in (0..).zip(installations) {
            let Some(files) = held.file_index() else { continue };
            files.claims(wanted, &mut |claim| {
                let (dir, name) = (path::parent(claim.path), path::name(claim.path));
                let dir = match dir_numbers.get(dir) {
                    Some(&known) => known,
                    None => {
                        let number = u32::try_from(index.dirs.len()).unwrap_or(u32::MAX);
                        index.dirs.push(dir.into());
                        dir_numbers.insert(dir.into(), number);
                        number
                    }
                };
                index.add(dir, name, holder, claim.claimant, claim.position);
            });
        }
        index.names.shrink_to_fit();
        index.entries.shrink_to_fit();
        index
    }

    fn add(&mut self, dir: u32, name: &[u8], holder: u16, claimant: Claimant, position: RecordPosition) {
        let (is_group, claimant) = match claimant {
            Claimant::Package(number) => (false, number),
            Claimant::Group(number) => (true, number),
        };
        let place = u32::try_from(self.names.len()).ok();
        let number = u32::try_from(self.entries.len()).ok();
        let (Some(name_start), Ok(name_length), Some(number)) = (place, u16::try_from(name.len()), number) else {
            self.left_out += 1;
            return;
        };
        let (names, entries, hasher) = (&self.names, &self.entries, &self.hasher);
        let is_here = |&other: &u32| {
            let entry = &entries[other as usize];
            entry.dir == dir && name_of(names, entry) == name
        };
        let hash = |&other: &u32| {
            let entry = &entries[other as usize];
            hasher.hash_one((entry.dir, name_of(names, entry)))
        };
        let last = self.by_place.entry(hasher.hash_one((dir, name)), is_here, hash);
        let before = match &last {
            hash_table::Entry::Occupied(last) => *last.get(),
            hash_table::Entry::Vacant(_) => NONE,
        };
        // A record that names a path twice claims it once; a hostile one names it a million times.
        let is_told = self.entries.get(before as usize).is_some_and(|known| {
            (known.holder, known.is_group, known.claimant) == (holder, is_group, claimant)
                && known.rule == position.rule
        });
        if is_told {
            return;
        }
        match last {
            hash_table::Entry::Occupied(mut last) => *last.get_mut() = number,
            hash_table::Entry::Vacant(place) => {
                place.insert(number);
            }
        }
        self.names.extend_from_slice(name);
        let entry = Entry {
            dir,
            name_start,
            name_length,
            holder,
            rule: position.rule,
            is_group,
            claimant,
            line: position.line,
            before,
        };
        self.entries.push(entry);
    }

    /// The directories of records that are this one.
    fn spellings(&self, root: &Root, dir: &[u8]) -> &[u32] {
        let spellings = self.spellings.get_or_init(|| {
            let mut spellings: HashMap<ByteString, Vec<u32>> = HashMap::with_capacity(self.dirs.len());
            for (number, claimed) in (0..).zip(&self.dirs) {
                let canonical = root.canonicalize_dir(claimed);
                // What is canonical already is what it says, even where nothing of it is there.
                if canonical != *claimed {
                    spellings.entry(claimed.clone()).or_default().push(number);
                }
                spellings.entry(canonical).or_default().push(number);
            }
            spellings
        });
        spellings.get(dir).map_or(&[], Vec::as_slice)
    }

    /// Who claims `path`, whose directories must already be canonical ([`Root::canonicalize`]).
    #[must_use]
    pub fn on(&self, root: &Root, canonical: &[u8]) -> Vec<FoundClaim> {
        let (dir, name) = (path::parent(canonical), path::name(canonical));
        let of_dir = |&dir: &u32| {
            let is_it = |&number: &u32| {
                let entry = &self.entries[number as usize];
                entry.dir == dir && name_of(&self.names, entry) == name
            };
            let last = self.by_place.find(self.hasher.hash_one((dir, name)), is_it);
            let entry = |number: u32| self.entries.get(number as usize);
            std::iter::successors(last.and_then(|&last| entry(last)), move |one| entry(one.before))
        };
        let mut found: Vec<FoundClaim> = self
            .spellings(root, dir)
            .iter()
            .flat_map(of_dir)
            .map(|entry| FoundClaim {
                path: path::join(&self.dirs[entry.dir as usize], name),
                holder: entry.holder,
                claimant: match entry.is_group {
                    true => Claimant::Group(entry.claimant),
                    false => Claimant::Package(entry.claimant),
                },
                position: RecordPosition { line: entry.line, rule: entry.rule },
                on_tree: false,
            })
            .collect();
        found.sort_by_key(|claim| match claim.claimant {
            Claimant::Package(number) | Claimant::Group(number) => (claim.holder, number),
        });
        found
    }

    /// How many claims the index holds.
    #[must_use]
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether it holds none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// How many claims did not fit in.
    #[must_use]
    pub fn left_out(&self) -> usize {
        self.left_out
    }
}

fn name_of<'a>(names: &'a [u8], entry: &Entry) -> &'a [u8] {
    let start = entry.name_start as usize;
    &names[start..start + usize::from(entry.name_length)]
}
