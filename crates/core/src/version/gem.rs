//! The ordering of gems (RubyGems, `Gem::Version`).
//!
//! A version is cut into runs of digits and runs of letters; `-` reads as `.pre.`. Zeros at the end of
//! the leading numbers, and at the end of the whole, count for nothing. Runs are compared in pairs, a
//! missing one as 0; letters come before numbers, so that any letter makes a pre-release.

use std::cmp::Ordering;

use super::key::Key;
use super::{by_places, is_number, numbers, run, words_first};

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::gem::compare;
/// assert_eq!(compare(b"0.8.0.pre1", b"0.8.0"), Ordering::Less);
/// assert_eq!(compare(b"1.0-2", b"1.pre.2"), Ordering::Equal);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    by_places(&segments(a), &segments(b), &b"0".to_vec(), |x, y| words_first(x, y))
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    key.places(
        &segments(version),
        |segment| words_first(segment, b"0"),
        |segment, key| {
            key.ranked(if is_number(segment) { 2 } else { 1 }, is_number(segment), segment);
        },
    );
}

fn segments(version: &[u8]) -> Vec<Vec<u8>> {
    let mut all: Vec<Vec<u8>> = Vec::new();
    for (number, part) in version.trim_ascii().split(|&b| b == b'-').enumerate() {
        if number > 0 {
            all.push(b"pre".to_vec());
        }
        for mut rest in part.split(|b| !b.is_ascii_alphanumeric()) {
            while !rest.is_empty() {
                let (segment, after) = run(rest);
                all.push(segment.to_vec());
                rest = after;
            }
        }
    }
    let words = all.iter().position(|segment| !is_number(segment)).unwrap_or(all.len());
    let mut words = all.split_off(words);
    let is_zero = |segment: &Vec<u8>| is_number(segment) && numbers(segment, b"0").is_eq();
    for list in [&mut all, &mut words] {
        while list.last().is_some_and(is_zero) {
            list.pop();
        }
    }
    all.append(&mut words);
    all
}
