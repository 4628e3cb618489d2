//! Nix's version ordering, and the splitting of names (Nix manual, `builtins.compareVersions` and
//! `builtins.parseDrvName`).
//!
//! Dots and hyphens are dropped, and what is left is cut at every change between digits and
//! non-digits. Components are compared in pairs, a missing one as the empty text: two numbers by
//! value; the empty text before a number; `pre` before anything else, even the empty text; a number
//! after letters; letters by their bytes.
//!
//! Trap: a number over 2147483647 is no number to Nix 2.8, and is compared as letters.

use std::cmp::Ordering;

use super::key::Key;

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::nix::compare;
/// assert_eq!(compare(b"1.0pre1", b"1.0"), Ordering::Less);
/// assert_eq!(compare(b"1.0rc1", b"1.0"), Ordering::Greater);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let (mut a, mut b) = (a, b);
    while !a.is_empty() || !b.is_empty() {
        let (x, y) = (component(&mut a), component(&mut b));
        if before(x, y) {
            return Ordering::Less;
        }
        if before(y, x) {
            return Ordering::Greater;
        }
    }
    Ordering::Equal
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let (mut components, mut rest) = (Vec::new(), version);
    while !rest.is_empty() {
        components.push(component(&mut rest));
    }
    let against = |component: &&[u8]| match *component {
        b"" => Ordering::Equal,
        b"pre" => Ordering::Less,
        _ => Ordering::Greater,
    };
    key.places(&components, against, |component, key| match number(component) {
        Some(number) => {
            key.rank(1);
            key.number(number.to_string().as_bytes());
        }
        None => {
            key.rank(0);
            key.text(component);
        }
    });
}

fn component<'a>(rest: &mut &'a [u8]) -> &'a [u8] {
    let start = rest.iter().position(|b| !matches!(b, b'.' | b'-')).unwrap_or(rest.len());
    let text = &rest[start..];
    let digits = text.first().is_some_and(u8::is_ascii_digit);
    let ends = |b: &u8| b.is_ascii_digit() != digits || matches!(b, b'.' | b'-');
    let end = text.iter().position(ends).unwrap_or(text.len());
    *rest = &text[end..];
    &text[..end]
}

fn number(component: &[u8]) -> Option<i32> {
    let is_number = !component.is_empty() && component.iter().all(u8::is_ascii_digit);
    is_number.then(|| std::str::from_utf8(component).ok()?.parse().ok()).flatten()
}

fn before(x: &[u8], y: &[u8]) -> bool {
    match (number(x), number(y)) {
        (Some(x), Some(y)) => x < y,
        (None, Some(_)) if x.is_empty() => true,
        _ if x == b"pre" && y != b"pre" => true,
        _ if y == b"pre" => false,
        (None, Some(_)) => true,
        (Some(_), None) => false,
        (None, None) => x < y,
    }
}

/// Splits `osier-2.3.9` into name and version: at the first hyphen that is followed by something else
/// than an ASCII letter.
///
/// ```
/// use whodunit_core::version::nix::split;
/// assert_eq!(split(b"osier-tools-2.3.9"), (&b"osier-tools"[..], Some(&b"2.3.9"[..])));
/// assert_eq!(split(b"moor-v1.2"), (&b"moor-v1.2"[..], None));
/// ```
#[must_use]
pub fn split(name: &[u8]) -> (&[u8], Option<&[u8]>) {
    let cut = name.windows(2).position(|two| two[0] == b'-' && !two[1].is_ascii_alphabetic());
    match cut {
        Some(at) => (&name[..at], Some(&name[at + 1..])),
        None => (name, None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn orders_and_splits_as_the_manual_says() {
        use Ordering::{Equal, Greater, Less};
        for (a, order, b) in [
            ("1.0pre1", Less, "1.0"),
            ("1.0", Less, "1.0rc1"),
            ("1.0", Less, "1.0-beta"),
            ("1.0", Less, "1.0a"),
            ("1.0a", Less, "1.0.0"),
            ("1.0", Equal, "01.0"),
            ("1..0", Equal, "1.0."),
            ("2.3c", Less, "2.3.1"),
            ("20240501123000", Less, "1"),
            ("2147483648", Less, "1"),
            ("1", Less, "2147483647"),
            ("9", Less, "10"),
            ("", Less, "1"),
            ("a", Greater, ""),
        ] {
            assert_eq!(compare(a.as_bytes(), b.as_bytes()), order, "{a} {b}");
            assert_eq!(compare(b.as_bytes(), a.as_bytes()), order.reverse(), "{b} {a}");
        }
        for (whole, name, version) in [
            ("gtk-sedge-engine-0.9-unstable-2024-05-01", "gtk-sedge-engine", Some("0.9-unstable-2024-05-01")),
            ("perl5.36-Moor-Stitch-2.01", "perl5.36-Moor-Stitch", Some("2.01")),
            ("sedge-3d-tools", "sedge", Some("3d-tools")),
            ("moor--1", "moor", Some("-1")),
            ("moor-_x", "moor", Some("_x")),
            ("moor-", "moor-", None),
        ] {
            assert_eq!(split(whole.as_bytes()), (name.as_bytes(), version.map(str::as_bytes)), "{whole}");
        }
    }
}
