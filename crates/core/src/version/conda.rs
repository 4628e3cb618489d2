//! The ordering of conda packages (conda documentation, "Version ordering").
//!
//! `[EPOCH!]VERSION[+LOCAL]`, lower case; parts stand between `.`, `-` and `_`, and each part is cut into
//! runs of digits and letters, with a 0 before a leading letter. Missing runs are 0. `dev` comes before
//! all other words, words before numbers, and `post` after everything.

use std::cmp::Ordering;

use super::key::Key;
use super::{by_places, is_number, numbers, run};

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::conda::compare;
/// assert_eq!(compare(b"0.5a1", b"0.5"), Ordering::Less);
/// assert_eq!(compare(b"1.1dev1", b"1.1a1"), Ordering::Less);
/// assert_eq!(compare(b"1996.07.12", b"1!0.4"), Ordering::Less);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let (a, b) = (a.trim_ascii().to_ascii_lowercase(), b.trim_ascii().to_ascii_lowercase());
    let (epoch_a, a) = split(&a, b'!', true);
    let (epoch_b, b) = split(&b, b'!', true);
    let ((a, local_a), (b, local_b)) = (split(a, b'+', false), split(b, b'+', false));
    numbers(epoch_a, epoch_b).then_with(|| parts(a, b)).then_with(|| parts(local_a, local_b))
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let version = version.trim_ascii().to_ascii_lowercase();
    let (epoch, rest) = split(&version, b'!', true);
    let (version, local) = split(rest, b'+', false);
    key.number(epoch);
    for text in [version, local] {
        let parts: Vec<&[u8]> = text.split(is_separator).collect();
        key.places(
            &parts,
            |part| runs(part, b""),
            |part, key| {
                key.places(
                    &runs_of(part),
                    |one| run_order(one, b""),
                    |one, key| {
                        key.ranked(rank(one), rank(one) == NUMBER, one);
                    },
                );
            },
        );
    }
}

/// The runs of a part, the first of which is a number, be it an unwritten 0.
fn runs_of(mut part: &[u8]) -> Vec<&[u8]> {
    let mut found = vec![leading(&mut part)];
    while !part.is_empty() {
        let (first, rest) = run(part);
        found.push(first);
        part = rest;
    }
    found
}

fn is_separator(byte: &u8) -> bool {
    matches!(byte, b'.' | b'-' | b'_')
}

/// Cuts at the first mark; without one, all is the second part (`before`) or the first.
fn split(text: &[u8], mark: u8, before: bool) -> (&[u8], &[u8]) {
    match memchr::memchr(mark, text) {
        Some(at) => (&text[..at], &text[at + 1..]),
        None if before => (b"", text),
        None => (text, b""),
    }
}

fn parts(a: &[u8], b: &[u8]) -> Ordering {
    let (a, b): (Vec<&[u8]>, Vec<&[u8]>) = (a.split(is_separator).collect(), b.split(is_separator).collect());
    by_places(&a, &b, &&b""[..], |x, y| runs(x, y))
}

fn runs(a: &[u8], b: &[u8]) -> Ordering {
    let (mut a, mut b) = (a, b);
    // Every part begins with a number, be it an unwritten 0.
    let (mut x, mut y) = (leading(&mut a), leading(&mut b));
    loop {
        let order = run_order(x, y);
        if order.is_ne() || (a.is_empty() && b.is_empty()) {
            return order;
        }
        (x, a) = run(a);
        (y, b) = run(b);
    }
}

fn leading<'a>(rest: &mut &'a [u8]) -> &'a [u8] {
    if rest.first().is_some_and(u8::is_ascii_digit) {
        let (first, after) = run(rest);
        *rest = after;
        return first;
    }
    b"0"
}

/// The rank of a number.
const NUMBER: u8 = 2;

fn rank(run: &[u8]) -> u8 {
    match run {
        b"dev" => 0,
        b"post" => 3,
        _ if run.is_empty() || is_number(run) => NUMBER,
        _ => 1,
    }
}

fn run_order(x: &[u8], y: &[u8]) -> Ordering {
    let same = || if rank(x) == NUMBER { numbers(x, y) } else { x.cmp(y) };
    rank(x).cmp(&rank(y)).then_with(same)
}
