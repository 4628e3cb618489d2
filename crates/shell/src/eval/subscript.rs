//! Elements of lists by number, and in zsh by what fits.

use super::piece::is_known;
use super::run::Run;
use crate::syntax::{Dialect, Parser, pattern};

/// Why an element is unknown.
pub(super) const UNNUMBERED: &str = "an element of an array whose number is unknown";

impl Run<'_> {
    /// An element of a list: by number, or in zsh by a pattern (`(r)`, `(R)`), or its number (`(i)`, `(I)`).
    pub(super) fn indexed(&mut self, list: &[Vec<u8>], index: &[u8]) -> Option<Vec<u8>> {
        let zsh = self.dialect() == Dialect::Zsh;
        if zsh
            && let Some(rest) = index.strip_prefix(b"(")
            && let Some(end) = memchr::memchr(b')', rest)
        {
            return self.searched(list, &rest[..end], &rest[end + 1..]);
        }
        let Some(number) = self.computed_index(index) else { return self.unknown_element(UNNUMBERED) };
        self.numbered(list, number)
    }

    /// The element of a list that has a number.
    pub(super) fn numbered(&mut self, list: &[Vec<u8>], number: i64) -> Option<Vec<u8>> {
        if list.iter().any(|one| !is_known(one)) {
            return self.unknown_element(UNNUMBERED);
        }
        let length = i64::try_from(list.len()).ok()?;
        let at = if number < 0 { length + number } else { number - i64::from(self.dialect() == Dialect::Zsh) };
        list.get(usize::try_from(at).ok()?).cloned()
    }

    /// An element of which nobody knows whether it is there; under `set -u` its absence is an error.
    pub(super) fn unknown_element(&mut self, why: &str) -> Option<Vec<u8>> {
        if self.state.has(b"nounset") {
            self.taint_for_good("an element that may not be set ends what is read");
        }
        Some(self.unknown_value(why))
    }

    /// The element that fits, or its number: a subscript with flags of zsh.
    fn searched(&mut self, list: &[Vec<u8>], flags: &[u8], wanted: &[u8]) -> Option<Vec<u8>> {
        let [kind @ (b'i' | b'I' | b'r' | b'R')] =
            flags.iter().copied().filter(|flag| *flag != b'e').collect::<Vec<_>>()[..]
        else {
            return Some(self.unknown_value("a flag of a subscript that is unknown here"));
        };
        let wanted = match Parser::in_quotes(wanted, self.dialect()) {
            Ok(word) if memchr::memchr(b'$', wanted).is_some() => self.one(&word, false),
            _ => wanted.to_vec(),
        };
        if !is_known(&wanted) || list.iter().any(|one| !is_known(one)) {
            return self.unknown_element("which element of an array fits");
        }
        let is_exact = flags.contains(&b'e');
        let fits = |at: &usize| if is_exact { list[*at] == wanted } else { pattern::fits(&wanted, &list[*at]) };
        let mut places = 0..list.len();
        let place = if kind.is_ascii_uppercase() { places.rfind(fits) } else { places.find(fits) };
        match (kind.to_ascii_lowercase(), place) {
            (b'r', place) => place.map(|at| list[at].clone()),
            (_, Some(at)) => Some((at + 1).to_string().into_bytes()),
            (_, None) if kind == b'I' => Some(b"0".to_vec()),
            _ => Some((list.len() + 1).to_string().into_bytes()),
        }
    }

    /// The elements from one number to another, as zsh counts: from 1, and from the end where they are negative.
    pub(super) fn range<T: Clone>(&mut self, list: &[T], index: &[u8], comma: usize) -> Option<Vec<T>> {
        let (from, to) = (self.computed_index(&index[..comma])?, self.computed_index(&index[comma + 1..])?);
        let length = i64::try_from(list.len()).ok()?;
        let place = |number: i64| if number < 0 { length + number } else { number - 1 };
        let start = usize::try_from(place(from).max(0)).ok()?.min(list.len());
        let end = usize::try_from((place(to) + 1).max(0)).ok()?.min(list.len());
        Some(list.get(start..end).map(<[T]>::to_vec).unwrap_or_default())
    }
}
