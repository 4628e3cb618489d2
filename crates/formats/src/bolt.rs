//! Bolt databases: the key and value file of programs written in Go (as bbolt 1.3 writes it).
//!
//! Pages of one size; words lowest byte first. A page has a head of 16 bytes (number, kind, count of elements,
//! pages that follow); branch elements are 16 bytes (place, key's length, page), leaf elements 16 (flags, place,
//! key's length, value's length), places counted from the element itself. Pages 0 and 1 are heads of the file, of
//! which the one with the greater transaction and a right sum counts. A bucket is a value with flag 1: its root page
//! and a sequence, and where the root is 0 the page itself follows.
//!
//! Traps: places and counts can be lies; pages can lead back to each other.

/// Why bytes are no such database.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BoltError {
    /// Neither head is one.
    #[error("not a Bolt database, or both of its headers are damaged")]
    NotBolt,
    /// A page that is pointed at is not there, or is not what it should be.
    #[error("damaged: a referenced page is missing or has the wrong type")]
    Damaged,
    /// There is no bucket of that name.
    #[error("has no bucket of that name")]
    NoBucket,
}

const BRANCH: u16 = 0x01;
const LEAF: u16 = 0x02;
const HEAD: usize = 16;
/// Deeper trees are not followed: at least two keys a page, 2^48 keys would fit.
const MAX_DEPTH: usize = 48;

/// Visits every key and value of a bucket of the first level, in order of keys.
///
/// # Errors
/// When the bytes are no such database or a page is damaged; what was visited before that stands.
pub fn each<'b>(bytes: &'b [u8], bucket: &[u8], visit: &mut dyn FnMut(&'b [u8], &'b [u8])) -> Result<(), BoltError> {
    let file = File::read(bytes)?;
    let mut inner = None;
    let mut look = |key: &[u8], value: &'b [u8], flags: u32| {
        if key == bucket && flags & 1 != 0 {
            inner = Some(value);
        }
    };
    file.walk(file.page(file.root)?, 0, &mut file.most(), &mut look)?;
    let inner = inner.ok_or(BoltError::NoBucket)?;
    let page = match word64(inner, 0).ok_or(BoltError::Damaged)? {
        0 => inner.get(HEAD..).ok_or(BoltError::Damaged)?,
        root => file.page(root)?,
    };
    file.walk(page, 0, &mut file.most(), &mut |key, value, flags| {
        if flags & 1 == 0 {
            visit(key, value);
        }
    })
}

struct File<'b> {
    bytes: &'b [u8],
    page_size: usize,
    root: u64,
}

impl<'b> File<'b> {
    fn read(bytes: &'b [u8]) -> Result<Self, BoltError> {
        // The second head stands a page behind the first, whose size is not known where the first is damaged.
        let first = Self::head(bytes, 0);
        let places =
            first.as_ref().map_or_else(|| (9..17).map(|bits| 1 << bits).collect(), |(_, one)| vec![one.page_size]);
        let second = places.into_iter().find_map(|at| Self::head(bytes, at).filter(|(_, one)| one.page_size == at));
        let best = first.into_iter().chain(second).max_by_key(|(transaction, _)| *transaction);
        best.map(|(_, file)| file).ok_or(BoltError::NotBolt)
    }

    fn head(bytes: &'b [u8], at: usize) -> Option<(u64, Self)> {
        let meta = bytes.get(at.checked_add(HEAD)?..)?;
        let is_one = word32(meta, 0)? == 0xED0C_DAED && word32(meta, 4)? == 2;
        let page_size = word32(meta, 8)? as usize;
        let is_whole = word64(meta, 56)? == sum(meta.get(..56)?) && page_size.is_power_of_two() && page_size >= 512;
        (is_one && is_whole).then_some((word64(meta, 48)?, File { bytes, page_size, root: word64(meta, 16)? }))
    }

    /// More pages than the file has are not looked at.
    fn most(&self) -> usize {
        self.bytes.len() / self.page_size + 1
    }

    fn page(&self, number: u64) -> Result<&'b [u8], BoltError> {
        let at = usize::try_from(number).ok().and_then(|number| number.checked_mul(self.page_size));
        at.and_then(|at| self.bytes.get(at..)).filter(|page| page.len() >= HEAD).ok_or(BoltError::Damaged)
    }

    fn walk(
        &self,
        page: &'b [u8],
        depth: usize,
        left: &mut usize,
        visit: &mut dyn FnMut(&'b [u8], &'b [u8], u32),
    ) -> Result<(), BoltError> {
        *left = left.checked_sub(1).ok_or(BoltError::Damaged)?;
        let head = word64(page, 8).ok_or(BoltError::Damaged)?;
        #[expect(clippy::cast_possible_truncation, reason = "two halves of a word")]
        let (kind, count) = (head as u16, (head >> 16) as u16);
        if depth > MAX_DEPTH {
            return Err(BoltError::Damaged);
        }
        for number in 0..usize::from(count) {
            let element = page.get(HEAD * (number + 1)..).ok_or(BoltError::Damaged)?;
            let word = |at| word32(element, at).ok_or(BoltError::Damaged);
            match kind {
                BRANCH => {
                    let below = word64(element, 8).ok_or(BoltError::Damaged)?;
                    self.walk(self.page(below)?, depth + 1, left, visit)?;
                }
                LEAF => {
                    let (flags, place) = (word(0)?, word(4)? as usize);
                    let (key, value) = (word(8)? as usize, word(12)? as usize);
                    let both = element.get(place..).and_then(|rest| rest.get(..key.checked_add(value)?));
                    let (key, value) = both.ok_or(BoltError::Damaged)?.split_at(key);
                    visit(key, value, flags);
                }
                _ => return Err(BoltError::Damaged),
            }
        }
        Ok(())
    }
}

/// FNV-1a of 64 bits.
fn sum(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0xcbf2_9ce4_8422_2325, |sum, &byte| (sum ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3))
}

fn word32(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

fn word64(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(bytes.get(at..at + 8)?.try_into().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two heads, the second the newer, and a bucket whose page stands in its value.
    fn small() -> Vec<u8> {
        let mut bytes = vec![0; 3 * 512];
        for (at, transaction, root) in [(0, 4u64, 9u64), (512, 5, 2)] {
            let meta = &mut bytes[at + HEAD..at + HEAD + 64];
            meta[..4].copy_from_slice(&0xED0C_DAEDu32.to_le_bytes());
            meta[4..8].copy_from_slice(&2u32.to_le_bytes());
            meta[8..12].copy_from_slice(&512u32.to_le_bytes());
            meta[16..24].copy_from_slice(&root.to_le_bytes());
            meta[48..56].copy_from_slice(&transaction.to_le_bytes());
            let whole = sum(&meta[..56]);
            meta[56..].copy_from_slice(&whole.to_le_bytes());
        }
        let leaf = |flags: u32, key: &[u8], value: &[u8]| {
            let mut page = vec![0; 8];
            page.extend(LEAF.to_le_bytes());
            page.extend([1, 0, 0, 0, 0, 0]);
            for word in [flags as usize, 16, key.len(), value.len()] {
                page.extend(u32::try_from(word).unwrap().to_le_bytes());
            }
            [page.as_slice(), key, value].concat()
        };
        let inner = [vec![0; 16], leaf(0, b"skiff", b"1.2")].concat();
        let root = leaf(1, b"Snaps", &inner);
        bytes[1024..1024 + root.len()].copy_from_slice(&root);
        bytes
    }

    fn pairs(bytes: &[u8], bucket: &[u8]) -> Result<Vec<String>, BoltError> {
        let mut found = Vec::new();
        let mut visit = |key: &[u8], value: &[u8]| {
            found.push(format!("{}={}", String::from_utf8_lossy(key), String::from_utf8_lossy(value)));
        };
        each(bytes, bucket, &mut visit).map(|()| found)
    }

    #[test]
    fn the_newer_head_counts_and_damage_is_told() {
        let whole = small();
        assert_eq!(pairs(&whole, b"Snaps"), Ok(vec!["skiff=1.2".to_owned()]));
        assert_eq!(pairs(&whole, b"Commands"), Err(BoltError::NoBucket));
        let mut damaged = whole.clone();
        damaged[512 + HEAD + 50] ^= 1;
        assert_eq!(pairs(&damaged, b"Snaps"), Err(BoltError::Damaged), "the older head's root is gone");
        assert_eq!(pairs(&whole[..1030], b"Snaps"), Err(BoltError::Damaged));
        assert_eq!(pairs(b"", b"Snaps"), Err(BoltError::NotBolt));
        // A page that leads to itself.
        let mut circle = whole;
        circle[1024 + 8..1024 + 12].copy_from_slice(&[1, 0, 1, 0]);
        circle[1024 + 24..1024 + 32].copy_from_slice(&2u64.to_le_bytes());
        assert_eq!(pairs(&circle, b"Snaps"), Err(BoltError::Damaged));
    }
}
