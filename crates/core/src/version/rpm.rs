//! The ordering of rpm (`rpm-version(7)`): `[EPOCH:]VERSION[-RELEASE]`.
//!
//! A missing epoch is 0; a missing release comes before any. Version and release are cut into runs of digits and of
//! letters, whatever stands between only separates; digits beat letters; what goes on is newer. `~` comes
//! before everything, even the end; `^` comes after the end and before any other way to go on.

use std::cmp::Ordering;

use super::key::Key;
use super::numbers;

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::rpm::compare;
/// assert_eq!(compare(b"4.0~rc2-1", b"4.0-1"), Ordering::Less);
/// assert_eq!(compare(b"1.0^20260101-1", b"1.0.1-1"), Ordering::Less);
/// assert_eq!(compare(b"2:1.9.0-3", b"9.0-1"), Ordering::Greater);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let ((epoch_a, version_a, release_a), (epoch_b, version_b, release_b)) = (parts(a), parts(b));
    let releases = || match (release_a, release_b) {
        (Some(a), Some(b)) => compare_part(a, b),
        (a, b) => a.is_some().cmp(&b.is_some()),
    };
    numbers(epoch_a, epoch_b).then_with(|| compare_part(version_a, version_b)).then_with(releases)
}

/// Orders a version against one that a package needs: without a release on one side, releases do not count.
#[must_use]
pub fn compare_needed(a: &[u8], b: &[u8]) -> Ordering {
    let ((epoch_a, version_a, release_a), (epoch_b, version_b, release_b)) = (parts(a), parts(b));
    let releases = || release_a.zip(release_b).map_or(Ordering::Equal, |(a, b)| compare_part(a, b));
    numbers(epoch_a, epoch_b).then_with(|| compare_part(version_a, version_b)).then_with(releases)
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let (epoch, version, release) = parts(version);
    key.number(epoch);
    part_key(version, key);
    key.rank(u8::from(release.is_some()));
    if let Some(release) = release {
        part_key(release, key);
    }
}

fn part_key(part: &[u8], key: &mut Key) {
    let mut rest = without_separators(part);
    while let Some(first) = rest.first() {
        let length = match first {
            b'~' | b'^' => {
                key.rank(if *first == b'~' { 1 } else { 3 });
                1
            }
            _ => {
                let digits = first.is_ascii_digit();
                let (run, _) = run(rest, digits);
                key.ranked(if digits { 5 } else { 4 }, digits, run);
                run.len()
            }
        };
        rest = without_separators(&rest[length..]);
    }
    // The end comes after `~` and before everything else.
    key.rank(2);
}

/// Epoch, version and release.
#[must_use]
pub fn parts(whole: &[u8]) -> (&[u8], &[u8], Option<&[u8]>) {
    let (epoch, rest) = match memchr::memchr(b':', whole) {
        Some(at) if whole[..at].iter().all(u8::is_ascii_digit) => (&whole[..at], &whole[at + 1..]),
        _ => (&b"0"[..], whole),
    };
    match memchr::memrchr(b'-', rest) {
        Some(at) => (epoch, &rest[..at], Some(&rest[at + 1..])),
        None => (epoch, rest, None),
    }
}

fn compare_part(mut a: &[u8], mut b: &[u8]) -> Ordering {
    loop {
        (a, b) = (without_separators(a), without_separators(b));
        match (a.first(), b.first()) {
            (Some(b'~'), Some(b'~')) | (Some(b'^'), Some(b'^')) => {
                (a, b) = (&a[1..], &b[1..]);
                continue;
            }
            (Some(b'~'), _) => return Ordering::Less,
            (_, Some(b'~')) => return Ordering::Greater,
            (None, Some(b'^')) => return Ordering::Less,
            (Some(b'^'), None) => return Ordering::Greater,
            (Some(b'^'), Some(_)) => return Ordering::Less,
            (Some(_), Some(b'^')) => return Ordering::Greater,
            (None, None) => return Ordering::Equal,
            (None, Some(_)) => return Ordering::Less,
            (Some(_), None) => return Ordering::Greater,
            (Some(x), Some(y)) => {
                let digits = x.is_ascii_digit();
                if digits != y.is_ascii_digit() {
                    return if digits { Ordering::Greater } else { Ordering::Less };
                }
                let (run_a, rest_a) = run(a, digits);
                let (run_b, rest_b) = run(b, digits);
                let order = if digits { numbers(run_a, run_b) } else { run_a.cmp(run_b) };
                if order.is_ne() {
                    return order;
                }
                (a, b) = (rest_a, rest_b);
            }
        }
    }
}

fn without_separators(text: &[u8]) -> &[u8] {
    let says = |b: &u8| b.is_ascii_alphanumeric() || matches!(b, b'~' | b'^');
    &text[text.iter().position(says).unwrap_or(text.len())..]
}

/// The digits at the beginning, or the letters, and the rest.
pub(super) fn run(text: &[u8], digits: bool) -> (&[u8], &[u8]) {
    let goes_on = |b: &u8| if digits { b.is_ascii_digit() } else { b.is_ascii_alphabetic() };
    text.split_at(text.iter().position(|b| !goes_on(b)).unwrap_or(text.len()))
}
