//! Debian's version ordering: `deb-version(7)`.
//!
//! `[epoch:]upstream[-revision]`, split at the first colon and the last hyphen. A missing epoch is 0;
//! a missing revision is as good as `0`. Upstream and revision are compared in turns of non-digits and
//! digits: digits as numbers of any length; among the rest `~` sorts before everything, even the end,
//! then letters, then all other bytes.

use std::cmp::Ordering;

use super::key::Key;

/// Orders two versions. Any bytes are compared; what is no version is ordered by the same rules.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::debian::compare;
/// assert_eq!(compare(b"1.0~rc1", b"1.0"), Ordering::Less);
/// assert_eq!(compare(b"1:0.9", b"2.0"), Ordering::Greater);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let (a, b) = (Parts::of(a), Parts::of(b));
    compare_part(a.epoch, b.epoch)
        .then_with(|| compare_part(a.upstream, b.upstream))
        .then_with(|| compare_part(a.revision, b.revision))
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let Parts { epoch, upstream, revision } = Parts::of(version);
    for part in [epoch, upstream, revision] {
        // The empty text is as good as 0.
        let mut rest = if part.is_empty() { &b"0"[..] } else { part };
        while !rest.is_empty() {
            for byte in take(&mut rest, false) {
                match weight(Some(byte)) {
                    -1 => key.rank(END - 1),
                    letter @ 0..256 => key.rank(u8::try_from(letter).unwrap_or(u8::MAX)),
                    _ => [u8::MAX, *byte].into_iter().for_each(|rank| key.rank(rank)),
                }
            }
            key.rank(END);
            key.number(take(&mut rest, true));
        }
        key.rank(END);
    }
}

/// In a sort key, the end of a run of bytes that are no digits: after `~`, before all letters.
const END: u8 = 2;

/// The upstream part: what the software's own makers call the version.
///
/// ```
/// assert_eq!(whodunit_core::version::debian::upstream(b"2:4.2-1+b1"), b"4.2");
/// ```
#[must_use]
pub fn upstream(version: &[u8]) -> &[u8] {
    Parts::of(version).upstream
}

struct Parts<'a> {
    epoch: &'a [u8],
    upstream: &'a [u8],
    revision: &'a [u8],
}

impl<'a> Parts<'a> {
    fn of(version: &'a [u8]) -> Self {
        let (epoch, rest) = match memchr::memchr(b':', version) {
            Some(at) => (&version[..at], &version[at + 1..]),
            None => (&b""[..], version),
        };
        let (upstream, revision) = match memchr::memrchr(b'-', rest) {
            Some(at) => (&rest[..at], &rest[at + 1..]),
            None => (rest, &b""[..]),
        };
        Parts { epoch, upstream, revision }
    }
}

fn compare_part(mut a: &[u8], mut b: &[u8]) -> Ordering {
    while !a.is_empty() || !b.is_empty() {
        let (text_a, text_b) = (take(&mut a, false), take(&mut b, false));
        for index in 0..text_a.len().max(text_b.len()) {
            let unequal = weight(text_a.get(index)).cmp(&weight(text_b.get(index)));
            if unequal.is_ne() {
                return unequal;
            }
        }
        let (number_a, number_b) = (significant(take(&mut a, true)), significant(take(&mut b, true)));
        let unequal = number_a.len().cmp(&number_b.len()).then_with(|| number_a.cmp(number_b));
        if unequal.is_ne() {
            return unequal;
        }
    }
    Ordering::Equal
}

/// Takes the run of digits, or of anything else, off the front.
fn take<'a>(rest: &mut &'a [u8], digits: bool) -> &'a [u8] {
    let end = rest.iter().position(|b| b.is_ascii_digit() != digits).unwrap_or(rest.len());
    let (run, after) = rest.split_at(end);
    *rest = after;
    run
}

fn significant(digits: &[u8]) -> &[u8] {
    let zeros = digits.iter().take_while(|&&b| b == b'0').count();
    &digits[zeros..]
}

fn weight(byte: Option<&u8>) -> i32 {
    match byte {
        Some(b'~') => -1,
        // The end of the part, and a digit, which ends the run of non-digits.
        None => 0,
        Some(letter) if letter.is_ascii_alphabetic() => i32::from(*letter),
        Some(other) => i32::from(*other) + 256,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn orders_as_the_manual_says() {
        use Ordering::{Equal, Greater, Less};
        for (a, order, b) in [
            ("1.0~rc1", Less, "1.0"),
            ("1.0~~", Less, "1.0~"),
            ("1:0.9", Greater, "2.0"),
            ("1.0-1+b1", Greater, "1.0-1"),
            ("1.0", Equal, "1.0-0"),
            ("0:1.0", Equal, "1.0"),
            ("1.09", Equal, "1.9"),
            ("1.0a", Less, "1.0+"),
            ("1.0+dfsg-1", Greater, "1.0-9"),
            ("1.0-1~bpo12+1", Less, "1.0-1"),
            ("9", Less, "10"),
            ("18446744073709551617", Greater, "18446744073709551616"),
        ] {
            assert_eq!(compare(a.as_bytes(), b.as_bytes()), order, "{a} {b}");
            assert_eq!(compare(b.as_bytes(), a.as_bytes()), order.reverse(), "{b} {a}");
        }
    }
}
