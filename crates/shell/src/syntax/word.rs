//! Words and what stands in them.

use super::{Dialect, Parameter, Parsed, Parser, Part, Word, is_name};
use std::sync::Arc;

/// What ends a word that has no quotes around it.
fn ends_word(byte: u8) -> bool {
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
                push_plain(&mut parts, &text);
                continue;
            }
            if matches!(byte, b'<' | b'>') && self.rest().get(1) == Some(&b'(') && self.dialect != Dialect::Posix {
                self.skip(2);
                self.list_until(b")")?;
                parts.push(Part::Process);
                continue;
            }
            if self.dialect == Dialect::Zsh && byte == b'=' && self.at == start && self.starts(b"=(") {
                self.skip(2);
                self.list_until(b")")?;
                parts.push(Part::Process);
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
    fn balanced(&mut self) -> Parsed<Vec<u8>> {
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

    fn part(&mut self, parts: &mut Vec<Part>, ends: &dyn Fn(u8) -> bool) -> Parsed<()> {
        let Some(byte) = self.peek() else { return Ok(()) };
        match byte {
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
            b'$' if self.starts(b"$\"") && self.dialect != Dialect::Posix => {
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

    fn single(&mut self) -> Parsed<Vec<u8>> {
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
    fn double(&mut self) -> Parsed<Vec<Part>> {
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

    /// What a here-document holds.
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
            Some(b'$' | b'`') => self.dollar(parts)?,
            _ => {
                let plain = |&b: &u8| !matches!(b, b'\\' | b'$' | b'`') && (b != quote || quote == 0);
                let length = self.rest().iter().take_while(|b| plain(b)).count().max(1);
                push_quoted(parts, &self.rest()[..length]);
                self.skip(length);
            }
        }
        Ok(())
    }

    fn ansi(&mut self) -> Parsed<Vec<u8>> {
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

    /// What a dollar or a backquote begins.
    fn dollar(&mut self, parts: &mut Vec<Part>) -> Parsed<()> {
        if self.peek() == Some(b'`') {
            return self.backquoted(parts);
        }
        if self.starts(b"$((")
            && let Some((text, length)) = arithmetic(&self.rest()[3..])
        {
            parts.push(Part::Arithmetic(text.to_vec()));
            self.skip(3 + length);
            return Ok(());
        }
        if self.take(b"$(") {
            let list = self.list_until(b")")?;
            parts.push(Part::Output(Arc::new(list)));
            return Ok(());
        }
        if self.starts(b"$[")
            && self.dialect != Dialect::Posix
            && let Some(length) = memchr::memchr(b']', self.rest())
        {
            parts.push(Part::Arithmetic(self.rest()[2..length].to_vec()));
            self.skip(length + 1);
            return Ok(());
        }
        if self.take(b"${") {
            let parameter = self.parameter()?;
            parts.push(Part::Parameter(Box::new(parameter)));
            return Ok(());
        }
        let rest = &self.rest()[1..];
        let mut before = None;
        let (mut signs, mut flags) = (0, Vec::new());
        if self.dialect == Dialect::Zsh {
            // `$+name`, `$#name`, `$=name`, `$~name`, `$^name`.
            if let [sign @ (b'+' | b'#' | b'=' | b'~' | b'^'), next, ..] = rest
                && (*next == b'_' || next.is_ascii_alphabetic())
            {
                before = matches!(sign, b'+' | b'#').then_some(*sign);
                flags.extend((*sign == b'=').then_some(b'='));
                signs = 1;
            }
        }
        let name = name_at(&rest[signs..]);
        if name == 0 {
            push_quoted(parts, b"$");
            self.skip(1);
            return Ok(());
        }
        let name = rest[signs..signs + name].to_vec();
        self.skip(1 + signs + name.len());
        let mut parameter = Parameter { name, before, flags, ..Parameter::default() };
        if self.dialect == Dialect::Zsh
            && self.peek() == Some(b'[')
            && is_name(&parameter.name)
            && let Some(length) = memchr::memchr(b']', self.rest())
        {
            parameter.index = Some(self.rest()[1..length].to_vec());
            self.skip(length + 1);
        }
        // zsh takes `$name:h` for a modifier, without braces too.
        let modifiers = b"aAcehlpPqQrstuwWxgfF&";
        if let (Dialect::Zsh, [b':', letter, ..]) = (self.dialect, self.rest())
            && modifiers.contains(letter)
        {
            parameter.operator = b":".to_vec();
            parameter.argument = Word(vec![Part::Plain(vec![*letter])]);
            self.skip(2);
        }
        parts.push(Part::Parameter(Box::new(parameter)));
        Ok(())
    }

    fn backquoted(&mut self, parts: &mut Vec<Part>) -> Parsed<()> {
        let line = self.line;
        self.skip(1);
        let mut text = Vec::new();
        loop {
            match self.peek() {
                None => return self.wrong("a backquote is not closed"),
                Some(b'`') => break,
                Some(b'\\') => {
                    match self.rest().get(1) {
                        Some(&next @ (b'$' | b'`' | b'\\')) => text.push(next),
                        Some(&next) => text.extend([b'\\', next]),
                        None => return self.wrong("a backquote is not closed"),
                    }
                    self.skip(2);
                }
                Some(byte) => {
                    text.push(byte);
                    self.skip(1);
                }
            }
        }
        self.skip(1);
        let mut inner = Parser { depth: self.depth, ..Parser::at_line(&text, self.dialect, line) };
        let mut list = Vec::new();
        for commands in inner.by_ref() {
            list.extend(commands?);
        }
        parts.push(Part::Output(Arc::new(list)));
        Ok(())
    }

    /// What stands behind `${`, up to and with the brace that closes it.
    fn parameter(&mut self) -> Parsed<Parameter> {
        let mut parameter = Parameter::default();
        if self.dialect == Dialect::Zsh && self.peek() == Some(b'(') {
            let flags = self.balanced()?;
            parameter.flags = flags[1..flags.len() - 1].to_vec();
        }
        while self.dialect == Dialect::Zsh && matches!(self.peek(), Some(b'=' | b'~' | b'^')) {
            parameter.flags.extend(self.peek().filter(|sign| *sign == b'='));
            self.skip(1);
        }
        if let [sign @ (b'#' | b'!' | b'+'), next, ..] = self.rest() {
            let is_it = match sign {
                b'+' => self.dialect == Dialect::Zsh,
                b'!' => self.dialect == Dialect::Bash,
                _ => *next != b'}' && name_at(&self.rest()[1..]) > 0,
            };
            if is_it && (name_at(&self.rest()[1..]) > 0 || *next == b'{' || *next == b'$') {
                parameter.before = Some(*sign);
                self.skip(1);
            }
        }
        if self.dialect == Dialect::Zsh && self.starts(b"${") {
            // `${${name}…}`: the inner one is the value.
            self.skip(2);
            self.deeper()?;
            parameter.inner = Some(Box::new(self.parameter()?));
            self.depth -= 1;
        } else {
            let length = name_at(self.rest());
            parameter.name = self.rest()[..length].to_vec();
            self.skip(length);
        }
        if self.peek() == Some(b'[') && self.dialect != Dialect::Posix {
            let Some(length) = memchr::memchr(b']', self.rest()) else { return self.wrong("a bracket is not closed") };
            parameter.index = Some(self.rest()[1..length].to_vec());
            self.skip(length + 1);
        }
        let operators: [&[u8]; 20] = [
            b":-", b":=", b":?", b":+", b"-", b"=", b"?", b"+", b"##", b"#", b"%%", b"%", b"//", b"/#", b"/%", b"/",
            b"^^", b",,", b"^", b",",
        ];
        if let Some(operator) = operators.iter().find(|operator| self.starts(operator)) {
            parameter.operator = operator.to_vec();
            self.skip(operator.len());
        } else if matches!(self.peek(), Some(b':' | b'@')) {
            parameter.operator = vec![self.peek().unwrap_or_default()];
            self.skip(1);
        }
        let is_replacement = parameter.operator.starts_with(b"/");
        parameter.argument = self.word_until(&|b| b == b'}' || (is_replacement && b == b'/'))?;
        if is_replacement && self.take(b"/") {
            parameter.second = Some(self.word_until(&|b| b == b'}')?);
        }
        if self.take(b"}") { Ok(parameter) } else { self.wrong("a brace is not closed") }
    }
}

/// The length of the name of a parameter at the start.
fn name_at(bytes: &[u8]) -> usize {
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

pub(super) fn push_plain(parts: &mut Vec<Part>, text: &[u8]) {
    match parts.last_mut() {
        Some(Part::Plain(before)) => before.extend_from_slice(text),
        _ => parts.push(Part::Plain(text.to_vec())),
    }
}

fn push_quoted(parts: &mut Vec<Part>, text: &[u8]) {
    match parts.last_mut() {
        Some(Part::Quoted(before)) => before.extend_from_slice(text),
        _ => parts.push(Part::Quoted(text.to_vec())),
    }
}
