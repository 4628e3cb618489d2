//! Sort keys: bytes whose plain order is that of the versions they are made from.
//!
//! A database orders versions by them without knowing a scheme. Every piece that is written ends by itself, so that the
//! next one counts only where this one is equal.

use std::cmp::Ordering;

/// Marks how the rest of a list compares with nothing.
mod rest {
    pub const LESS: u8 = 0x40;
    pub const SKIPPED_LESS: u8 = 0x7f;
    pub const END: u8 = 0x80;
    pub const SKIPPED_MORE: u8 = 0x81;
    pub const MORE: u8 = 0xc0;
}

/// A sort key that is being written.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub(super) struct Key(Vec<u8>);

impl Key {
    /// The bytes.
    pub fn into_bytes(self) -> Vec<u8> {
        self.0
    }

    /// A rank among few.
    pub fn rank(&mut self, rank: u8) {
        self.0.push(rank);
    }

    /// Decimal digits, however many, by their value; zeros in front count for nothing, and no digits are 0. Other bytes
    /// are taken as they are, as [`super::numbers`] does.
    pub fn number(&mut self, digits: &[u8]) {
        let digits = &digits[digits.iter().position(|&b| b != b'0').unwrap_or(digits.len())..];
        match u8::try_from(digits.len()) {
            Ok(length) if length < u8::MAX => self.0.push(length),
            _ => {
                self.0.push(u8::MAX);
                self.0.extend_from_slice(&(digits.len() as u64).to_be_bytes());
            }
        }
        self.0.extend_from_slice(digits);
    }

    /// A number by its value, as `f64::total_cmp` orders.
    pub fn real(&mut self, number: f64) {
        let bits = number.to_bits();
        let ordered = if number.is_sign_negative() { !bits } else { bits | 1 << 63 };
        self.0.extend_from_slice(&ordered.to_be_bytes());
    }

    /// Text by its bytes, a shorter one before what it begins.
    pub fn text(&mut self, text: &[u8]) {
        for &byte in text {
            self.0.push(byte);
            if byte == 0 {
                self.0.push(u8::MAX);
            }
        }
        self.0.extend([0, 1]);
    }

    /// A run of digits or a word, told apart before, behind the rank that it has among the other kinds of runs.
    pub fn ranked(&mut self, rank: u8, is_number: bool, run: &[u8]) {
        self.rank(rank);
        if is_number {
            self.number(run);
        } else {
            self.text(run);
        }
    }

    /// A list that is compared place by place, where what the shorter one lacks counts as some usual item: `against`
    /// compares an item with the usual one, `write` writes one. See [`super::by_places`].
    pub fn places<T>(&mut self, items: &[T], against: impl Fn(&T) -> Ordering, write: impl Fn(&T, &mut Key)) {
        let mut skipped = 0;
        for item in items {
            let (before, mark) = match against(item) {
                Ordering::Equal => {
                    skipped += 1;
                    continue;
                }
                Ordering::Less => (rest::SKIPPED_LESS, rest::LESS),
                Ordering::Greater => (rest::SKIPPED_MORE, rest::MORE),
            };
            // A usual item stands where the next unusual one decides whether it is more than the end.
            self.0.extend(std::iter::repeat_n(before, std::mem::take(&mut skipped)));
            self.0.push(mark);
            write(item, self);
        }
        self.0.push(rest::END);
    }
}
