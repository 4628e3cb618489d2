//! `test`, `[[ … ]]`, and numbers. None as an answer: that depends on what is not known.

use super::made::UNKNOWN_SIZE;
use super::patterns::is_extended;
use super::piece::{fits_perhaps, has_known, is_known};
use super::run::Run;
use super::state::Value;
use crate::FileType;
use crate::Files;
use crate::syntax::{Condition, Dialect, Part, Word, is_name};

impl Run<'_> {
    /// `[[ … ]]`.
    pub(super) fn holds(&mut self, condition: &Condition) -> Option<bool> {
        match condition {
            Condition::Word(word) => {
                let text = self.one(word, false);
                not_empty(&text)
            }
            Condition::Unary(sign, word) => {
                let text = self.one(word, false);
                self.unary(sign[1], &text)
            }
            Condition::Binary(left, operator, right) => {
                let left = self.one(left, false);
                match &operator[..] {
                    b"==" | b"=" | b"!=" => {
                        let fitting = self.compared_pattern(right);
                        self.fits(&fitting, &left).map(|fits| fits == (operator[0] == b'='))
                    }
                    b"=~" => self.regular(&left, right),
                    b"-eq" | b"-ne" | b"-lt" | b"-le" | b"-gt" | b"-ge" => {
                        // Both are calculations here.
                        let right = self.one(right, false);
                        let [left, right] = [&left, &right].map(|text| self.number(text));
                        self.binary(&left, operator, &right)
                    }
                    operator => {
                        let right = self.one(right, false);
                        self.binary(&left, operator, &right)
                    }
                }
            }
            Condition::Not(inner) => self.holds(inner).map(|holds| !holds),
            Condition::And(one, two) => match self.holds(one) {
                Some(false) => Some(false),
                first => match self.holds(two) {
                    Some(false) => Some(false),
                    second => first.and(second),
                },
            },
            Condition::Or(one, two) => match self.holds(one) {
                Some(true) => Some(true),
                first => match self.holds(two) {
                    Some(true) => Some(true),
                    second => first.and(second),
                },
            },
        }
    }

    /// Whether a pattern of `[[ … ]]` or `case` fits.
    pub(super) fn fits(&self, fitting: &[u8], text: &[u8]) -> Option<bool> {
        if self.has_extended_glob() && is_extended(fitting) {
            let rest = fitting.strip_prefix(b"^").filter(|rest| !is_extended(rest))?;
            return fits_perhaps(rest, text).filter(|_| is_known(text)).map(|fits| !fits);
        }
        if self.dialect() == Dialect::Bash && self.state.has(b"nocasematch") {
            return fits_perhaps(&fitting.to_ascii_lowercase(), &text.to_ascii_lowercase());
        }
        fits_perhaps(fitting, text)
    }

    /// `=~`: the parts that fit are kept in `BASH_REMATCH`, in zsh in `MATCH` and `match`.
    fn regular(&mut self, left: &[u8], right: &Word) -> Option<bool> {
        let is_zsh = self.dialect() == Dialect::Zsh;
        let fitting = self.expression(right);
        let names = if is_zsh { &[&b"MATCH"[..], b"match"][..] } else { &[&b"BASH_REMATCH"[..]] };
        let ignores_case = self.state.has(b"nocasematch");
        let is_known = is_known(left) && is_known(&fitting) && !(is_zsh && ignores_case);
        let found = if is_known { super::regular::matched(&fitting, left, ignores_case) } else { Err(()) };
        let fits = found.as_ref().ok().map(Option::is_some);
        match found {
            Ok(Some(Some(parts))) if is_zsh => {
                self.assign(b"MATCH", Value::Text(parts[0].clone()), false);
                self.assign(b"match", Value::List(parts[1..].to_vec()), false);
            }
            Ok(Some(Some(parts))) => self.assign(b"BASH_REMATCH", Value::List(parts), false),
            Ok(None) if is_zsh => {}
            Ok(None) => self.assign(b"BASH_REMATCH", Value::List(Vec::new()), false),
            Ok(Some(None)) | Err(()) => {
                let unknown = self.unknown_value("what fits a regular expression");
                names.iter().for_each(|name| self.assign(name, Value::Text(unknown.clone()), false));
            }
        }
        fits
    }

    /// A word as a regular expression: what is quoted in bash means itself.
    fn expression(&mut self, word: &Word) -> Vec<u8> {
        let mut fitting = Vec::new();
        for part in &word.0 {
            let is_quoted = matches!(part, Part::Quoted(_) | Part::Double(_)) && self.dialect() == Dialect::Bash;
            let text = self.one(&Word(vec![part.clone()]), false);
            if is_quoted {
                text.iter().for_each(|&b| {
                    if !b.is_ascii_alphanumeric() && b.is_ascii() && b != 0 {
                        fitting.push(b'\\');
                    }
                    fitting.push(b);
                });
            } else {
                fitting.extend(text);
            }
        }
        fitting
    }

    /// `test` and `[`: by the number of words, as POSIX says.
    pub(super) fn test(&mut self, words: &[Vec<u8>]) -> Option<bool> {
        match words {
            [] => Some(false),
            [one] => not_empty(one),
            [not, rest @ ..] if not == b"!" && rest.len() <= 3 => self.test(rest).map(|holds| !holds),
            [sign, word] => match &sign[..] {
                [b'-', letter] if self.knows_sign(*letter) => self.unary(*letter, word),
                _ if !is_known(sign) => None,
                _ => {
                    self.is_misused = true;
                    Some(false)
                }
            },
            [left, operator, right] if self.is_binary(operator) => self.compared(left, operator, right),
            _ => {
                let mut at = 0;
                let holds = self.any_of(words, &mut at);
                // What is left over is a mistake, and `test` fails.
                self.is_misused |= at != words.len();
                holds
            }
        }
    }

    fn is_binary(&self, operator: &[u8]) -> bool {
        let known: [&[u8]; 14] =
            [b"=", b"==", b"!=", b"-eq", b"-ne", b"-lt", b"-le", b"-gt", b"-ge", b"-nt", b"-ot", b"-ef", b"<", b">"];
        let is_of_shell = match self.dialect() {
            Dialect::Posix => operator != b"==",
            Dialect::Zsh => operator != b"<" && operator != b">",
            Dialect::Bash => true,
        };
        known.contains(&operator) && is_of_shell
    }

    /// Whether `-x` with this letter asks something about a word.
    fn knows_sign(&self, letter: u8) -> bool {
        let letters: &[u8] = match self.dialect() {
            Dialect::Posix => b"bcdefghknprstuwxzGLOS",
            Dialect::Bash | Dialect::Zsh => b"abcdefghknoprstuvwxzGLNORS",
        };
        letters.contains(&letter)
    }

    /// `[ LEFT -eq RIGHT ]`: no number is a mistake.
    fn compared(&mut self, left: &[u8], operator: &[u8], right: &[u8]) -> Option<bool> {
        let is_number = |text: &[u8]| std::str::from_utf8(text).is_ok_and(|text| text.trim().parse::<i64>().is_ok());
        let takes_numbers = matches!(operator, b"-eq" | b"-ne" | b"-lt" | b"-le" | b"-gt" | b"-ge");
        if takes_numbers && [left, right].into_iter().any(|text| is_known(text) && !is_number(text)) {
            self.is_misused = true;
        }
        self.binary(left, operator, right)
    }

    fn any_of(&mut self, words: &[Vec<u8>], at: &mut usize) -> Option<bool> {
        let mut found = self.all_of(words, at);
        while words.get(*at).is_some_and(|word| word == b"-o") {
            *at += 1;
            let next = self.all_of(words, at);
            found = if found == Some(true) || next == Some(true) { Some(true) } else { found.and(next) };
        }
        found
    }

    fn all_of(&mut self, words: &[Vec<u8>], at: &mut usize) -> Option<bool> {
        let mut found = self.one_of(words, at);
        while words.get(*at).is_some_and(|word| word == b"-a") {
            *at += 1;
            let next = self.one_of(words, at);
            found = if found == Some(false) || next == Some(false) { Some(false) } else { found.and(next) };
        }
        found
    }

    fn one_of(&mut self, words: &[Vec<u8>], at: &mut usize) -> Option<bool> {
        let word = words.get(*at)?;
        *at += 1;
        match &word[..] {
            b"!" => self.one_of(words, at).map(|holds| !holds),
            b"(" => {
                let found = self.any_of(words, at);
                *at += 1;
                found
            }
            first => {
                if let (Some(operator), Some(right)) = (words.get(*at), words.get(*at + 1))
                    && self.is_binary(operator)
                {
                    *at += 2;
                    return self.compared(first, operator, right);
                }
                if let ([b'-', letter], Some(next)) = (first, words.get(*at))
                    && self.knows_sign(*letter)
                {
                    *at += 1;
                    return self.unary(*letter, next);
                }
                not_empty(first)
            }
        }
    }

    /// Whether nobody knows if a variable is set.
    pub(super) fn is_perhaps(&self, name: &[u8]) -> bool {
        self.state.variables.get(self.state.meant(name)).is_some_and(|variable| variable.is_perhaps)
    }

    /// Whether an option of this name is on, as far as it is known here.
    fn has_option(&self, name: &[u8]) -> Option<bool> {
        let bare: Vec<u8> = name.iter().filter(|b| **b != b'_').map(u8::to_ascii_lowercase).collect();
        match &bare[..] {
            b"login" => Some(self.at.is_login || self.state.has(b"login")),
            b"interactive" => Some(self.at.is_interactive),
            _ if self.dialect() == Dialect::Zsh => self.has_in_zsh(name),
            _ => Some(self.state.has(&bare)),
        }
    }

    fn unary(&mut self, letter: u8, text: &[u8]) -> Option<bool> {
        match letter {
            b'n' => return not_empty(text),
            b'z' => return not_empty(text).map(|holds| !holds),
            b't' => return Some(self.at.is_interactive),
            b'o' => return self.has_option(text),
            b'v' if self.is_perhaps(text) => return None,
            b'v' if is_name(text) => {
                return Some(self.state.variables.contains_key(text) || self.has_own(text));
            }
            b'v' => return self.has_element(text),
            _ if !is_known(text) => return None,
            b'h' | b'L' => {
                let entry = self.seen().entry_type(&self.absolute(text));
                return Some(!text.is_empty() && entry == Some(FileType::Link));
            }
            _ => {}
        }
        let Some(meta) = self.meta(text) else { return Some(false) };
        match letter {
            b'e' | b'a' => Some(true),
            b'f' => Some(meta.file_type == FileType::File),
            b'd' => Some(meta.file_type == FileType::Dir),
            b's' => (meta.size != UNKNOWN_SIZE).then_some(meta.size > 0),
            b'r' => Some(self.may(meta, 4)),
            b'w' => Some(self.may(meta, 2)),
            b'x' => Some(self.may(meta, 1)),
            b'O' => Some(meta.owner == self.at.user.uid),
            b'u' => Some(meta.mode & 0o4000 != 0),
            b'g' => Some(meta.mode & 0o2000 != 0),
            b'k' => Some(meta.mode & 0o1000 != 0),
            _ => None,
        }
    }

    /// Whether an element is set; for what is no element, and in zsh, that is not known.
    fn has_element(&mut self, text: &[u8]) -> Option<bool> {
        let (name, index) = text.strip_suffix(b"]")?.split_at(memchr::memchr(b'[', text)?);
        if self.dialect() != Dialect::Bash || !is_name(name) || matches!(&index[1..], b"@" | b"*") {
            return None;
        }
        let element = self.element(name, &index[1..]);
        element.as_deref().is_none_or(is_known).then_some(element.is_some())
    }

    fn binary(&mut self, left: &[u8], operator: &[u8], right: &[u8]) -> Option<bool> {
        match operator {
            b"-nt" | b"-ot" if self.has_touched => None,
            b"-nt" | b"-ot" | b"-ef" if is_known(left) && is_known(right) => {
                let (one, two) = (self.meta(left), self.meta(right));
                let is_same_second = match (one, two) {
                    (Some(one), Some(two)) => one.modified == two.modified && one.identity != two.identity,
                    _ => false,
                };
                if operator != b"-ef" && is_same_second {
                    return None; // The parts of a second decide.
                }
                Some(match (operator, one, two) {
                    (b"-ef", Some(one), Some(two)) => one.identity == two.identity,
                    (b"-nt", Some(one), Some(two)) => one.modified > two.modified,
                    (b"-ot", Some(one), Some(two)) => one.modified < two.modified,
                    (b"-nt", Some(_), None) | (b"-ot", None, Some(_)) => self.dialect() == Dialect::Bash,
                    _ => false,
                })
            }
            b"=" | b"==" | b"!=" => {
                let is_same = if left == right && is_known(left) {
                    Some(true)
                } else if is_known(left) && is_known(right) {
                    Some(false)
                } else {
                    None
                };
                is_same.map(|is_same| is_same != (operator == b"!="))
            }
            b"<" if is_known(left) && is_known(right) => Some(left < right),
            b">" if is_known(left) && is_known(right) => Some(left > right),
            _ => {
                let number = |text: &[u8]| std::str::from_utf8(text).ok()?.trim().parse::<i64>().ok();
                if !is_known(left) || !is_known(right) {
                    return None;
                }
                let (Some(one), Some(two)) = (number(left), number(right)) else { return Some(false) };
                Some(match operator {
                    b"-eq" => one == two,
                    b"-ne" => one != two,
                    b"-lt" => one < two,
                    b"-le" => one <= two,
                    b"-gt" => one > two,
                    b"-ge" => one >= two,
                    _ => return None,
                })
            }
        }
    }
}

/// Whether a text is not empty.
fn not_empty(text: &[u8]) -> Option<bool> {
    if is_known(text) {
        return Some(!text.is_empty());
    }
    has_known(text).then_some(true)
}
