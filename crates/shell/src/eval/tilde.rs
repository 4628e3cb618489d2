//! `~`, `~name`, and `=name` of zsh.

use super::run::{Mishap, Run};
use crate::syntax::Dialect;

impl Run<'_> {
    /// The file that `=name` stands for in zsh. What is not found ends what is followed there.
    fn equals(&mut self, text: &[u8]) -> Option<Vec<u8>> {
        let name = text.strip_prefix(b"=").filter(|name| !name.is_empty() && self.dialect() == Dialect::Zsh)?;
        let found = self.which(name);
        if found.is_none() {
            self.fail(Mishap::Expansion);
        }
        found
    }

    /// `~` and `~name` at the start, and in assignments behind each colon: text, and whether it means itself.
    pub(super) fn homes(
        &mut self,
        text: &[u8],
        is_first: bool,
        is_last: bool,
        is_assignment: bool,
    ) -> Vec<(Vec<u8>, bool)> {
        let mut pieces = Vec::new();
        if let Some(file) = is_first.then_some(text).filter(|_| is_last).and_then(|text| self.equals(text)) {
            return vec![(file, true)];
        }
        let parts: Vec<&[u8]> = if is_assignment { text.split(|&b| b == b':').collect() } else { vec![text] };
        for (number, part) in parts.iter().enumerate() {
            if number > 0 {
                pieces.push((b":".to_vec(), false));
            }
            let at_start = number > 0 || is_first;
            let end = part.iter().position(|&b| b == b'/').unwrap_or(part.len());
            let name = part.get(1..end).unwrap_or_default();
            let is_user = !name.is_empty() && name.iter().all(|b| b.is_ascii_alphanumeric() || b"_-".contains(b));
            let is_cut = end == part.len() && number + 1 == parts.len() && !is_last;
            if at_start && is_cut && *part == b"~" && self.dialect() == Dialect::Zsh {
                pieces.push((self.unknown_value("whose home directory is meant"), true));
                continue;
            }
            if at_start
                && part.first() == Some(&b'~')
                && !is_cut
                && let Some(home) = self.home_of(&part[1..end])
            {
                pieces.push((home, true));
                pieces.push((part[end..].to_vec(), false));
                continue;
            }
            if at_start && part.first() == Some(&b'~') && !is_cut && is_user && self.dialect() == Dialect::Zsh {
                self.fail(Mishap::Expansion); // "no such user or named directory"
            }
            pieces.push((part.to_vec(), false));
        }
        pieces
    }

    fn home_of(&mut self, name: &[u8]) -> Option<Vec<u8>> {
        match name {
            b"" => self.state.get(b"HOME").map(<[u8]>::to_vec),
            b"+" if self.dialect() != Dialect::Posix => Some(self.state.dir.clone()),
            b"-" if self.dialect() != Dialect::Posix => self.text_of(b"OLDPWD"),
            number
                if self.dialect() != Dialect::Posix
                    && number.last().is_some_and(u8::is_ascii_digit)
                    && number
                        .strip_prefix(b"+")
                        .or(number.strip_prefix(b"-"))
                        .unwrap_or(number)
                        .iter()
                        .all(u8::is_ascii_digit) =>
            {
                Some(self.unknown_value("a directory from the stack of the shell"))
            }
            name if self.dialect() == Dialect::Zsh && self.state.named_dirs.contains_key(name) => {
                self.state.named_dirs.get(name).cloned()
            }
            name => {
                let named = self.state.get(name).filter(|dir| self.dialect() == Dialect::Zsh && dir.starts_with(b"/"));
                self.at.homes.get(name).cloned().or_else(|| named.map(<[u8]>::to_vec))
            }
        }
    }
}
