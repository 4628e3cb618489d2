//! Texts, each kept once and called by a number.

use std::hash::BuildHasher as _;

use hashbrown::{DefaultHashBuilder, HashTable};

/// Texts in one piece of memory: a catalogue has a million short ones.
#[derive(Default)]
pub(super) struct Texts {
    bytes: Vec<u8>,
    /// Where each ends, in the order of their numbers.
    ends: Vec<usize>,
    numbers: HashTable<u32>,
    hasher: DefaultHashBuilder,
}

/// The text of a number; nothing for a number that is none.
fn at<'t>(bytes: &'t [u8], ends: &[usize], number: u32) -> &'t [u8] {
    let place = number as usize;
    let start = place.checked_sub(1).map_or(0, |before| ends.get(before).copied().unwrap_or_default());
    ends.get(place).map_or(&[], |end| &bytes[start..*end])
}

impl Texts {
    /// The number of a text, which is kept from now on.
    ///
    /// # Panics
    /// Where more texts are kept than numbers can tell apart: four thousand million.
    pub(super) fn number(&mut self, text: &[u8]) -> u32 {
        if let Some(number) = self.find(text) {
            return number;
        }
        let Texts { bytes, ends, numbers, hasher } = self;
        let number = u32::try_from(ends.len()).expect("fewer texts than a catalogue has bytes");
        bytes.extend_from_slice(text);
        ends.push(bytes.len());
        numbers.insert_unique(hasher.hash_one(text), number, |other| hasher.hash_one(at(bytes, ends, *other)));
        number
    }

    /// The number of a text, if it is kept.
    pub(super) fn find(&self, text: &[u8]) -> Option<u32> {
        self.numbers.find(self.hasher.hash_one(text), |number| self.get(*number) == text).copied()
    }

    /// The text of a number; nothing for a number that is none.
    pub(super) fn get(&self, number: u32) -> &[u8] {
        at(&self.bytes, &self.ends, number)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_has_one_number_and_a_number_one_text() {
        let mut texts = Texts::default();
        let names: Vec<Vec<u8>> =
            (0..5000).map(|number: u32| format!("libbuoy{}", number % 1700).into_bytes()).collect();
        let numbers: Vec<u32> = names.iter().map(|name| texts.number(name)).collect();
        let expected: Vec<u32> = (0..5000).map(|number| number % 1700).collect();
        assert_eq!(numbers, expected);
        assert!(
            names
                .iter()
                .zip(&numbers)
                .all(|(name, number)| texts.get(*number) == name && texts.find(name) == Some(*number))
        );
        assert_eq!(
            (texts.find(b"buoy"), texts.number(b""), texts.get(1700), texts.get(9999)),
            (None, 1700, &b""[..], &b""[..])
        );
    }
}
