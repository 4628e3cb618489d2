//! Versions of R's packages (R's reference manual, `numeric_version`): whole numbers between `.` or `-`, which mean the
//! same.

use std::cmp::Ordering;

use super::key::Key;
use super::{by_places, numbers};

/// The order of two versions: number by number, and the one that ends first is the lower.
///
/// ```
/// use whodunit_core::version::r::compare;
/// assert!(compare(b"1.10-2", b"1.9").is_gt());
/// assert!(compare(b"1.2", b"1-2").is_eq());
/// assert!(compare(b"1.2", b"1.2.0").is_lt());
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let parts = |version: &'_ [u8]| -> Vec<Option<Vec<u8>>> {
        version.split(is_separator).map(|part| Some(part.to_vec())).collect()
    };
    by_places(&parts(a), &parts(b), &None, |a, b| match (a, b) {
        (Some(a), Some(b)) => numbers(a, b),
        _ => a.is_some().cmp(&b.is_some()),
    })
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    for part in version.split(is_separator) {
        key.rank(1);
        key.number(part);
    }
    key.rank(0);
}

fn is_separator(byte: &u8) -> bool {
    matches!(byte, b'.' | b'-')
}
