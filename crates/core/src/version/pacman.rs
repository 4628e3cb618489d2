//! The ordering of pacman (`vercmp(8)`): `[EPOCH:]VERSION[-RELEASE]`.
//!
//! As rpm's older one, without `~` and `^`, and with two rules more: where two separators differ in length,
//! the longer one is newer, and letters that go on where the other ends make a pre-release.

use std::cmp::Ordering;

use super::key::Key;
use super::numbers;
use super::rpm::{parts, run};

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::pacman::compare;
/// assert_eq!(compare(b"1.0rc", b"1.0"), Ordering::Less);
/// assert_eq!(compare(b"1.0.a", b"1.0"), Ordering::Greater);
/// assert_eq!(compare(b"1:0.8-1", b"9.0-1"), Ordering::Greater);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    if a == b {
        return Ordering::Equal;
    }
    let ((epoch_a, version_a, release_a), (epoch_b, version_b, release_b)) = (parts(a), parts(b));
    let releases = || match (release_a, release_b) {
        (Some(a), Some(b)) => compare_part(a, b),
        _ => Ordering::Equal,
    };
    compare_part(epoch_of(epoch_a), epoch_of(epoch_b))
        .then_with(|| compare_part(version_a, version_b))
        .then_with(releases)
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let (epoch, version, release) = parts(version);
    part_key(epoch_of(epoch), key);
    part_key(version, key);
    key.rank(u8::from(release.is_some()));
    if let Some(release) = release {
        part_key(release, key);
    }
}

/// Letters without a separator come before the end, everything else after it, the longer separator last.
fn part_key(mut rest: &[u8], key: &mut Key) {
    loop {
        let gap = gap(rest);
        rest = &rest[gap..];
        let Some(first) = rest.first() else { break };
        let digits = first.is_ascii_digit();
        let (run, after) = run(rest, digits);
        let rank = match (gap, digits) {
            (0, false) => 1,
            (0, true) => 3,
            _ => {
                key.rank(4);
                key.number(gap.to_string().as_bytes());
                u8::from(digits)
            }
        };
        key.ranked(rank, digits, run);
        rest = after;
    }
    key.rank(2);
}

fn epoch_of(epoch: &[u8]) -> &[u8] {
    if epoch.is_empty() { b"0" } else { epoch }
}

fn compare_part(mut a: &[u8], mut b: &[u8]) -> Ordering {
    if a == b {
        return Ordering::Equal;
    }
    while !a.is_empty() && !b.is_empty() {
        let (gap_a, gap_b) = (gap(a), gap(b));
        (a, b) = (&a[gap_a..], &b[gap_b..]);
        if a.is_empty() || b.is_empty() {
            break;
        }
        if gap_a != gap_b {
            return gap_a.cmp(&gap_b);
        }
        let digits = a[0].is_ascii_digit();
        let ((run_a, rest_a), (run_b, rest_b)) = (run(a, digits), run(b, digits));
        if run_b.is_empty() {
            return if digits { Ordering::Greater } else { Ordering::Less };
        }
        let order = if digits { numbers(run_a, run_b) } else { run_a.cmp(run_b) };
        if order.is_ne() {
            return order;
        }
        (a, b) = (rest_a, rest_b);
    }
    let is_word = |rest: &[u8]| rest.first().is_some_and(u8::is_ascii_alphabetic);
    match (a.is_empty(), b.is_empty()) {
        (true, true) => Ordering::Equal,
        (true, false) if !is_word(b) => Ordering::Less,
        _ if is_word(a) => Ordering::Less,
        _ => Ordering::Greater,
    }
}

fn gap(text: &[u8]) -> usize {
    text.iter().position(u8::is_ascii_alphanumeric).unwrap_or(text.len())
}
