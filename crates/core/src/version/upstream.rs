//! What upstream calls a version: without an epoch, a packager's revision, and what a packager added to it.
//!
//! Versions of different managers are compared by this part alone, and the answer says so.

use std::cmp::Ordering;

use super::key::Key;
use super::{rpm, tokens};
use crate::bytes::ByteString;

/// What the packages of a manager add to upstream's version.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Notation {
    /// Nothing: the version is upstream's.
    Plain,
    /// `EPOCH:VERSION-REVISION`, with `~` before a pre-release and `+` before what the packager added (dpkg, rpm,
    /// pacman).
    EpochRevision,
    /// `VERSION-rN`, with `_` before a pre-release (apk, Portage).
    NumberedRevision,
    /// `VERSION_N` for the Nth build (Homebrew).
    NumberedBuild,
}

/// The part of a version that is upstream's.
///
/// ```
/// use whodunit_core::version::upstream::{Notation, part};
/// assert_eq!(part(Notation::EpochRevision, b"1:2.4.0~rc1+dfsg-3").to_string(), "2.4.0rc1");
/// ```
#[must_use]
pub fn part(notation: Notation, version: &[u8]) -> ByteString {
    match notation {
        Notation::Plain => version.into(),
        Notation::EpochRevision => {
            let (_, version, _) = rpm::parts(version);
            // `~rc1` is before the version; `+dfsg` and `~bpo` are the packager's.
            let bare = memchr::memchr(b'+', version).map_or(version, |at| &version[..at]);
            bstr::ByteSlice::replace(bare, "~", "").into()
        }
        Notation::NumberedRevision => {
            let bare = memchr::memmem::rfind(version, b"-r").map_or(version, |at| &version[..at]);
            bstr::ByteSlice::replace(bare, "_", "").into()
        }
        Notation::NumberedBuild => {
            let built = memchr::memrchr(b'_', version).filter(|at| super::is_number(&version[at + 1..]));
            built.map_or(version, |at| &version[..at]).into()
        }
    }
}

/// Orders two of upstream's parts; zeros at the end mean nothing.
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    tokens::compare(bare(a), bare(b))
}

/// Without a `v` in front and zeros at the end.
fn bare(version: &[u8]) -> &[u8] {
    let version = version.strip_prefix(b"v").unwrap_or(version);
    let mut rest = version;
    while let Some(shorter) = rest.strip_suffix(b".0") {
        rest = shorter;
    }
    rest
}

/// Writes the sort key of a version.
pub(super) fn key(version: &[u8], key: &mut Key) {
    tokens::key(bare(version), key);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_packagers_add_does_not_count() {
        use Notation::{EpochRevision, NumberedBuild, NumberedRevision, Plain};
        for (a, b, expected) in [
            ((EpochRevision, "3.1.4-2"), (Plain, "3.1.4"), Ordering::Equal),
            ((EpochRevision, "1:3.1.4+dfsg1-2+deb12u1"), (Plain, "v3.1.4"), Ordering::Equal),
            ((NumberedRevision, "3.1_rc2-r4"), (Plain, "3.1rc2"), Ordering::Equal),
            ((NumberedBuild, "2.0_1"), (EpochRevision, "2.0.0-4.fc40"), Ordering::Equal),
            ((EpochRevision, "1:2.10-1"), (Plain, "2.9.0"), Ordering::Greater),
        ] {
            let parts = |(notation, version): (Notation, &str)| part(notation, version.as_bytes());
            assert_eq!(compare(&parts(a), &parts(b)), expected, "{a:?} {b:?}");
        }
    }
}
