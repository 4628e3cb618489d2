//! Texts of which a part is unknown.
//!
//! A text is a sequence of [`Piece`]s. It is stored as bytes, so that what is wholly known, which is nearly every text,
//! is cut and compared without a detour: an unknown piece is its number between two zero bytes, which no shell's value
//! can hold. No code but this module's depends on that.

use crate::UnknownId;
use crate::syntax::pattern;

/// A part of a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Piece<'t> {
    /// These bytes, never empty.
    Known(&'t [u8]),
    /// Something that nobody can know without running it.
    Unknown(UnknownId),
}

/// The pieces of a text, in order.
///
/// A zero byte of a hostile file can make a piece with a number that nobody gave out; it is unknown all the same.
pub fn pieces(text: &[u8]) -> impl Iterator<Item = Piece<'_>> {
    text.split(|&b| b == 0).zip([false, true].into_iter().cycle()).filter_map(|(part, is_unknown)| match is_unknown {
        true => Some(Piece::Unknown(UnknownId(std::str::from_utf8(part).ok()?.parse().ok()?))),
        false => (!part.is_empty()).then_some(Piece::Known(part)),
    })
}

/// An unknown piece as it stands in a text.
#[must_use]
pub fn mark(unknown: UnknownId) -> Vec<u8> {
    format!("\0{}\0", unknown.0).into_bytes()
}

/// Whether nothing in a text is unknown.
#[must_use]
pub fn is_known(text: &[u8]) -> bool {
    memchr::memchr(0, text).is_none()
}

/// Whether anything in a text is known, so that it is not empty whatever the rest is.
#[must_use]
pub fn has_known(text: &[u8]) -> bool {
    pieces(text).any(|piece| matches!(piece, Piece::Known(_)))
}

/// The unknowns in a text.
#[must_use]
pub fn unknowns_in(text: &[u8]) -> Vec<UnknownId> {
    let unknown = |piece| match piece {
        Piece::Unknown(unknown) => Some(unknown),
        Piece::Known(_) => None,
    };
    pieces(text).filter_map(unknown).collect()
}

/// A text for a sentence: at most `max` characters, with `…` for what is unknown.
#[must_use]
pub fn shown(text: &[u8], max: usize) -> String {
    let mut all = String::new();
    for piece in pieces(text) {
        match piece {
            Piece::Known(bytes) => all.push_str(&String::from_utf8_lossy(bytes)),
            // What is unknown for two reasons is one gap.
            Piece::Unknown(_) if all.ends_with('…') => {}
            Piece::Unknown(_) => all.push('…'),
        }
    }
    all.chars().take(max).collect()
}

/// Whether a pattern fits a text of which pieces may be unknown.
pub(super) fn fits_perhaps(fitting: &[u8], text: &[u8]) -> Option<bool> {
    if is_known(fitting) && is_known(text) {
        return Some(pattern::fits(fitting, text));
    }
    if fitting == b"*" {
        return Some(true);
    }
    // `*x*` fits where a known piece already does.
    let middle = fitting.strip_prefix(b"*").and_then(|rest| rest.strip_suffix(b"*"))?;
    let is_plain = !pattern::is_pattern(middle) && is_known(middle);
    let within = memchr::memmem::find(text, &pattern::plain(middle)).is_some();
    (is_plain && within).then_some(true)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_fall_into_pieces() {
        let mixed = [b"/opt/".as_slice(), &mark(UnknownId(7)), b"/bin"].concat();
        let three = [Piece::Known(b"/opt/"), Piece::Unknown(UnknownId(7)), Piece::Known(b"/bin")];
        for (text, expected) in [
            (&b""[..], &[][..]),
            (b"/usr/bin", &[Piece::Known(b"/usr/bin")]),
            (&mark(UnknownId(0)), &[Piece::Unknown(UnknownId(0))]),
            (&mixed, &three),
            // Zero bytes of a file itself.
            (b"a\0b", &[Piece::Known(b"a")]),
            (b"a\0\0b", &[Piece::Known(b"a"), Piece::Known(b"b")]),
        ] {
            assert_eq!(pieces(text).collect::<Vec<_>>(), expected, "{text:?}");
        }
        assert_eq!((shown(&mixed, 60), shown(&mixed, 6)), ("/opt/…/bin".to_owned(), "/opt/…".to_owned()));
        assert!(has_known(&mixed) && !has_known(&mark(UnknownId(1))) && !is_known(&mixed));
        assert_eq!(unknowns_in(&mixed), [UnknownId(7)]);
    }
}
