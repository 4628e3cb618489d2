//! The write-ahead log of a database (*Database File Format*, section 4).

use std::collections::BTreeMap;

pub const WAL_HEADER: usize = 32;
pub const FRAME_HEADER: usize = 24;

/// The pages of every committed transaction of a log, the last one of each place.
pub struct Committed<'l> {
    /// Each with where it lies in the database.
    pub by_place: BTreeMap<usize, &'l [u8]>,
    /// How long the database is with them.
    pub whole: usize,
}

/// Reads a log for a database of this length; `None` where it is no log.
pub fn committed(log: &[u8], length: usize) -> Option<Committed<'_>> {
    let word = |bytes: &[u8], at: usize| {
        bytes.get(at..at + 4).map(|four| u32::from_be_bytes([four[0], four[1], four[2], four[3]]))
    };
    let magic = word(log, 0).filter(|magic| magic & !1 == 0x377f_0682)?;
    let big_endian = magic & 1 == 1;
    let page_size = word(log, 8)? as usize;
    if !page_size.is_power_of_two() || !(512..=65536).contains(&page_size) || log.len() < WAL_HEADER {
        return None;
    }
    let mut sum = checksum((0, 0), &log[..24], big_endian);
    if Some(sum.0) != word(log, 24) || Some(sum.1) != word(log, 28) {
        return None;
    }
    let mut found = Committed { by_place: BTreeMap::new(), whole: length };
    let salts = &log[16..24];
    let mut pending: Vec<(usize, &[u8])> = Vec::new();
    for frame in log[WAL_HEADER..].chunks_exact(FRAME_HEADER + page_size) {
        let (head, page) = frame.split_at(FRAME_HEADER);
        sum = checksum(checksum(sum, &head[..8], big_endian), page, big_endian);
        // What stands behind the first frame that does not fit is left over from an earlier log.
        if head[8..16] != *salts || Some(sum.0) != word(head, 16) || Some(sum.1) != word(head, 20) {
            break;
        }
        let (Some(number), Some(pages)) = (word(head, 0), word(head, 4)) else { break };
        let Some(at) = (number as usize).checked_sub(1).and_then(|index| index.checked_mul(page_size)) else { break };
        pending.push((at, page));
        if pages > 0 {
            let whole = pages as usize * page_size;
            // No honest log makes the database larger than what was there and what it brings.
            if whole > found.whole + log.len() {
                break;
            }
            found.whole = whole;
            found.by_place.extend(pending.drain(..));
        }
    }
    Some(found)
}

fn checksum(mut sum: (u32, u32), bytes: &[u8], big_endian: bool) -> (u32, u32) {
    for pair in bytes.chunks_exact(8) {
        let word = |at: usize| {
            let four = [pair[at], pair[at + 1], pair[at + 2], pair[at + 3]];
            if big_endian { u32::from_be_bytes(four) } else { u32::from_le_bytes(four) }
        };
        sum.0 = sum.0.wrapping_add(word(0)).wrapping_add(sum.1);
        sum.1 = sum.1.wrapping_add(word(4)).wrapping_add(sum.0);
    }
    sum
}
