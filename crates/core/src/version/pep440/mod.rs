//! The ordering of Python distributions (*Python Packaging User Guide*, "Version specifiers", from PEP 440):
//! `[N!]N(.N)*[{a|b|rc}N][.postN][.devN][+local]`.
//!
//! Traps: trailing zeros of the release mean nothing (`1.0` = `1`); case and separators are free
//! (`1.0-RC_1` = `1.0rc1`), other words stand for the same (`alpha`, `c`, `pre`, `preview`, `rev`, `r`), and
//! `1.0-1` is `1.0.post1`; a development version comes before the pre-releases of its release. Text that
//! is no version, as old metadata can have, comes before every version.

mod specifiers;

use std::cmp::Ordering;

pub use specifiers::{are_specifiers, judged, satisfies};

use super::key::Key;
use super::{numbers, tokens, words_first};

/// Orders two versions.
///
/// ```
/// use std::cmp::Ordering;
/// use whodunit_core::version::pep440::compare;
/// assert_eq!(compare(b"1.0.dev1", b"1.0a1"), Ordering::Less);
/// assert_eq!(compare(b"v1.0-RC_1", b"1.0.0rc1"), Ordering::Equal);
/// ```
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    let (left, right) = (a.to_ascii_lowercase(), b.to_ascii_lowercase());
    match (Version::parse(left.trim_ascii()), Version::parse(right.trim_ascii())) {
        (Some(a), Some(b)) => a.compare(&b),
        (Some(_), None) => Ordering::Greater,
        (None, Some(_)) => Ordering::Less,
        (None, None) => tokens::compare(a, b),
    }
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    let lower = version.to_ascii_lowercase();
    let Some(parsed) = Version::parse(lower.trim_ascii()) else {
        key.rank(0);
        return tokens::key(version, key);
    };
    key.rank(1);
    key.number(parsed.epoch);
    for part in &parsed.release {
        key.rank(1);
        key.number(part);
    }
    key.rank(0);
    key.rank(parsed.stage as u8);
    key.number(parsed.stage_number);
    key.rank(u8::from(parsed.post.is_some()));
    key.number(parsed.post.unwrap_or_default());
    key.rank(u8::from(parsed.development.is_none()));
    key.number(parsed.development.unwrap_or_default());
    key.rank(u8::from(parsed.local.is_some()));
    for part in parsed.local.into_iter().flat_map(|local| local.split(is_separator)) {
        let is_number = super::is_number(part);
        key.ranked(if is_number { 2 } else { 1 }, is_number, part);
    }
    key.rank(0);
}

/// What stands between the parts of a local version.
fn is_separator(byte: &u8) -> bool {
    matches!(byte, b'.' | b'-' | b'_')
}

/// A distribution's name in the one form under which names are compared: lower case, with every run of
/// `-`, `_` and `.` as one `-`.
///
/// ```
/// assert_eq!(whodunit_core::version::pep440::normal_name(b"Swell__Plot.x"), b"swell-plot-x");
/// ```
#[must_use]
pub fn normal_name(name: &[u8]) -> Vec<u8> {
    let mut out: Vec<u8> = Vec::with_capacity(name.len());
    let mut parts = name.split(|b| matches!(b, b'-' | b'_' | b'.'));
    out.extend(parts.next().unwrap_or_default().to_ascii_lowercase());
    let mut gap = false;
    for part in parts {
        gap = true;
        if !part.is_empty() {
            out.push(b'-');
            out.extend(part.to_ascii_lowercase());
            gap = false;
        }
    }
    if gap {
        out.push(b'-');
    }
    out
}

/// Where a version stands among those of its release.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Stage {
    /// A development version with neither pre-release nor post-release.
    Development,
    Alpha,
    Beta,
    Candidate,
    Final,
}

#[derive(Debug, Clone)]
struct Version<'a> {
    epoch: &'a [u8],
    /// Without the zeros at its end.
    release: Vec<&'a [u8]>,
    /// How many parts of the release are written.
    written: usize,
    stage: Stage,
    stage_number: &'a [u8],
    post: Option<&'a [u8]>,
    development: Option<&'a [u8]>,
    local: Option<&'a [u8]>,
}

impl<'a> Version<'a> {
    fn parse(text: &'a [u8]) -> Option<Self> {
        let text = text.strip_prefix(b"v").unwrap_or(text);
        let (text, local) = match memchr::memchr(b'+', text) {
            Some(at) => (&text[..at], Some(&text[at + 1..])),
            None => (text, None),
        };
        let mut rest = Rest(text);
        let first = rest.digits()?;
        let epoch = rest.take(b"!").then_some(first);
        let mut release = vec![if epoch.is_some() { rest.digits()? } else { first }];
        while rest.0.first() == Some(&b'.') && rest.0.get(1).is_some_and(u8::is_ascii_digit) {
            rest.0 = &rest.0[1..];
            release.push(rest.digits()?);
        }
        let written = release.len();
        while release.last().is_some_and(|part| numbers(part, b"0").is_eq()) {
            release.pop();
        }
        let pre = rest.labelled(&[
            (b"alpha", Stage::Alpha),
            (b"a", Stage::Alpha),
            (b"beta", Stage::Beta),
            (b"b", Stage::Beta),
            (b"preview", Stage::Candidate),
            (b"pre", Stage::Candidate),
            (b"rc", Stage::Candidate),
            (b"c", Stage::Candidate),
        ]);
        let implied = rest.0.strip_prefix(b"-").filter(|after| after.first().is_some_and(u8::is_ascii_digit));
        let post = match implied {
            Some(after) => {
                rest.0 = after;
                rest.digits()
            }
            None => rest.labelled(&[(b"post", ()), (b"rev", ()), (b"r", ())]).map(|(_, number)| number),
        };
        let development = rest.labelled(&[(b"dev", ())]).map(|(_, number)| number);
        let sound = |local: &[u8]| {
            local.split(is_separator).all(|part| !part.is_empty() && part.iter().all(u8::is_ascii_alphanumeric))
        };
        if !rest.0.is_empty() || local.is_some_and(|local| !sound(local)) {
            return None;
        }
        let (stage, stage_number) = match pre {
            Some((&Stage::Alpha, number)) => (Stage::Alpha, number),
            Some((&Stage::Beta, number)) => (Stage::Beta, number),
            Some((_, number)) => (Stage::Candidate, number),
            None if post.is_none() && development.is_some() => (Stage::Development, &b""[..]),
            None => (Stage::Final, &b""[..]),
        };
        Some(Version {
            epoch: epoch.unwrap_or_default(),
            release,
            written,
            stage,
            stage_number,
            post,
            development,
            local,
        })
    }

    /// Whether the first `count` parts of the release, and all that `stem` says after it, are those of `stem`.
    fn begins_with(&self, stem: &Self, count: usize) -> bool {
        let part = |version: &Self, at: usize| version.release.get(at).copied().unwrap_or(b"0").to_vec();
        let is_same = |at: usize| numbers(&part(self, at), &part(stem, at)).is_eq();
        let of_stem = |stage: &Stage| count < stem.written || *stage == Stage::Final || *stage == self.stage;
        numbers(self.epoch, stem.epoch).is_eq() && (0..count).all(is_same) && of_stem(&stem.stage)
    }

    fn same_release(&self, other: &Self) -> bool {
        let pairs = self.release.iter().zip(&other.release).all(|(a, b)| numbers(a, b).is_eq());
        numbers(self.epoch, other.epoch).is_eq() && self.release.len() == other.release.len() && pairs
    }

    fn is_before_final(&self) -> bool {
        self.stage < Stage::Final || self.development.is_some()
    }

    fn compare(&self, other: &Self) -> Ordering {
        let releases = || {
            let pairs = self.release.iter().zip(&other.release).map(|(a, b)| numbers(a, b));
            pairs.fold(Ordering::Equal, Ordering::then).then(self.release.len().cmp(&other.release.len()))
        };
        // No post-release comes before any, no development version after any.
        let posts = || match (self.post, other.post) {
            (Some(a), Some(b)) => numbers(a, b),
            (a, b) => a.is_some().cmp(&b.is_some()),
        };
        let developments = || match (self.development, other.development) {
            (Some(a), Some(b)) => numbers(a, b),
            (a, b) => b.is_some().cmp(&a.is_some()),
        };
        numbers(self.epoch, other.epoch)
            .then_with(releases)
            .then_with(|| self.stage.cmp(&other.stage))
            .then_with(|| numbers(self.stage_number, other.stage_number))
            .then_with(posts)
            .then_with(developments)
            .then_with(|| locals(self.local, other.local))
    }
}

/// Parts in order: words by their letters, numbers after words, a longer label after its beginning.
fn locals(a: Option<&[u8]>, b: Option<&[u8]>) -> Ordering {
    let (Some(a), Some(b)) = (a, b) else { return a.is_some().cmp(&b.is_some()) };
    let (mut left, mut right) = (a.split(is_separator), b.split(is_separator));
    loop {
        let order = match (left.next(), right.next()) {
            (None, None) => return Ordering::Equal,
            (None, Some(_)) => return Ordering::Less,
            (Some(_), None) => return Ordering::Greater,
            (Some(x), Some(y)) => words_first(x, y),
        };
        if order.is_ne() {
            return order;
        }
    }
}

struct Rest<'a>(&'a [u8]);

impl<'a> Rest<'a> {
    fn take(&mut self, prefix: &[u8]) -> bool {
        match self.0.strip_prefix(prefix) {
            Some(rest) => {
                self.0 = rest;
                true
            }
            None => false,
        }
    }

    fn digits(&mut self) -> Option<&'a [u8]> {
        let end = self.0.iter().position(|b| !b.is_ascii_digit()).unwrap_or(self.0.len());
        let (digits, rest) = self.0.split_at(end);
        self.0 = rest;
        (end > 0).then_some(digits)
    }

    /// `[-_.]WORD[-_.][N]`; a missing number is 0.
    fn labelled<'l, L>(&mut self, words: &'l [(&[u8], L)]) -> Option<(&'l L, &'a [u8])> {
        fn separated(text: &[u8]) -> &[u8] {
            if text.first().is_some_and(|b| matches!(b, b'-' | b'_' | b'.')) { &text[1..] } else { text }
        }
        let after = separated(self.0);
        let (label, rest) = words.iter().find_map(|(word, label)| Some((label, after.strip_prefix(*word)?)))?;
        self.0 = separated(rest);
        match self.digits() {
            Some(number) => Some((label, number)),
            None => {
                self.0 = rest;
                Some((label, b""))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_ordered_as_the_specification_lists_them() {
        let rising = [
            "not a version",
            "1.0.dev456",
            "1.0a1",
            "1.0a2.dev456",
            "1.0a12.dev456",
            "1.0a12",
            "1.0b1.dev456",
            "1.0b2",
            "1.0b2.post345.dev456",
            "1.0b2.post345",
            "1.0rc1.dev456",
            "1.0rc1",
            "1.0",
            "1.0+abc.5",
            "1.0+abc.7",
            "1.0+5",
            "1.0.post456.dev34",
            "1.0.post456",
            "1.0.15",
            "1.1.dev1",
            "1!0.1",
        ];
        for (place, lower) in rising.iter().enumerate() {
            assert_eq!(compare(lower.as_bytes(), lower.as_bytes()), Ordering::Equal);
            for higher in &rising[place + 1..] {
                assert_eq!(compare(lower.as_bytes(), higher.as_bytes()), Ordering::Less, "{lower} {higher}");
                assert_eq!(compare(higher.as_bytes(), lower.as_bytes()), Ordering::Greater, "{higher} {lower}");
            }
        }
        for (a, b) in [("1.0", "1"), ("1.0-1", "1.post1"), ("2024.08.30", "2024.8.30"), ("1.0.Alpha", "1a0")] {
            assert_eq!(compare(a.as_bytes(), b.as_bytes()), Ordering::Equal, "{a} {b}");
        }
    }
}
