//! The ordering of XBPS (`xbps_cmpver`, after the package systems of the BSDs): `VERSION_REVISION`.
//!
//! A version is a list of numbers. `alpha`, `beta`, and `pre` or `rc` are less than nothing, in this order; a dot and
//! `pl` are 0; any other letter is 0 and its place in the alphabet. What is missing at the end is 0. The revision
//! counts last.

use std::cmp::Ordering;

use super::key::Key;
use super::{by_places, numbers, run};

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::dewey::compare;
/// assert_eq!(compare(b"3.1rc2_1", b"3.1_1"), Ordering::Less);
/// assert_eq!(compare(b"3.1a_1", b"3.1_4"), Ordering::Greater);
/// assert_eq!(compare(b"3.1_2", b"3.1_1"), Ordering::Greater);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let ((a, revision_a), (b, revision_b)) = (components(a), components(b));
    let components = by_places(&a, &b, &Component::Number(b"0"), |a, b| a.against(*b));
    components.then_with(|| numbers(revision_a, revision_b))
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let (components, revision) = components(version);
    let against = |component: &Component<'_>| component.against(Component::Number(b"0"));
    key.places(&components, against, |component, key| match component {
        Component::Before(rank) => key.rank(rank.unsigned_abs().abs_diff(u8::MAX)),
        Component::Number(digits) => key.number(digits),
        Component::Letter(place) => key.number(place.to_string().as_bytes()),
    });
    key.number(revision);
}

#[derive(Debug, Clone, Copy)]
enum Component<'v> {
    /// Less than nothing: a word for what comes before a release.
    Before(i8),
    /// A number in decimal digits, however long.
    Number(&'v [u8]),
    /// A letter, by its place in the alphabet.
    Letter(u8),
}

impl Component<'_> {
    fn against(self, other: Component<'_>) -> Ordering {
        match (self, other) {
            (Component::Before(a), Component::Before(b)) => a.cmp(&b),
            (Component::Before(_), _) => Ordering::Less,
            (_, Component::Before(_)) => Ordering::Greater,
            (Component::Number(a), Component::Number(b)) => numbers(a, b),
            (Component::Letter(a), Component::Letter(b)) => a.cmp(&b),
            (Component::Letter(a), Component::Number(b)) => numbers(a.to_string().as_bytes(), b),
            (Component::Number(a), Component::Letter(b)) => numbers(a, b.to_string().as_bytes()),
        }
    }
}

const WORDS: [(&[u8], Component<'static>); 6] = [
    (b"alpha", Component::Before(-3)),
    (b"beta", Component::Before(-2)),
    (b"pre", Component::Before(-1)),
    (b"rc", Component::Before(-1)),
    (b"pl", Component::Number(b"0")),
    (b".", Component::Number(b"0")),
];

/// The components of a version, and its revision.
fn components(mut rest: &[u8]) -> (Vec<Component<'_>>, &[u8]) {
    let (mut found, mut revision): (Vec<Component<'_>>, &[u8]) = (Vec::new(), b"");
    while let Some(first) = rest.first() {
        let word =
            WORDS.iter().find(|(word, _)| rest.len() >= word.len() && rest[..word.len()].eq_ignore_ascii_case(word));
        if first.is_ascii_digit() {
            let (digits, behind) = run(rest);
            found.push(Component::Number(digits));
            rest = behind;
        } else if let Some((word, component)) = word {
            found.push(*component);
            rest = &rest[word.len()..];
        } else if *first == b'_' && rest.get(1).is_some_and(u8::is_ascii_digit) {
            (revision, rest) = run(&rest[1..]);
        } else {
            if first.is_ascii_alphabetic() {
                found.extend([Component::Number(b"0"), Component::Letter(first.to_ascii_lowercase() - b'a' + 1)]);
            }
            rest = &rest[1..];
        }
    }
    (found, revision)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_ordered_by_their_components() {
        let ascending: [&[u8]; 12] = [
            b"1.0alpha1_1",
            b"1.0beta3_1",
            b"1.0pre1_1",
            b"1.0rc2_1",
            b"1.0_1",
            b"1.0_2",
            b"1.0_10",
            b"1.0a_1",
            b"1.0b_1",
            b"1.0.3_1",
            b"1.9_1",
            b"1.10_1",
        ];
        for pair in ascending.windows(2) {
            assert_eq!(compare(pair[0], pair[1]), Ordering::Less, "{pair:?}");
            assert_eq!(compare(pair[1], pair[0]), Ordering::Greater, "{pair:?}");
        }
        for (a, b, expected) in [
            ("1.0", "1", Ordering::Equal),
            ("1.0pl0_1", "1.0_1", Ordering::Equal),
            ("1.0RC1", "1.0rc1", Ordering::Equal),
            ("1-0", "10", Ordering::Less),
        ] {
            assert_eq!(compare(a.as_bytes(), b.as_bytes()), expected, "{a} {b}");
        }
    }
}
