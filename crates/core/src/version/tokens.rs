//! A plain ordering for whatever has no scheme of its own: versions of Homebrew's formulae, of tools that a
//! version manager keeps, and text that breaks its scheme's rules.
//!
//! A version is cut into runs of digits and of letters. `HEAD` is newer than all; runs are compared in
//! pairs: `alpha` < `beta` < `pre` < `rc` < nothing < any other word < `patch`; a missing number is 0. A
//! trailing `_N`, Homebrew's revision, counts last.

use std::cmp::Ordering;

use super::key::Key;
use super::{by_places, is_number, numbers, run};

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::tokens::compare;
/// assert_eq!(compare(b"3.1rc2", b"3.1"), Ordering::Less);
/// assert_eq!(compare(b"3.1_2", b"3.1"), Ordering::Greater);
/// assert_eq!(compare(b"3.10", b"3.9.7"), Ordering::Greater);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let is_head = |version: &[u8]| version.starts_with(b"HEAD");
    let ((a, revision_a), (b, revision_b)) = (revision(a), revision(b));
    let runs = || by_places(&runs(a), &runs(b), &&b""[..], |x, y| pair(x, y));
    is_head(a).cmp(&is_head(b)).then_with(runs).then_with(|| numbers(revision_a, revision_b))
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    key.rank(u8::from(version.starts_with(b"HEAD")));
    let (version, revision) = revision(version);
    key.places(
        &runs(version),
        |run| pair(run, b""),
        |run, key| {
            key.ranked(rank(run), rank(run) == NUMBER, run);
        },
    );
    key.number(revision);
}

/// `3.1_2` → `3.1` and `2`.
fn revision(version: &[u8]) -> (&[u8], &[u8]) {
    match memchr::memrchr(b'_', version) {
        Some(at) if is_number(&version[at + 1..]) => (&version[..at], &version[at + 1..]),
        _ => (version, b""),
    }
}

fn runs(version: &[u8]) -> Vec<&[u8]> {
    let mut all = Vec::new();
    for mut part in version.split(|b| !b.is_ascii_alphanumeric()).filter(|part| !part.is_empty()) {
        while !part.is_empty() {
            let (first, rest) = run(part);
            all.push(first);
            part = rest;
        }
    }
    all
}

/// The ranks of nothing and of a number.
const NOTHING: u8 = 4;
const NUMBER: u8 = 7;

fn rank(run: &[u8]) -> u8 {
    match run.to_ascii_lowercase().as_slice() {
        b"alpha" | b"a" | b"ea" | b"dev" => 0,
        b"beta" | b"b" => 1,
        b"pre" | b"preview" => 2,
        b"rc" => 3,
        word if !is_number(word) && !word.is_empty() => {
            if word == b"patch" || word == b"p" {
                6
            } else {
                5
            }
        }
        number if numbers(number, b"").is_eq() => NOTHING,
        _ => NUMBER,
    }
}

fn pair(x: &[u8], y: &[u8]) -> Ordering {
    let same = || match rank(x) {
        NOTHING => Ordering::Equal,
        NUMBER => numbers(x, y),
        _ => x.cmp(y),
    };
    rank(x).cmp(&rank(y)).then_with(same)
}
