//! Words and what stands in them.

use super::{Dialect, Parsed, Parser, Part, Word};

/// What ends a word that has no quotes around it.
pub(super) fn ends_word(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\n' | b';' | b'&' | b'|' | b'<' | b'>' | b'(' | b')')
}

impl Parser<'_> {
    /// A word; none where there is an operator or nothing.
    pub(super) fn word(&mut self) -> Parsed<Option<Word>> {
        let start = self.at;
        let word = self.word_until(&ends_word)?;
        Ok((self.at > start).then_some(word))
    }

    /// Parts up to a byte that ends the word.
    pub(super) fn word_until(&mut self, ends: &dyn Fn(u8) -> bool) -> Parsed<Word> {
        self.deeper()?;
        let mut parts = Vec::new();
        let start = self.at;
        while let Some(byte) = self.peek() {
            if byte == b'(' && ends(b'(') && self.at > start && self.opens_pattern(&parts) {
                let text = self.balanced()?;
                self.has_groups |= self.dialect == Dialect::Bash;
                if self.dialect == Dialect::Zsh && text.iter().any(|byte| b";&\n".contains(byte)) {
                    return self.wrong("an operator within the parentheses of a pattern");
                }
                push_plain(&mut parts, &text);
                continue;
            }
            if matches!(byte, b'<' | b'>') && self.rest().get(1) == Some(&b'(') && self.dialect != Dialect::Posix {
                self.skip(2);
                let list = self.list_until(b")")?;
                parts.push(Part::Process(std::sync::Arc::new(list)));
                continue;
            }
            if self.dialect == Dialect::Zsh && byte == b'=' && self.at == start && self.starts(b"=(") {
                self.skip(2);
                let list = self.list_until(b")")?;
                parts.push(Part::Process(std::sync::Arc::new(list)));
                continue;
            }
            if ends(byte) {
                break;
            }
            self.part(&mut parts, ends)?;
        }
        self.depth -= 1;
        Ok(Word(parts))
    }

    /// Whether a parenthesis goes on with a pattern: `@(a|b)`, and in zsh any behind a word but `name()`.
    fn opens_pattern(&self, parts: &[Part]) -> bool {
        let Some(Part::Plain(before)) = parts.last() else {
            return self.dialect == Dialect::Zsh && !self.starts(b"()") && !parts.is_empty();
        };
        match self.dialect {
            Dialect::Bash => {
                before.ends_with(b"@") || before.ends_with(b"+") || before.ends_with(b"!") || {
                    (before.ends_with(b"?") || before.ends_with(b"*")) && !self.starts(b"()")
                }
            }
            Dialect::Zsh => !self.starts(b"()") && !before.ends_with(b"="),
            Dialect::Posix => false,
        }
    }

    /// A parenthesis up to the one that closes it, with both.
    pub(super) fn balanced(&mut self) -> Parsed<Vec<u8>> {
        let (mut depth, mut length) = (0, 0);
        for &byte in self.rest() {
            length += 1;
            match byte {
                b'(' => depth += 1,
                b')' => depth -= 1,
                _ => {}
            }
            if depth == 0 {
                let text = self.rest()[..length].to_vec();
                self.skip(length);
                return Ok(text);
            }
        }
        self.wrong("a parenthesis is not closed")
    }

    pub(super) fn part(&mut self, parts: &mut Vec<Part>, ends: &dyn Fn(u8) -> bool) -> Parsed<()> {
        let Some(byte) = self.peek() else { return Ok(()) };
        match byte {
            b'\'' if self.in_double => {
                push_quoted(parts, b"'");
                self.skip(1);
            }
            b'\\' if self.in_double && self.rest().get(1).is_some_and(|next| !b"$`\"\\}\n".contains(next)) => {
                push_quoted(parts, b"\\");
                self.skip(1);
            }
            b'\\' => {
                match self.rest().get(1) {
                    Some(b'\n') => {}
                    Some(&next) => parts.push(Part::Quoted(vec![next])),
                    None => push_plain(parts, b"\\"),
                }
                self.skip(2);
            }
            b'\'' => parts.push(Part::Quoted(self.single()?)),
            b'"' => {
                self.skip(1);
                let inner = self.double()?;
                parts.push(Part::Double(inner));
            }
            b'$' if self.starts(b"$'") && self.dialect != Dialect::Posix => {
                self.skip(1);
                parts.push(Part::Quoted(self.ansi()?));
            }
            b'$' if self.starts(b"$\"") && self.dialect == Dialect::Bash => {
                self.skip(2);
                let inner = self.double()?;
                parts.push(Part::Double(inner));
            }
            b'$' | b'`' => self.dollar(parts)?,
            _ => {
                let plain = |&b: &u8| !ends(b) && !matches!(b, b'\\' | b'\'' | b'"' | b'$' | b'`' | b'<' | b'>' | b'(');
                let length = self.rest().iter().take_while(|b| plain(b)).count().max(1);
                push_plain(parts, &self.rest()[..length]);
                self.skip(length);
            }
        }
        Ok(())
    }

    pub(super) fn single(&mut self) -> Parsed<Vec<u8>> {
        self.skip(1);
        match memchr::memchr(b'\'', self.rest()) {
            Some(length) => {
                let text = self.rest()[..length].to_vec();
                self.skip(length + 1);
                Ok(text)
            }
            None => self.wrong("a quote is not closed"),
        }
    }

    /// The rest of a text in double quotes.
    pub(super) fn double(&mut self) -> Parsed<Vec<Part>> {
        let mut parts = Vec::new();
        loop {
            match self.peek() {
                None => return self.wrong("a double quote is not closed"),
                Some(b'"') => {
                    self.skip(1);
                    return Ok(parts);
                }
                Some(_) => self.inside_double(&mut parts, b'"')?,
            }
        }
    }

    /// The content of a here-document.
    pub(super) fn document(mut self) -> Parsed<Word> {
        let mut parts = Vec::new();
        while self.peek().is_some() {
            self.inside_double(&mut parts, 0)?;
        }
        Ok(Word(vec![Part::Double(parts)]))
    }

    fn inside_double(&mut self, parts: &mut Vec<Part>, quote: u8) -> Parsed<()> {
        match self.peek() {
            Some(b'\\') => {
                match self.rest().get(1) {
                    Some(b'\n') => {}
                    Some(&next) if matches!(next, b'$' | b'`' | b'\\') || (next == quote && quote != 0) => {
                        push_quoted(parts, &[next]);
                    }
                    Some(&next) => push_quoted(parts, &[b'\\', next]),
                    None => push_quoted(parts, b"\\"),
                }
                self.skip(2);
            }
            Some(b'$' | b'`') => {
                let outer = std::mem::replace(&mut self.in_double, true);
                self.dollar(parts)?;
                self.in_double = outer;
            }
            _ => {
                let plain = |&b: &u8| !matches!(b, b'\\' | b'$' | b'`') && (b != quote || quote == 0);
                let length = self.rest().iter().take_while(|b| plain(b)).count().max(1);
                push_quoted(parts, &self.rest()[..length]);
                self.skip(length);
            }
        }
        Ok(())
    }

    pub(super) fn ansi(&mut self) -> Parsed<Vec<u8>> {
        self.skip(1);
        let mut text = Vec::new();
        loop {
            let Some(byte) = self.peek() else { return self.wrong("a quote is not closed") };
            self.skip(1);
            match byte {
                b'\'' => return Ok(text),
                b'\\' => {
                    let Some(next) = self.peek() else { return self.wrong("a quote is not closed") };
                    self.skip(1);
                    let digits = |parser: &Self, most: usize, base: u32| {
                        let is_digit = |b: &&u8| char::from(**b).is_digit(base);
                        parser.rest().iter().take(most).take_while(is_digit).count()
                    };
                    match next {
                        b'n' => text.push(b'\n'),
                        b't' => text.push(b'\t'),
                        b'r' => text.push(b'\r'),
                        b'a' => text.push(7),
                        b'b' => text.push(8),
                        b'e' | b'E' => text.push(27),
                        b'f' => text.push(12),
                        b'v' => text.push(11),
                        b'x' | b'u' | b'U' | b'0'..=b'7' => {
                            let (most, base) = match next {
                                b'x' => (2, 16),
                                b'u' => (4, 16),
                                b'U' => (8, 16),
                                _ => {
                                    self.at -= 1;
                                    (3, 8)
                                }
                            };
                            let length = digits(self, most, base);
                            let digits = String::from_utf8_lossy(&self.rest()[..length]).into_owned();
                            self.skip(length);
                            let number = u32::from_str_radix(&digits, base).unwrap_or(0);
                            match u8::try_from(number) {
                                Ok(byte) if next != b'u' && next != b'U' => text.push(byte),
                                _ => text.extend(char::from_u32(number).unwrap_or('?').to_string().bytes()),
                            }
                        }
                        other => {
                            if !matches!(other, b'\\' | b'\'' | b'"' | b'?') {
                                text.push(b'\\');
                            }
                            text.push(other);
                        }
                    }
                }
                other => text.push(other),
            }
        }
    }
}

/// The length of the name of a parameter at the start.
pub(super) fn name_at(bytes: &[u8]) -> usize {
    match bytes.first() {
        Some(&b) if b == b'_' || b.is_ascii_alphabetic() => {
            bytes.iter().take_while(|&&b| b == b'_' || b.is_ascii_alphanumeric()).count()
        }
        Some(b) if b.is_ascii_digit() => 1,
        Some(b'@' | b'*' | b'#' | b'?' | b'-' | b'$' | b'!') => 1,
        _ => 0,
    }
}

/// The text up to `))`, and its length with them.
pub(super) fn arithmetic(bytes: &[u8]) -> Option<(&[u8], usize)> {
    let mut depth = 0;
    for (at, &byte) in bytes.iter().enumerate() {
        match byte {
            b'(' => depth += 1,
            b')' if depth == 0 => return (bytes.get(at + 1) == Some(&b')')).then(|| (&bytes[..at], at + 2)),
            b')' => depth -= 1,
            _ => {}
        }
    }
    None
}

/// The place of the bracket that closes the one at the start; none where a line ends before it.
pub(crate) fn closing_bracket(bytes: &[u8]) -> Option<usize> {
    let mut depth = 0;
    for (at, &byte) in bytes.iter().enumerate() {
        match byte {
            b'[' => depth += 1,
            b']' => depth -= 1,
            b'\n' => return None,
            _ => {}
        }
        if depth == 0 {
            return Some(at);
        }
    }
    None
}

pub(super) fn push_plain(parts: &mut Vec<Part>, text: &[u8]) {
    match parts.last_mut() {
        Some(Part::Plain(before)) => before.extend_from_slice(text),
        _ => parts.push(Part::Plain(text.to_vec())),
    }
}

pub(super) fn push_quoted(parts: &mut Vec<Part>, text: &[u8]) {
    match parts.last_mut() {
        Some(Part::Quoted(before)) => before.extend_from_slice(text),
        _ => parts.push(Part::Quoted(text.to_vec())),
    }
}
