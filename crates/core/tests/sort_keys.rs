//! The sort key of a version stands where the scheme's own comparison puts it.

use proptest::prelude::*;
use whodunit_core::version::Scheme;

/// Versions of real shapes, and the traps of each scheme.
const LABELLED: &str = include_str!("sort_keys.txt");

/// Whether a scheme puts a version in one order with all others: see [`Scheme::key`].
fn is_ordered(scheme: Scheme, version: &[u8]) -> bool {
    let ends = |part: &[u8]| part.last().is_some_and(u8::is_ascii_alphanumeric);
    let revision = version.rsplit(|&b| b == b'-').next().filter(|last| last.len() < version.len());
    match scheme {
        Scheme::Pacman => revision.is_some() && version.split(|b| matches!(b, b'-' | b':')).all(ends),
        Scheme::Luarocks => revision.is_some_and(|last| !last.is_empty() && last.iter().all(u8::is_ascii_digit)),
        _ => true,
    }
}

/// What is wrong with the keys of two versions.
fn disagreement(scheme: Scheme, a: &[u8], b: &[u8]) -> Option<String> {
    let (keys, order) = (scheme.key(a).cmp(&scheme.key(b)), scheme.compare(a, b));
    let texts = (String::from_utf8_lossy(a), String::from_utf8_lossy(b));
    (keys != order).then(|| format!("{scheme:?}: {texts:?} are {order:?}, their keys {keys:?}"))
}

#[test]
fn every_pair_of_the_labelled_versions_is_ordered_alike() {
    let versions: Vec<&[u8]> = LABELLED.lines().filter(|line| !line.starts_with('#')).map(str::as_bytes).collect();
    let (mut pairs, mut wrong) = (0, Vec::new());
    for scheme in Scheme::ALL {
        let versions: Vec<&[u8]> = versions.iter().copied().filter(|version| is_ordered(scheme, version)).collect();
        assert!(versions.len() > 50, "{scheme:?} {}", versions.len());
        pairs += versions.len() * versions.len();
        for a in &versions {
            wrong.extend(versions.iter().filter_map(|b| disagreement(scheme, a, b)));
        }
    }
    assert!(wrong.is_empty(), "{} of {pairs} pairs:\n{}", wrong.len(), wrong.join("\n"));
}

/// Pieces of which versions are made, in any scheme.
fn version() -> impl Strategy<Value = String> {
    let number = prop_oneof![Just("0"), Just("1"), Just("00"), Just("01"), Just("10"), Just("9"), Just("2147483648")];
    let word = prop_oneof![
        Just("a"),
        Just("b"),
        Just("rc"),
        Just("alpha"),
        Just("beta"),
        Just("pre"),
        Just("dev"),
        Just("post"),
        Just("p"),
        Just("x"),
        Just("R"),
        Just("scm"),
        Just("git"),
    ];
    let mark = prop_oneof![
        Just("."),
        Just("-"),
        Just("_"),
        Just("~"),
        Just("+"),
        Just("^"),
        Just(":"),
        Just("!"),
        Just("-r"),
        Just("")
    ];
    let piece = (mark, prop_oneof![3 => number.clone(), 1 => word]).prop_map(|(mark, what)| format!("{mark}{what}"));
    (number, prop::collection::vec(piece, 0..6)).prop_map(|(first, rest)| format!("{first}{}", rest.concat()))
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(20_000) })]
    #[test]
    fn versions_made_of_any_pieces_are_ordered_alike(a in version(), b in version()) {
        for scheme in Scheme::ALL {
            let (a, b) = (a.as_bytes(), b.as_bytes());
            if is_ordered(scheme, a) && is_ordered(scheme, b) {
                prop_assert_eq!(disagreement(scheme, a, b), None);
            }
        }
    }
}
