//! The ordering of Perl's modules (`version(3perl)`): decimal versions, and dotted ones.
//!
//! `v1.2.3`, and whatever has two dots or more, is a list of numbers. Anything else is a decimal number whose fraction
//! counts in groups of three digits: `1.02` is `v1.20.0`. An underscore is left out; a missing number is 0.

use std::cmp::Ordering;

use super::key::Key;
use super::{by_places, numbers};

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::perl::compare;
/// assert_eq!(compare(b"1.10", b"1.9"), Ordering::Less);
/// assert_eq!(compare(b"v1.10.0", b"v1.9.0"), Ordering::Greater);
/// assert_eq!(compare(b"1.02", b"v1.20"), Ordering::Equal);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    by_places(&parts(a), &parts(b), &Vec::new(), |x, y| numbers(x, y))
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    key.places(&parts(version), |part| numbers(part, b""), |part, key| key.number(part));
}

/// The numbers of a version, each as its digits.
fn parts(version: &[u8]) -> Vec<Vec<u8>> {
    let bare: Vec<u8> = version.iter().copied().filter(|b| *b != b'_').collect();
    let dots = bare.iter().filter(|b| **b == b'.').count();
    let digits = |part: &[u8]| part.iter().copied().filter(u8::is_ascii_digit).collect::<Vec<u8>>();
    if let Some(dotted) = bare.strip_prefix(b"v").or((dots > 1).then_some(&bare[..])) {
        return dotted.split(|&b| b == b'.').map(digits).collect();
    }
    let mut halves = bare.splitn(2, |&b| b == b'.');
    let (whole, fraction) = (halves.next().unwrap_or_default(), halves.next().unwrap_or_default());
    let group = |group: &[u8]| {
        let mut group = group.to_vec();
        group.resize(3, b'0');
        group
    };
    std::iter::once(digits(whole)).chain(digits(fraction).chunks(3).map(group)).collect()
}
