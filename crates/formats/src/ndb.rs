//! rpm's own database format, `Packages.db` (as rpm 4.18 writes it): blobs by number.
//!
//! All words are of 4 bytes, the lowest first. A head of 32 bytes (`RpmP`, version 0, generation, pages of
//! slots); then slots of 16 bytes (`Slot`, number, place and count of blocks of 16 bytes), up to the end of the
//! pages of slots. A blob has a head (`BlbS`, number, generation, length) and a tail.
//!
//! Traps: number 0 is a free slot, also in the middle; places and lengths can be lies.

/// Why bytes are no such database.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NdbError {
    /// The first bytes are others, or of a version that is not known.
    #[error("not an ndb package database, or an unknown version of it")]
    NotNdb,
    /// The pages of slots go beyond the end.
    #[error("truncated in the list of packages")]
    Cut,
}

const PAGE: usize = 4096;

/// A blob with its number.
pub type Numbered<'a> = (u32, Option<&'a [u8]>);

/// Every blob with its number; `None` for one that cannot be read.
///
/// # Errors
/// When the bytes are no such database.
pub fn blobs(bytes: &[u8]) -> Result<Vec<Numbered<'_>>, NdbError> {
    if bytes.get(..4) != Some(b"RpmP") || word(bytes, 4) != Some(0) {
        return Err(NdbError::NotNdb);
    }
    let pages = word(bytes, 12).ok_or(NdbError::NotNdb)? as usize;
    let end = pages.checked_mul(PAGE).filter(|end| *end >= 32).ok_or(NdbError::NotNdb)?;
    let slots = bytes.get(32..end).ok_or(NdbError::Cut)?;
    let used = slots.chunks_exact(16).filter(|slot| slot.starts_with(b"Slot") && word(slot, 4) != Some(0));
    let mut found: Vec<Numbered<'_>> =
        used.filter_map(|slot| Some((word(slot, 4)?, blob(bytes, word(slot, 4)?, word(slot, 8)?)))).collect();
    found.sort_by_key(|(number, _)| *number);
    found.dedup_by_key(|(number, _)| *number);
    Ok(found)
}

fn blob(bytes: &[u8], number: u32, block: u32) -> Option<&[u8]> {
    let at = (block as usize).checked_mul(16)?;
    let head = bytes.get(at..at.checked_add(16)?)?;
    if !head.starts_with(b"BlbS") || word(head, 4) != Some(number) {
        return None;
    }
    let length = word(head, 12)? as usize;
    bytes.get(at + 16..at.checked_add(16)?.checked_add(length)?)
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    let four = bytes.get(at..at + 4)?;
    Some(u32::from_le_bytes(four.try_into().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blobs_are_found_and_lies_cost_themselves() {
        let words = |words: &[u32]| words.iter().flat_map(|word| word.to_le_bytes()).collect::<Vec<u8>>();
        let text = |text: &[u8; 4]| u32::from_le_bytes(*text);
        let mut file = words(&[text(b"RpmP"), 0, 7, 1, 9, 0, 0, 0]);
        file.extend(words(&[text(b"Slot"), 2, 256, 2, text(b"Slot"), 0, 0, 0, text(b"Slot"), 1, 9999, 2]));
        file.resize(PAGE, 0);
        file.extend(words(&[text(b"BlbS"), 2, 7, 5]));
        file.extend(b"berth");
        assert_eq!(blobs(&file), Ok(vec![(1, None), (2, Some(&b"berth"[..]))]));
        for end in 0..file.len() {
            assert!(blobs(&file[..end]).map_or(true, |found| end >= PAGE && found.len() == 2), "{end}");
        }
    }
}
