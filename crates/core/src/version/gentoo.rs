//! The ordering of Portage (*Package Manager Specification*, "Version Comparison"), and apk's, which has grown
//! from it: `1.2.3b_rc4_p5-r6`.
//!
//! The first number counts as a number. The others do so too, unless one of the two begins with a zero: then
//! both read as decimals, zeros at their end aside. More numbers are newer; then a letter; then the suffixes in
//! turn, `_alpha` < `_beta` < `_pre` < `_rc` < none < `_p`, each with a number; then the revision. apk has
//! four suffixes more between none and `_p`.

use std::cmp::Ordering;

use super::key::Key;
use super::{is_number, numbers};

const SUFFIXES: [(&[u8], i8); 9] = [
    (b"alpha", -4),
    (b"beta", -3),
    (b"pre", -2),
    (b"rc", -1),
    (b"cvs", 1),
    (b"svn", 2),
    (b"git", 3),
    (b"hg", 4),
    (b"p", 5),
];

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::gentoo::compare;
/// assert_eq!(compare(b"1.2_rc1", b"1.2"), Ordering::Less);
/// assert_eq!(compare(b"1.01", b"1.1"), Ordering::Less);
/// assert_eq!(compare(b"1.2-r1", b"1.2"), Ordering::Greater);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let (a, b) = (Version::of(a), Version::of(b));
    let counted = || a.numbers.len().cmp(&b.numbers.len());
    compare_numbers(&a.numbers, &b.numbers)
        .then_with(counted)
        .then_with(|| a.letter.cmp(&b.letter))
        .then_with(|| compare_suffixes(&a.suffixes, &b.suffixes))
        .then_with(|| numbers(a.revision, b.revision))
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let version = Version::of(version);
    for (place, number) in version.numbers.iter().enumerate() {
        let is_decimal = place > 0 && (number.starts_with(b"0") || number.is_empty());
        key.rank(if is_decimal { 1 } else { 2 });
        if is_decimal { key.text(without_zeros(number)) } else { number_key(number, key) }
    }
    key.rank(0);
    key.rank(version.letter.unwrap_or_default());
    for (rank, number) in &version.suffixes {
        // What is missing comes behind every suffix of a pre-release, and before an unknown one.
        key.rank(rank.wrapping_add(10).unsigned_abs() + u8::from(*rank >= 0));
        number_key(number, key);
    }
    key.rank(10);
    key.number(version.revision);
}

fn number_key(number: &[u8], key: &mut Key) {
    key.number(number);
    match number {
        b"" => key.rank(0),
        _ if is_number(number) => key.rank(1),
        _ => {
            key.rank(2);
            key.text(number);
        }
    }
}

/// Whether text reads as a version, so that `NAME-VERSION` can be cut.
#[must_use]
pub fn is_version(text: &[u8]) -> bool {
    let version = Version::of(text);
    version.numbers.iter().all(|number| is_number(number)) && version.is_whole
}

struct Version<'a> {
    numbers: Vec<&'a [u8]>,
    letter: Option<u8>,
    suffixes: Vec<(i8, &'a [u8])>,
    revision: &'a [u8],
    is_whole: bool,
}

impl<'a> Version<'a> {
    fn of(text: &'a [u8]) -> Self {
        // apk's `~hash` of a commit says nothing of the order.
        let (text, after) = cut(text, b'~');
        let tail = after.and_then(|after| memchr::memmem::rfind(after, b"-r").map(|at| &after[at..])).unwrap_or(b"");
        let (rest, revision) = match memchr::memmem::rfind(text, b"-r") {
            Some(at) if is_number(&text[at + 2..]) => (&text[..at], &text[at + 2..]),
            _ => (text, tail.strip_prefix(b"-r").filter(|revision| is_number(revision)).unwrap_or(b"")),
        };
        let mut parts = rest.split(|&b| b == b'_');
        let mut main = parts.next().unwrap_or_default();
        let letter = main.last().copied().filter(u8::is_ascii_lowercase);
        if letter.is_some() {
            main = &main[..main.len() - 1];
        }
        let mut is_whole = true;
        let suffixes = parts.map(|part| {
            let known = SUFFIXES.iter().find_map(|(word, rank)| {
                let number = part.strip_prefix(*word)?;
                (number.is_empty() || is_number(number)).then_some((*rank, number))
            });
            is_whole &= known.is_some();
            known.unwrap_or((0, part))
        });
        let suffixes = suffixes.collect();
        Version { numbers: main.split(|&b| b == b'.').collect(), letter, suffixes, revision, is_whole }
    }
}

fn cut(text: &[u8], at: u8) -> (&[u8], Option<&[u8]>) {
    match memchr::memchr(at, text) {
        Some(place) => (&text[..place], Some(&text[place + 1..])),
        None => (text, None),
    }
}

fn compare_numbers(a: &[&[u8]], b: &[&[u8]]) -> Ordering {
    for (place, (x, y)) in a.iter().zip(b).enumerate() {
        let decimal = place > 0 && (x.starts_with(b"0") || y.starts_with(b"0"));
        let order =
            if decimal { without_zeros(x).cmp(without_zeros(y)) } else { numbers(x, y).then_with(|| text(x, y)) };
        if order.is_ne() {
            return order;
        }
    }
    Ordering::Equal
}

/// What is no number is ordered as text, so that the order is one in any case.
fn text(x: &[u8], y: &[u8]) -> Ordering {
    if is_number(x) && is_number(y) { Ordering::Equal } else { x.cmp(y) }
}

fn without_zeros(digits: &[u8]) -> &[u8] {
    let end = digits.iter().rposition(|&b| b != b'0').map_or(0, |last| last + 1);
    &digits[..end]
}

fn compare_suffixes(a: &[(i8, &[u8])], b: &[(i8, &[u8])]) -> Ordering {
    for place in 0..a.len().max(b.len()) {
        let (x, y) = (a.get(place), b.get(place));
        let rank = |one: Option<&(i8, &[u8])>| one.map_or(0, |one| one.0);
        let order = rank(x).cmp(&rank(y)).then_with(|| match (x, y) {
            (Some(x), Some(y)) => numbers(x.1, y.1).then_with(|| text(x.1, y.1)),
            (x, y) => x.is_some().cmp(&y.is_some()),
        });
        if order.is_ne() {
            return order;
        }
    }
    Ordering::Equal
}
