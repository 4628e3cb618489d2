//! Patterns of words as each shell takes them, and the names of files that fit.

use super::expand::Field;
use super::piece::is_known;
use super::run::{Mishap, Run};
use crate::syntax::{Dialect, Word, pattern};

impl Run<'_> {
    /// One pattern of a word.
    pub(super) fn one_pattern(&mut self, word: &Word) -> Vec<u8> {
        let has_groups = self.dialect() == Dialect::Bash && self.state.has(b"extglob");
        let fitting = self.whole(word, false).pattern();
        self.of_dialect(fitting, has_groups)
    }

    /// One pattern of a word behind `==` in `[[ ]]`, where bash takes groups in any case.
    pub(super) fn compared_pattern(&mut self, word: &Word) -> Vec<u8> {
        let fitting = self.whole(word, false).pattern();
        self.of_dialect(fitting, true)
    }

    /// A pattern in which the parentheses that this shell takes for themselves are marked so: in dash all of them, in
    /// bash those without a sign before them, and in zsh a sign before them is a letter like any other.
    fn of_dialect(&self, fitting: Vec<u8>, has_groups: bool) -> Vec<u8> {
        if !fitting.contains(&b'(') {
            return fitting;
        }
        let (mut result, mut at, mut open) = (Vec::with_capacity(fitting.len() + 2), 0, 0);
        while at < fitting.len() {
            let has_sign = b"@?*+!".contains(&fitting[at]) && fitting.get(at + 1) == Some(&b'(');
            match fitting[at] {
                b'\\' => {
                    result.extend(fitting[at..].iter().take(2));
                    at += 2;
                    continue;
                }
                sign if has_sign && self.dialect() == Dialect::Bash && has_groups => {
                    result.extend([sign, b'(']);
                    open += 1;
                    at += 2;
                    continue;
                }
                sign @ (b'@' | b'+' | b'!') if has_sign && self.dialect() == Dialect::Zsh => {
                    result.extend((!self.state.has(b"kshglob")).then_some(b'\\'));
                    result.push(sign);
                }
                // A star before a group is one of its own.
                sign @ (b'*' | b'?') if has_sign && !self.state.has(b"kshglob") => {
                    result.push(sign);
                    result.extend((self.dialect() == Dialect::Zsh).then_some(&b"@"[..]).into_iter().flatten());
                }
                byte @ (b'(' | b')') if self.dialect() != Dialect::Zsh && open == 0 => result.extend([b'\\', byte]),
                byte @ (b'(' | b')') if self.dialect() != Dialect::Zsh => {
                    open = if byte == b'(' { open + 1 } else { open - 1 };
                    result.push(byte);
                }
                byte => result.push(byte),
            }
            at += 1;
        }
        result
    }

    /// The names of files that fit, or the field's own text.
    pub(super) fn files(&mut self, field: &Field, fields: &mut Vec<Vec<u8>>) {
        let text = field.text();
        let fitting = field.pattern();
        // zsh: "bad pattern". A bracket alone is the command.
        let is_taken = self.dialect() == Dialect::Zsh && !self.state.has(b"noglob") && !self.state.has(b"nobadpattern");
        if is_taken && text != b"[" && is_known(&text) && pattern::has_open_bracket(&fitting) {
            self.fail(Mishap::Expansion);
            return;
        }
        let is_pattern = pattern::is_pattern(&fitting) || (self.has_extended_glob() && is_extended(&fitting));
        if !is_pattern || self.state.has(b"noglob") || !is_known(&text) {
            fields.push(text);
            return;
        }
        if self.dialect() == Dialect::Zsh && super::files::has_modifiers(&fitting) {
            fields.push(self.unknown_value("names of files that are changed"));
            return;
        }
        let (fitting, qualifiers) = match self.dialect() {
            Dialect::Zsh => super::files::qualified(&fitting),
            _ => (&fitting[..], None),
        };
        let is_group_only = qualifiers.is_none() && !fitting.iter().any(|b| b"*?[".contains(b));
        if self.dialect() == Dialect::Bash && is_group_only && !self.state.has(b"extglob") {
            fields.push(text);
            return;
        }
        if self.has_extended_glob()
            && fitting.split(|&b| b == b'/').any(|part| is_extended(part.strip_prefix(b"^").unwrap_or(part)))
        {
            fields.push(self.unknown_value("an extended pattern"));
            return;
        }
        let odd = [&b"dotglob"[..], b"nocaseglob", b"globdots", b"globassign", b"markdirs"];
        let is_odd = odd.iter().any(|option| self.state.has(option))
            || self.state.has(b"globstar") && memchr::memmem::find(fitting, b"**").is_some();
        if is_odd {
            fields.push(self.any_number("names of files that an option chooses"));
            return;
        }
        let is_deep = self.dialect() == Dialect::Zsh && memchr::memmem::find(fitting, b"**").is_some();
        let by_name = |letters: &[u8]| letters.windows(2).any(|two| matches!(two, b"on" | b"On"));
        let is_odd = qualifiers.is_some_and(|letters| {
            let known: &[u8] = if by_name(letters) { b"N-/.oOn" } else { b"N-/." };
            letters.iter().any(|b| !known.contains(b))
        });
        if is_deep || is_odd {
            fields.push(self.any_number("names of files that qualifiers choose"));
            return;
        }
        let found = self.matching(fitting, qualifiers);
        let null = self.state.has(b"nullglob") || qualifiers.is_some_and(|letters| letters.contains(&b'N'));
        if !found.is_empty() || null {
            fields.extend(found);
        } else if self.dialect() == Dialect::Zsh && !self.state.has(b"nonomatch") && !self.state.has(b"shglob") {
            self.fail(Mishap::Expansion);
            self.is_unmatched = true;
        } else if self.dialect() == Dialect::Bash && self.state.has(b"failglob") {
            self.fail(Mishap::Expansion);
        } else {
            fields.push(text);
        }
    }

    /// Whether `^`, `~` and `#` mean something in patterns.
    pub(super) fn has_extended_glob(&self) -> bool {
        self.dialect() == Dialect::Zsh && self.state.has(b"extendedglob")
    }
}

/// Whether a pattern has a sign in it that only the extended patterns of zsh know.
pub(super) fn is_extended(fitting: &[u8]) -> bool {
    let is_plain = |at: usize| at == 0 || fitting[at - 1] != b'\\';
    (0..fitting.len()).any(|at| matches!(fitting[at], b'^' | b'~' | b'#') && is_plain(at))
}
