//! Hash tables of Berkeley DB (*Berkeley DB*, versions 8 to 10 of the hash format), as rpm kept its packages in before
//! 2020: keys are numbers, values are blobs.
//!
//! The file is a row of pages. Page 0 says how long they are and in which order of bytes; a page of the table has pairs
//! of a key and a value, each found by an offset; a value that does not fit stands on a chain of pages of its own.
//!
//! Traps: the order of the bytes is that of the machine that wrote it; key 0 counts the packages and is none; chains can
//! lead in circles, and lengths can be lies. Pages that are free keep their old content.

/// Why bytes are no such table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BerkeleyError {
    /// The first page is no hash table's.
    #[error("not a hash table of Berkeley DB")]
    NotHash,
    /// A version of the format that is not known, or one that is encrypted.
    #[error("version {0} of Berkeley DB's hash tables, or an encrypted one, is not read")]
    Unsupported(u32),
    /// The first page contradicts itself.
    #[error("damaged: its first page gives no size of pages")]
    Damaged,
}

const MAGIC: u32 = 0x0006_1561;
const VERSIONS: std::ops::RangeInclusive<u32> = 8..=10;
/// The head of each page, in bytes.
const HEAD: usize = 26;
/// Sorts of pages.
const UNSORTED: u8 = 2;
const OVERFLOW: u8 = 7;
const SORTED: u8 = 13;
/// Sorts of items.
const IN_PAGE: u8 = 1;
const ON_OWN_PAGES: u8 = 3;

/// Where a value stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Place {
    /// From an offset, so many bytes.
    Here(usize, usize),
    /// On pages from this one on, so many bytes.
    Chain(u32, usize),
    /// In a form that is none.
    Damaged,
}

/// A table, with its file's content.
#[derive(Debug)]
pub struct Table {
    bytes: Vec<u8>,
    page_size: usize,
    is_big_endian: bool,
    entries: Vec<(u32, Place)>,
    /// Whether pages that the first page counts are missing at the end.
    pub is_cut: bool,
}

impl Table {
    /// Reads which entries there are, the lowest number first.
    ///
    /// # Errors
    /// When the bytes are no such table.
    pub fn parse(bytes: Vec<u8>) -> Result<Self, BerkeleyError> {
        let magic = bytes.get(12..16).and_then(|four| <[u8; 4]>::try_from(four).ok()).ok_or(BerkeleyError::NotHash)?;
        let is_big_endian = match (u32::from_le_bytes(magic), u32::from_be_bytes(magic)) {
            (MAGIC, _) => false,
            (_, MAGIC) => true,
            _ => return Err(BerkeleyError::NotHash),
        };
        let mut table = Table { bytes, page_size: 0, is_big_endian, entries: Vec::new(), is_cut: false };
        let word = |at| table.word(at).ok_or(BerkeleyError::Damaged);
        let (version, page_size, last) = (word(16)?, word(20)?, word(32)?);
        if !VERSIONS.contains(&version) || table.bytes.get(24) != Some(&0) {
            return Err(BerkeleyError::Unsupported(version));
        }
        if !page_size.is_power_of_two() || !(512..=65536).contains(&page_size) {
            return Err(BerkeleyError::Damaged);
        }
        table.page_size = page_size as usize;
        let there = table.bytes.len() / table.page_size;
        table.is_cut = there <= last as usize;
        for number in 1..there {
            let start = number * table.page_size;
            if matches!(table.bytes[start + HEAD - 1], UNSORTED | SORTED) {
                table.read_page(start);
            }
        }
        table.entries.sort_unstable_by_key(|(number, _)| *number);
        table.entries.dedup_by_key(|(number, _)| *number);
        Ok(table)
    }

    /// The pairs of a page: the offsets of key and value in turn, each item ending where the one before it begins.
    fn read_page(&mut self, start: usize) {
        // Nothing behind the page is an item of it.
        let bytes = &self.bytes[..start + self.page_size];
        let offset = |at: usize| self.short(start + at).map(|offset| start + usize::from(offset));
        let items = self.short(start + 20).map_or(0, usize::from);
        let mut found = Vec::new();
        let mut end = bytes.len();
        for pair in 0..items / 2 {
            let at = HEAD + pair * 4;
            let (Some(key_at), Some(value_at)) = (offset(at), offset(at + 2)) else { break };
            let (key, value) = (bytes.get(key_at..end), bytes.get(value_at..key_at));
            end = value_at;
            // What has no number cannot be told from anything else.
            let Some([IN_PAGE, _, _, _, _]) = key else { continue };
            let Some(number) = self.word(key_at + 1).filter(|number| *number != 0) else { continue };
            let place = match value {
                Some([IN_PAGE, content @ ..]) => Place::Here(value_at + 1, content.len()),
                Some(item) if item.len() == 12 && item[0] == ON_OWN_PAGES => {
                    match (self.word(value_at + 4), self.word(value_at + 8)) {
                        (Some(page), Some(length)) => Place::Chain(page, length as usize),
                        _ => Place::Damaged,
                    }
                }
                _ => Place::Damaged,
            };
            found.push((number, place));
        }
        self.entries.append(&mut found);
    }

    /// Two bytes as a number.
    fn short(&self, at: usize) -> Option<u16> {
        let two: [u8; 2] = self.bytes.get(at..at.checked_add(2)?)?.try_into().ok()?;
        Some(if self.is_big_endian { u16::from_be_bytes(two) } else { u16::from_le_bytes(two) })
    }

    /// Four bytes as a number.
    fn word(&self, at: usize) -> Option<u32> {
        let four: [u8; 4] = self.bytes.get(at..at.checked_add(4)?)?.try_into().ok()?;
        Some(if self.is_big_endian { u32::from_be_bytes(four) } else { u32::from_le_bytes(four) })
    }

    /// The numbers of the entries, the lowest first.
    pub fn numbers(&self) -> impl Iterator<Item = u32> {
        self.entries.iter().map(|(number, _)| *number)
    }

    /// The value of an entry; `None` where there is none, or where it cannot be read whole.
    #[must_use]
    pub fn value(&self, number: u32) -> Option<Vec<u8>> {
        let at = self.entries.binary_search_by_key(&number, |(other, _)| *other).ok()?;
        match self.entries[at].1 {
            Place::Here(start, length) => Some(self.bytes.get(start..start + length)?.to_vec()),
            Place::Chain(page, length) => self.chain(page, length),
            Place::Damaged => None,
        }
    }

    fn chain(&self, mut page: u32, length: usize) -> Option<Vec<u8>> {
        if length > self.bytes.len() {
            return None;
        }
        let mut value = Vec::with_capacity(length);
        // Each page adds something, so that a circle comes to an end.
        while value.len() < length {
            let start = (page as usize).checked_mul(self.page_size)?;
            let content = self.bytes.get(start..start.checked_add(self.page_size)?)?;
            let held = self.short(start + 22)?;
            let part = content.get(HEAD..HEAD + usize::from(held)).filter(|part| !part.is_empty())?;
            if content[HEAD - 1] != OVERFLOW {
                return None;
            }
            value.extend_from_slice(part);
            page = self.word(start + 16)?;
        }
        (value.len() == length).then_some(value)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A table of 512-byte pages: one pair in a page, one on a chain of two.
    fn made(is_big_endian: bool) -> Vec<u8> {
        let word = |number: u32| if is_big_endian { number.to_be_bytes() } else { number.to_le_bytes() };
        let short = |number: u16| if is_big_endian { number.to_be_bytes() } else { number.to_le_bytes() };
        let mut file = vec![0; 4 * 512];
        let mut put = |at: usize, bytes: &[u8]| file[at..at + bytes.len()].copy_from_slice(bytes);
        for (at, number) in [(12, MAGIC), (16, 9), (20, 512), (32, 3)] {
            put(at, &word(number));
        }
        put(512 + 20, &short(6));
        put(512 + 25, &[SORTED]);
        let chained = [&[ON_OWN_PAGES, 0, 0, 0][..], &word(2), &word(480)].concat();
        let items = [
            [&[IN_PAGE][..], &word(0)].concat(),
            [&[IN_PAGE][..], &word(9)].concat(),
            [&[IN_PAGE][..], &word(2)].concat(),
            [&[IN_PAGE][..], b"berth"].concat(),
            [&[IN_PAGE][..], &word(1)].concat(),
            chained,
        ];
        let mut end = 512;
        for (place, item) in items.iter().enumerate() {
            end -= item.len();
            put(512 + end, item);
            put(512 + HEAD + place * 2, &short(u16::try_from(end).unwrap()));
        }
        for (page, held, next) in [(2, 400_u16, 3), (3, 80, 0)] {
            put(page * 512 + 16, &word(next));
            put(page * 512 + 22, &short(held));
            put(page * 512 + 25, &[OVERFLOW]);
            put(page * 512 + HEAD, &vec![b'x'; usize::from(held)]);
        }
        file
    }

    #[test]
    fn entries_of_either_order_of_bytes_are_read() {
        for is_big_endian in [false, true] {
            let table = Table::parse(made(is_big_endian)).unwrap();
            assert_eq!(table.numbers().collect::<Vec<_>>(), [1, 2]);
            assert_eq!((table.value(1), table.value(2)), (Some(vec![b'x'; 480]), Some(b"berth".to_vec())));
            assert!(!table.is_cut && table.value(3).is_none());
        }
    }

    #[test]
    fn lies_cost_themselves() {
        let whole = made(false);
        for end in 0..whole.len() {
            if let Ok(table) = Table::parse(whole[..end].to_vec()) {
                assert!(table.is_cut && table.value(1).is_none(), "{end}");
            }
        }
        let mut circle = whole.clone();
        circle[3 * 512 + 16] = 2;
        circle[512 + 512 - 29] = 0xff;
        for at in 0..whole.len() {
            let mut altered = whole.clone();
            altered[at] ^= 0xff;
            if let Ok(table) = Table::parse(altered) {
                table.numbers().collect::<Vec<_>>().into_iter().for_each(|number| drop(table.value(number)));
            }
        }
        drop(Table::parse(circle).unwrap().value(1));
        let mut newer = whole.clone();
        newer[16] = 11;
        assert_eq!(Table::parse(newer).unwrap_err(), BerkeleyError::Unsupported(11));
        assert_eq!(Table::parse(b"no database".to_vec()).unwrap_err(), BerkeleyError::NotHash);
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(bytes: Vec<u8>) {
            let _ = Table::parse(bytes);
        }
    }
}
