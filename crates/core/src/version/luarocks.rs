//! The ordering of LuaRocks (`luarocks/core/vers.lua`): `VERSION-REVISION`.
//!
//! A version is a list of numbers. A word counts by what it says: `dev`, `scm` and `cvs` are more than any number,
//! `rc`, `pre`, `beta` and `alpha` less than nothing, any other by its first letter; a number right behind a word only
//! decides between equal words. The revision counts last.

use std::cmp::Ordering;

use super::key::Key;
use super::{by_places, is_number, numbers, run};

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::luarocks::compare;
/// assert_eq!(compare(b"1.0rc1-1", b"1.0-1"), Ordering::Less);
/// assert_eq!(compare(b"scm-1", b"9.9-1"), Ordering::Greater);
/// assert_eq!(compare(b"1.0-2", b"1.0-1"), Ordering::Greater);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let ((a, revision_a), (b, revision_b)) = (split(a), split(b));
    let parts = by_places(&parts(a), &parts(b), &0.0, f64::total_cmp);
    let revisions = || match (revision_a, revision_b) {
        (Some(a), Some(b)) => numbers(a, b),
        _ => Ordering::Equal,
    };
    parts.then_with(revisions)
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let (version, revision) = split(version);
    key.places(&parts(version), |part| part.total_cmp(&0.0), |part, key| key.real(*part));
    key.rank(u8::from(revision.is_some()));
    key.number(revision.unwrap_or_default());
}

fn split(version: &[u8]) -> (&[u8], Option<&[u8]>) {
    let version = version.trim_ascii();
    match memchr::memrchr(b'-', version) {
        Some(at) if is_number(&version[at + 1..]) => (&version[..at], Some(&version[at + 1..])),
        _ => (version, None),
    }
}

fn parts(mut rest: &[u8]) -> Vec<f64> {
    let mut parts: Vec<f64> = Vec::new();
    let mut word: Option<f64> = None;
    while let Some(first) = rest.first() {
        let length = match first {
            b if b.is_ascii_digit() => run(rest).0.len(),
            b if b.is_ascii_alphabetic() => rest.iter().take_while(|b| b.is_ascii_alphabetic()).count(),
            _ => break,
        };
        let token = &rest[..length];
        if first.is_ascii_digit() {
            let number = String::from_utf8_lossy(token).parse::<f64>().unwrap_or(f64::MAX);
            parts.push(word.take().map_or(number, |word| word + number / 100_000.0));
        } else {
            word = Some(match token {
                b"dev" => 120_000_000.0,
                b"scm" => 110_000_000.0,
                b"cvs" => 100_000_000.0,
                b"rc" => -1000.0,
                b"pre" => -10_000.0,
                b"beta" => -100_000.0,
                b"alpha" => -1_000_000.0,
                _ => f64::from(token[0]) / 1000.0,
            });
        }
        rest = &rest[length..];
        rest = &rest[rest.iter().take_while(|b| b".-_".contains(b)).count()..];
    }
    parts.extend(word);
    parts
}
