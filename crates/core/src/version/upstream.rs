//! What upstream calls a version: without an epoch, a packager's revision, and what a packager added to it.
//!
//! Versions of different managers are compared by this part alone, and whoever is told so hears of it.

use std::cmp::Ordering;

use super::{rpm, tokens};
use crate::bytes::ByteString;

/// The part that is upstream's, of a version of this manager's.
///
/// ```
/// use whodunit_core::version::upstream::part;
/// assert_eq!(part("dpkg", b"1:2.4.0~rc1+dfsg-3").to_string(), "2.4.0rc1");
/// ```
#[must_use]
pub fn part(manager: &str, version: &[u8]) -> ByteString {
    match manager {
        "dpkg" | "rpm" | "pacman" => {
            let (_, version, _) = rpm::parts(version);
            // `~rc1` is before the version; `+dfsg` and `~bpo` are the packager's.
            let bare = memchr::memchr(b'+', version).map_or(version, |at| &version[..at]);
            bstr::ByteSlice::replace(bare, "~", "").into()
        }
        "apk" | "portage" => {
            let bare = memchr::memmem::rfind(version, b"-r").map_or(version, |at| &version[..at]);
            bstr::ByteSlice::replace(bare, "_", "").into()
        }
        "homebrew" => {
            // `1.2_3` is the third time that 1.2 was built.
            let built = memchr::memrchr(b'_', version).filter(|at| super::is_number(&version[at + 1..]));
            built.map_or(version, |at| &version[..at]).into()
        }
        _ => version.into(),
    }
}

/// Orders two of upstream's parts; zeros at the end mean nothing.
#[must_use]
pub fn compare(a: &[u8], b: &[u8]) -> Ordering {
    fn bare(version: &[u8]) -> &[u8] {
        let version = version.strip_prefix(b"v").unwrap_or(version);
        let mut rest = version;
        while let Some(shorter) = rest.strip_suffix(b".0") {
            rest = shorter;
        }
        rest
    }
    tokens::compare(bare(a), bare(b))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_packagers_add_does_not_count() {
        for (a, b, expected) in [
            (("dpkg", "3.1.4-2"), ("nix", "3.1.4"), Ordering::Equal),
            (("dpkg", "1:3.1.4+dfsg1-2+deb12u1"), ("flatpak", "v3.1.4"), Ordering::Equal),
            (("apk", "3.1_rc2-r4"), ("pip", "3.1rc2"), Ordering::Equal),
            (("homebrew", "2.0_1"), ("rpm", "2.0.0-4.fc40"), Ordering::Equal),
            (("pacman", "1:2.10-1"), ("cargo", "2.9.0"), Ordering::Greater),
        ] {
            let parts = |(manager, version): (&str, &str)| part(manager, version.as_bytes());
            assert_eq!(compare(&parts(a), &parts(b)), expected, "{a:?} {b:?}");
        }
    }
}
