//! Bills of materials: the list of files that an installer package of macOS brings (`bom(5)`, `lsbom(8)`).
//!
//! A store of numbered blocks, numbers highest byte first: the head (`BOMStore`) says where the index of blocks and the
//! table of named blocks lie. The block called `Paths` is a tree (`tree`, the first page, its size, the count of paths)
//! whose pages hold pairs of block numbers: in an inner page a page and a key, in a leaf what is known of a file and its
//! name with the number of its parent. Leaves name the next leaf.
//!
//! Traps: the root is called `.`; parents need not come before their children; pages, parents and the next leaf can lead
//! in circles; blocks may overlap.

use std::collections::HashMap;

/// What sort of entry it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryType {
    /// A file with content.
    File,
    /// A directory.
    Dir,
    /// A symbolic link.
    Link,
    /// A device.
    Device,
}

/// A path of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The path below the place of installation, without `./` before it; empty for that place itself.
    pub path: Vec<u8>,
    /// What stands there.
    pub entry_type: EntryType,
}

/// Why bytes are no such list, or not all of one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BomError {
    /// The head is another.
    #[error("not a bill of materials")]
    NotBom,
    /// A block that is pointed at is not there, or is not what it should be.
    #[error("damaged: a referenced block is missing or has the wrong type")]
    Damaged,
    /// Paths are longer than any system has, or there are more of them than the file could hold.
    #[error("damaged: paths are too long, or lead in circles")]
    Endless,
}

const MAGIC: &[u8] = b"BOMStore";
/// Deeper trees are not followed: with at least two keys a page, 2^32 keys would fit.
const MAX_DEPTH: usize = 32;
const MAX_PATH: usize = 4096;
/// The most bytes of paths for each byte of the file: a name stands once in it for all that lies below.
const MAX_GROWTH: usize = 64;

/// Every path of a list in the order of its leaves; those before what is damaged, and why it ended.
#[must_use]
pub fn entries(bytes: &[u8]) -> (Vec<Entry>, Option<BomError>) {
    let mut found = Vec::new();
    let outcome = read(bytes, &mut found);
    (found, outcome.err())
}

struct Store<'b> {
    bytes: &'b [u8],
    index: &'b [u8],
}

/// A file as a leaf has it.
struct Named<'b> {
    number: u32,
    parent: u32,
    name: &'b [u8],
    entry_type: EntryType,
}

fn read(bytes: &[u8], found: &mut Vec<Entry>) -> Result<(), BomError> {
    if !bytes.starts_with(MAGIC) {
        return Err(BomError::NotBom);
    }
    let part = |at: usize| {
        let (from, length) = (word(bytes, at)?, word(bytes, at + 4)?);
        slice(bytes, from as usize, length as usize)
    };
    let store = Store { bytes, index: part(16)? };
    let tree = store.named(part(24)?, b"Paths")?;
    if slice(tree, 0, 4)? != b"tree" {
        return Err(BomError::Damaged);
    }
    let mut named = Vec::new();
    let outcome = store.leaves(word(tree, 8)?, &mut named);
    let parents: HashMap<u32, (u32, &[u8])> = named.iter().map(|one| (one.number, (one.parent, one.name))).collect();
    let mut total = 0;
    for one in &named {
        let path = whole(one, &parents)?;
        total += path.len();
        if total > bytes.len().saturating_mul(MAX_GROWTH) {
            return Err(BomError::Endless);
        }
        found.push(Entry { path, entry_type: one.entry_type });
    }
    outcome
}

/// The path of a name through its parents.
fn whole(one: &Named, parents: &HashMap<u32, (u32, &[u8])>) -> Result<Vec<u8>, BomError> {
    let mut names = vec![one.name];
    let (mut parent, mut length) = (one.parent, one.name.len());
    while parent != 0 {
        let (above, name) = parents.get(&parent).ok_or(BomError::Damaged)?;
        length += name.len() + 1;
        if length > MAX_PATH {
            return Err(BomError::Endless);
        }
        names.push(name);
        parent = *above;
    }
    // The last is the root, which is called `.`.
    names.retain(|name| *name != b".");
    names.reverse();
    Ok(names.join(&b'/'))
}

impl<'b> Store<'b> {
    fn block(&self, number: u32) -> Result<&'b [u8], BomError> {
        let count = word(self.index, 0)?;
        let at = 4 + 8 * number as usize;
        if number >= count {
            return Err(BomError::Damaged);
        }
        slice(self.bytes, word(self.index, at)? as usize, word(self.index, at + 4)? as usize)
    }

    /// The block of a name.
    fn named(&self, table: &[u8], wanted: &[u8]) -> Result<&'b [u8], BomError> {
        let mut at = 4;
        for _ in 0..word(table, 0)? {
            let number = word(table, at)?;
            let length = usize::from(*table.get(at + 4).ok_or(BomError::Damaged)?);
            if slice(table, at + 5, length)? == wanted {
                return self.block(number);
            }
            at += 5 + length;
        }
        Err(BomError::Damaged)
    }

    /// Goes down to the first leaf, and from there through all of them.
    fn leaves(&self, first: u32, found: &mut Vec<Named<'b>>) -> Result<(), BomError> {
        let mut page = self.block(first)?;
        let mut depth = 0;
        while half(page, 0)? == 0 {
            depth += 1;
            if depth > MAX_DEPTH {
                return Err(BomError::Endless);
            }
            page = self.block(word(page, 12)?)?;
        }
        // No leaf comes twice, and a path takes more than its pair of numbers.
        let mut pages = 0;
        loop {
            for pair in 0..usize::from(half(page, 2)?) {
                let at = 12 + 8 * pair;
                found.push(self.file(word(page, at)?, word(page, at + 4)?)?);
                if found.len() > self.bytes.len() / 8 {
                    return Err(BomError::Endless);
                }
            }
            let next = word(page, 4)?;
            if next == 0 {
                return Ok(());
            }
            pages += 1;
            if pages > self.index.len() / 8 {
                return Err(BomError::Endless);
            }
            page = self.block(next)?;
        }
    }

    fn file(&self, info: u32, named: u32) -> Result<Named<'b>, BomError> {
        let (info, named) = (self.block(info)?, self.block(named)?);
        let details = self.block(word(info, 4)?)?;
        let entry_type = match details.first() {
            Some(1) => EntryType::File,
            Some(2) => EntryType::Dir,
            Some(3) => EntryType::Link,
            Some(4) => EntryType::Device,
            _ => return Err(BomError::Damaged),
        };
        let name = named.get(4..).ok_or(BomError::Damaged)?;
        let name = name.split(|byte| *byte == 0).next().unwrap_or_default();
        // No system has such a name, and a path made of one would lead elsewhere.
        if name.is_empty() || name == b".." || name.contains(&b'/') {
            return Err(BomError::Damaged);
        }
        Ok(Named { number: word(info, 0)?, parent: word(named, 0)?, name, entry_type })
    }
}

fn slice(bytes: &[u8], at: usize, length: usize) -> Result<&[u8], BomError> {
    at.checked_add(length).and_then(|end| bytes.get(at..end)).ok_or(BomError::Damaged)
}

fn word(bytes: &[u8], at: usize) -> Result<u32, BomError> {
    let word = bytes.get(at..).and_then(|rest| rest.first_chunk()).ok_or(BomError::Damaged)?;
    Ok(u32::from_be_bytes(*word))
}

fn half(bytes: &[u8], at: usize) -> Result<u16, BomError> {
    let half = bytes.get(at..).and_then(|rest| rest.first_chunk()).ok_or(BomError::Damaged)?;
    Ok(u16::from_be_bytes(*half))
}

#[cfg(test)]
mod tests {
    use super::*;

    const PATHS: [&str; 5] = [
        "Applications/Tidebook.app/Contents/Info.plist",
        "Applications/Tidebook.app/Contents/MacOS/tidebook",
        "usr/local/bin/tide",
        "usr/local/share/tide/",
        "usr/local/share/tide/spots",
    ];

    fn told(bytes: &[u8]) -> (Vec<String>, Option<BomError>) {
        let (found, outcome) = entries(bytes);
        let shown = |entry: &Entry| {
            let end = if entry.entry_type == EntryType::Dir { "/" } else { "" };
            String::from_utf8_lossy(&entry.path).into_owned() + end
        };
        (found.iter().map(shown).collect(), outcome)
    }

    #[test]
    fn paths_are_put_together_over_all_leaves() {
        let expected = [
            "/",
            "Applications/",
            "Applications/Tidebook.app/",
            "Applications/Tidebook.app/Contents/",
            "Applications/Tidebook.app/Contents/Info.plist",
            "Applications/Tidebook.app/Contents/MacOS/",
            "Applications/Tidebook.app/Contents/MacOS/tidebook",
            "usr/",
            "usr/local/",
            "usr/local/bin/",
            "usr/local/bin/tide",
            "usr/local/share/",
            "usr/local/share/tide/",
            "usr/local/share/tide/spots",
        ];
        for leaf in [2, 5, 100] {
            let list = whodunit_demo::bill_of_materials(&PATHS, leaf);
            assert_eq!(told(&list), (expected.map(str::to_owned).to_vec(), None), "{leaf} a leaf");
        }
    }

    #[test]
    fn damage_is_told_and_circles_end() {
        let whole = whodunit_demo::bill_of_materials(&PATHS, 3);
        assert_eq!(told(b"BOMS").1, Some(BomError::NotBom));
        assert_eq!(told(&whole[..whole.len() - 1]).1, Some(BomError::Damaged));
        // Each number of the file in turn is another block's: what is read ends, and no path leads out of its place.
        for at in (0..whole.len() - 4).step_by(4) {
            for other in [0_u32, 1, 4, 8, u32::MAX] {
                let mut changed = whole.clone();
                changed[at..at + 4].copy_from_slice(&other.to_be_bytes());
                let (found, _) = entries(&changed);
                assert!(found.iter().all(|entry| !entry.path.starts_with(b"/") && entry.path.len() <= MAX_PATH));
            }
        }
        // A directory that lies in itself.
        let named = memchr::memmem::find(&whole, b"Tidebook.app\0").unwrap();
        let mut circle = whole;
        circle[named - 4..named].copy_from_slice(&3_u32.to_be_bytes());
        assert_eq!(told(&circle).1, Some(BomError::Endless));
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(content: Vec<u8>) {
            let _ = entries(&[MAGIC, &content].concat());
        }
    }
}
