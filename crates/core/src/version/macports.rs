//! The ordering of MacPorts: that of rpm, with the revision behind an underscore.

use std::cmp::Ordering;

use super::key::Key;
use super::rpm;

/// Orders two versions.
///
/// ```
/// use whodunit_core::version::macports::compare;
/// assert!(compare(b"3.1_2", b"3.1_1").is_gt());
/// assert!(compare(b"3.1_2", b"3.10_0").is_lt());
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    rpm::compare(&dashed(a), &dashed(b))
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    rpm::key(&dashed(version), key);
}

fn dashed(version: &[u8]) -> Vec<u8> {
    bstr::ByteSlice::replace(version, "_", "-")
}
