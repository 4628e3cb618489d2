//! `test`, `[[ … ]]`, and numbers. None as an answer: that depends on what is not known.

use super::piece::{has_known, is_known};
use super::run::{Run, fits_perhaps};
use crate::FileType;
use crate::syntax::{Condition, is_name};

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
                        let fitting = self.one_pattern(right);
                        fits_perhaps(&fitting, &left).map(|fits| fits == (operator[0] == b'='))
                    }
                    b"=~" => self.regular(&left, right),
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

    /// A regular expression, where it is nothing but text with `^`, `$`, `.*` and `|` in it.
    fn regular(&mut self, left: &[u8], right: &crate::syntax::Word) -> Option<bool> {
        let text = self.one(right, false);
        if !is_known(left) || !is_known(&text) {
            return None;
        }
        let one = |part: &[u8]| -> Option<bool> {
            let (start, part) = part.strip_prefix(b"^").map_or((false, part), |part| (true, part));
            let (end, part) = part.strip_suffix(b"$").map_or((false, part), |part| (true, part));
            let mut fitting = if start { Vec::new() } else { b"*".to_vec() };
            let mut bytes = part.iter().peekable();
            while let Some(&byte) = bytes.next() {
                match byte {
                    b'.' if bytes.next_if_eq(&&b'*').is_some() => fitting.push(b'*'),
                    b'.' => fitting.push(b'?'),
                    b'\\' => fitting.extend([b'\\', *bytes.next()?]),
                    b'*' | b'+' | b'?' | b'[' | b'(' | b')' | b'{' => return None,
                    other => fitting.extend([b'\\', other]),
                }
            }
            if !end {
                fitting.push(b'*');
            }
            Some(crate::syntax::pattern::fits(&fitting, left))
        };
        text.split(|&b| b == b'|').map(one).try_fold(false, |found, fits| Some(found || fits?))
    }

    /// `test` and `[`: by the number of words, as POSIX says.
    pub(super) fn test(&mut self, words: &[Vec<u8>]) -> Option<bool> {
        match words {
            [] => Some(false),
            [one] => not_empty(one),
            [not, rest @ ..] if not == b"!" && rest.len() <= 3 => self.test(rest).map(|holds| !holds),
            [sign, word] => match &sign[..] {
                [b'-', letter] => self.unary(*letter, word),
                _ => Some(false),
            },
            [left, operator, right] if self.is_binary(operator) => self.binary(left, operator, right),
            _ => {
                let mut at = 0;
                self.any_of(words, &mut at)
            }
        }
    }

    fn is_binary(&self, operator: &[u8]) -> bool {
        let known: [&[u8]; 14] =
            [b"=", b"==", b"!=", b"-eq", b"-ne", b"-lt", b"-le", b"-gt", b"-ge", b"-nt", b"-ot", b"-ef", b"<", b">"];
        known.contains(&operator)
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
                    return self.binary(first, operator, right);
                }
                if let ([b'-', letter], Some(next)) = (first, words.get(*at)) {
                    *at += 1;
                    return self.unary(*letter, next);
                }
                not_empty(first)
            }
        }
    }

    fn unary(&mut self, letter: u8, text: &[u8]) -> Option<bool> {
        match letter {
            b'n' => return not_empty(text),
            b'z' => return not_empty(text).map(|holds| !holds),
            b't' => return Some(self.at.is_interactive),
            b'o' => return Some(self.state.has(text)),
            b'v' if is_name(text) => {
                return Some(self.state.variables.contains_key(text) || self.own_variable(text).is_some());
            }
            _ if !is_known(text) => return None,
            b'h' | b'L' => {
                let entry = self.at.files.entry_type(&self.absolute(text));
                return Some(!text.is_empty() && entry == Some(FileType::Link));
            }
            _ => {}
        }
        let Some(meta) = self.meta(text) else { return Some(false) };
        match letter {
            b'e' | b'a' => Some(true),
            b'f' => Some(meta.file_type == FileType::File),
            b'd' => Some(meta.file_type == FileType::Dir),
            b's' => Some(meta.size > 0),
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

    fn binary(&mut self, left: &[u8], operator: &[u8], right: &[u8]) -> Option<bool> {
        match operator {
            b"-nt" | b"-ot" | b"-ef" if is_known(left) && is_known(right) => {
                let (one, two) = (self.meta(left), self.meta(right));
                Some(match (operator, one, two) {
                    (b"-ef", Some(one), Some(two)) => one.identity == two.identity,
                    (b"-nt", Some(one), Some(two)) => one.modified > two.modified,
                    (b"-ot", Some(one), Some(two)) => one.modified < two.modified,
                    (b"-nt", Some(_), None) | (b"-ot", None, Some(_)) => true,
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

    /// The value of an arithmetic expression: of numbers, variables, `+ - * / %`, comparisons, `&& || !` and
    /// parentheses, and of an assignment at its start.
    pub(super) fn number(&mut self, text: &[u8]) -> Vec<u8> {
        if text.contains(&b'$') || text.contains(&b'`') {
            let Ok(word) = crate::syntax::Parser::in_quotes(text, self.dialect()) else {
                return self.unknown_value("a number that cannot be computed");
            };
            // Quotes mean nothing in a calculation.
            let expanded: Vec<u8> = self.one(&word, false).into_iter().filter(|&b| b != b'"').collect();
            if expanded.contains(&b'$') || !is_known(&expanded) {
                return self.unknown_value("a number that cannot be computed");
            }
            return self.number(&expanded);
        }
        let mut tokens = tokens(text);
        tokens.reverse();
        if tokens.len() > 400 {
            return self.unknown_value("a calculation that is too long");
        }
        match self.sum(&mut tokens, 0) {
            Some(value) if tokens.is_empty() => value.to_string().into_bytes(),
            _ => self.unknown_value("a number that cannot be computed"),
        }
    }

    fn sum(&mut self, tokens: &mut Vec<Vec<u8>>, level: usize) -> Option<i64> {
        const LEVELS: [&[&[u8]]; 5] =
            [&[b"||"], &[b"&&"], &[b"==", b"!=", b"<=", b">=", b"<", b">"], &[b"+", b"-"], &[b"*", b"/", b"%"]];
        let Some(operators) = LEVELS.get(level) else { return self.term(tokens) };
        let mut left = self.sum(tokens, level + 1)?;
        while tokens.last().is_some_and(|token| operators.contains(&token.as_slice())) {
            let operator = tokens.pop()?;
            let right = self.sum(tokens, level + 1)?;
            left = match &operator[..] {
                b"||" => i64::from(left != 0 || right != 0),
                b"&&" => i64::from(left != 0 && right != 0),
                b"==" => i64::from(left == right),
                b"!=" => i64::from(left != right),
                b"<=" => i64::from(left <= right),
                b">=" => i64::from(left >= right),
                b"<" => i64::from(left < right),
                b">" => i64::from(left > right),
                b"+" => left.wrapping_add(right),
                b"-" => left.wrapping_sub(right),
                b"*" => left.wrapping_mul(right),
                b"/" => left.checked_div(right)?,
                _ => left.checked_rem(right)?,
            };
        }
        Some(left)
    }

    fn term(&mut self, tokens: &mut Vec<Vec<u8>>) -> Option<i64> {
        let token = tokens.pop()?;
        match &token[..] {
            b"(" => {
                let value = self.sum(tokens, 0)?;
                (tokens.pop()? == b")").then_some(value)
            }
            b"-" => self.term(tokens).map(i64::wrapping_neg),
            b"+" => self.term(tokens),
            b"!" => self.term(tokens).map(|value| i64::from(value == 0)),
            name if is_name(name.strip_prefix(b"$").unwrap_or(name)) => {
                let name = name.strip_prefix(b"$").unwrap_or(name).to_vec();
                let value = self.state.get(&name).map(<[u8]>::to_vec).or_else(|| self.own_variable(&name));
                let value: i64 = match value {
                    None => 0,
                    Some(value) if value.is_empty() => 0,
                    Some(value) => std::str::from_utf8(&value).ok()?.trim().parse().ok()?,
                };
                match tokens.last().map(Vec::as_slice) {
                    Some(b"=") => {
                        tokens.pop();
                        let new = self.sum(tokens, 0)?;
                        self.assign(&name, super::state::Value::Text(new.to_string().into_bytes()), false);
                        Some(new)
                    }
                    Some(operator @ (b"++" | b"--" | b"+=" | b"-=")) => {
                        let by = match operator {
                            b"++" => 1,
                            b"--" => -1,
                            operator => {
                                let sign = if operator == b"+=" { 1 } else { -1 };
                                tokens.pop();
                                let by = self.sum(tokens, 0)?;
                                tokens.push(Vec::new());
                                by.wrapping_mul(sign)
                            }
                        };
                        tokens.pop();
                        let new = value.wrapping_add(by);
                        self.assign(&name, super::state::Value::Text(new.to_string().into_bytes()), false);
                        Some(value)
                    }
                    _ => Some(value),
                }
            }
            number => std::str::from_utf8(number).ok()?.parse().ok(),
        }
    }
}

fn tokens(text: &[u8]) -> Vec<Vec<u8>> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while at < text.len() {
        let rest = &text[at..];
        let is_word = |b: &u8| b.is_ascii_alphanumeric() || *b == b'_';
        let length = if rest[0].is_ascii_whitespace() {
            at += 1;
            continue;
        } else if is_word(&rest[0]) || (rest[0] == b'$' && rest.len() > 1) {
            1 + rest[1..].iter().take_while(|b| is_word(b)).count()
        } else {
            let two: [&[u8]; 10] = [b"||", b"&&", b"==", b"!=", b"<=", b">=", b"++", b"--", b"+=", b"-="];
            if two.iter().any(|two| rest.starts_with(two)) { 2 } else { 1 }
        };
        tokens.push(rest[..length].to_vec());
        at += length;
    }
    tokens
}

/// Whether a text is not empty.
fn not_empty(text: &[u8]) -> Option<bool> {
    if is_known(text) {
        return Some(!text.is_empty());
    }
    has_known(text).then_some(true)
}
