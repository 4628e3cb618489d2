//! *Semantic Versioning 2.0.0*, as npm, cargo and Go read it: `MAJOR.MINOR.PATCH[-PRE][+BUILD]`.
//!
//! Traps: a leading `v` or `=` is allowed (Go's versions have it, and its pseudo-versions are pre-releases);
//! what stands behind `+` counts for nothing; of pre-release parts, numbers come before words, and a
//! longer list after its beginning. Missing parts are 0. Text that is no version comes before every version.

use std::cmp::Ordering;

use super::key::Key;
use super::{by_places, is_number, numbers, tokens};

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::semver::compare;
/// assert_eq!(compare(b"1.0.0-rc.2", b"1.0.0-rc.11"), Ordering::Less);
/// assert_eq!(compare(b"v1.2.3+build", b"1.2.3"), Ordering::Equal);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    match (parse(a), parse(b)) {
        (Some((a, pre_a)), Some((b, pre_b))) => {
            by_places(&a, &b, &&b""[..], |x, y| numbers(x, y)).then_with(|| pre_releases(pre_a, pre_b))
        }
        (Some(_), None) => Ordering::Greater,
        (None, Some(_)) => Ordering::Less,
        (None, None) => tokens::compare(a, b),
    }
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let Some((parts, pre)) = parse(version) else {
        key.rank(0);
        return tokens::key(version, key);
    };
    key.rank(1);
    key.places(&parts, |part| numbers(part, b""), |part, key| key.number(part));
    key.rank(u8::from(pre.is_none()));
    for part in pre.into_iter().flat_map(|pre| pre.split(|&b| b == b'.')) {
        key.ranked(if is_number(part) { 1 } else { 2 }, is_number(part), part);
    }
    key.rank(0);
}

type Parsed<'a> = (Vec<&'a [u8]>, Option<&'a [u8]>);

fn parse(text: &[u8]) -> Option<Parsed<'_>> {
    let text = text.trim_ascii();
    let text = text.strip_prefix(b"=").unwrap_or(text);
    let text = text.strip_prefix(b"v").unwrap_or(text);
    let text = text.split(|&b| b == b'+').next()?;
    let (release, pre) = match memchr::memchr(b'-', text) {
        Some(at) => (&text[..at], Some(&text[at + 1..])),
        None => (text, None),
    };
    let parts: Vec<&[u8]> = release.split(|&b| b == b'.').collect();
    parts.iter().all(|part| is_number(part)).then_some((parts, pre))
}

fn pre_releases(a: Option<&[u8]>, b: Option<&[u8]>) -> Ordering {
    // A pre-release comes before its release.
    let (Some(a), Some(b)) = (a, b) else { return a.is_none().cmp(&b.is_none()) };
    let (mut left, mut right) = (a.split(|&b| b == b'.'), b.split(|&b| b == b'.'));
    loop {
        let order = match (left.next(), right.next()) {
            (None, None) => return Ordering::Equal,
            (None, Some(_)) => return Ordering::Less,
            (Some(_), None) => return Ordering::Greater,
            (Some(x), Some(y)) => match (is_number(x), is_number(y)) {
                (true, true) => numbers(x, y),
                (false, false) => x.cmp(y),
                (x, y) => y.cmp(&x),
            },
        };
        if order.is_ne() {
            return order;
        }
    }
}
