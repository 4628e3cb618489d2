//! Words: quotes, variables, braces, and the output of commands.

use super::{Parsed, Parser, Part, Word};
use std::sync::Arc;

impl Parser<'_> {
    pub(super) fn words(&mut self) -> Parsed<Vec<Word>> {
        let mut words = Vec::new();
        loop {
            self.redirections()?;
            match self.word()? {
                Some(word) => words.push(word),
                None => return Ok(words),
            }
        }
    }

    pub(super) fn word(&mut self) -> Parsed<Option<Word>> {
        let start = self.at;
        let word = self.word_until(b" \t\r\n;&|)<>")?;
        Ok((self.at > start).then_some(word))
    }

    pub(super) fn word_until(&mut self, ends: &[u8]) -> Parsed<Word> {
        self.deeper()?;
        let mut parts: Vec<Part> = Vec::new();
        while let Some(byte) = self.peek().filter(|b| !ends.contains(b)) {
            match byte {
                b'\\' => {
                    if let Some((text, length)) = escape(&self.rest()[1..]) {
                        parts.push(Part::Quoted(text));
                        self.skip(length + 1);
                        continue;
                    }
                    match self.rest().get(1) {
                        Some(b'\n') => {}
                        Some(b'n') => parts.push(Part::Quoted(vec![b'\n'])),
                        Some(b't') => parts.push(Part::Quoted(vec![b'\t'])),
                        Some(b'e') => parts.push(Part::Quoted(vec![27])),
                        Some(&next) => parts.push(Part::Quoted(vec![next])),
                        None => {}
                    }
                    self.skip(2);
                }
                b'\'' => {
                    let quoted = self.single()?;
                    parts.push(quoted);
                }
                b'"' => {
                    self.skip(1);
                    self.double(&mut parts)?;
                }
                b'$' if self.rest().starts_with(b"$(") => {
                    self.skip(1);
                    let output = self.output(false)?;
                    parts.push(output);
                }
                b'$' => self.variable(&mut parts, false)?,
                b'(' => {
                    let output = self.output(false)?;
                    parts.push(output);
                }
                b'{' => self.braces(&mut parts)?,
                _ => {
                    let is_plain = |b: &&u8| !ends.contains(b) && !b"\\'\"$({".contains(b);
                    let length = self.rest().iter().take_while(is_plain).count().max(1);
                    parts.push(Part::Plain(self.rest()[..length].to_vec()));
                    self.skip(length);
                }
            }
        }
        self.depth -= 1;
        Ok(Word(parts))
    }

    pub(super) fn single(&mut self) -> Parsed<Part> {
        self.skip(1);
        let mut text = Vec::new();
        loop {
            match (self.peek(), self.rest().get(1)) {
                (None, _) => return self.wrong("a quote is not closed"),
                (Some(b'\''), _) => break self.skip(1),
                (Some(b'\\'), Some(&next @ (b'\'' | b'\\'))) => {
                    text.push(next);
                    self.skip(2);
                }
                (Some(byte), _) => {
                    text.push(byte);
                    self.skip(1);
                }
            }
        }
        Ok(Part::Quoted(text))
    }

    pub(super) fn braces(&mut self, parts: &mut Vec<Part>) -> Parsed<()> {
        self.skip(1);
        let mut words = Vec::new();
        loop {
            words.push(without_blanks(self.word_until(b",}\n")?));
            match self.peek() {
                Some(b',') => self.skip(1),
                Some(b'}') => break self.skip(1),
                _ => return self.wrong("a brace is not closed"),
            }
        }
        let varies = |word: &Word| word.0.iter().any(|part| matches!(part, Part::Variable(..) | Part::Output(..)));
        match words.len() {
            1 if !varies(&words[0]) => {
                // Without a comma the braces are text.
                parts.push(Part::Quoted(b"{".to_vec()));
                parts.extend(words.remove(0).0);
                parts.push(Part::Quoted(b"}".to_vec()));
            }
            _ => parts.push(Part::Braces(words)),
        }
        Ok(())
    }

    pub(super) fn double(&mut self, parts: &mut Vec<Part>) -> Parsed<()> {
        let mut text = Vec::new();
        loop {
            match (self.peek(), self.rest().get(1)) {
                (None, _) => return self.wrong("a double quote is not closed"),
                (Some(b'"'), _) => break,
                (Some(b'\\'), Some(b'\n')) => self.skip(2),
                (Some(b'\\'), Some(&next @ (b'"' | b'\\' | b'$'))) => {
                    text.push(next);
                    self.skip(2);
                }
                (Some(b'$'), Some(&next))
                    if next == b'(' || next == b'_' || next.is_ascii_alphanumeric() || next == b'$' =>
                {
                    parts.push(Part::Quoted(std::mem::take(&mut text)));
                    if next == b'(' {
                        self.skip(1);
                        let output = self.output(true)?;
                        parts.push(output);
                    } else {
                        self.variable(parts, true)?;
                    }
                }
                (Some(byte), _) => {
                    text.push(byte);
                    self.skip(1);
                }
            }
        }
        self.skip(1);
        parts.push(Part::Quoted(text));
        Ok(())
    }

    pub(super) fn variable(&mut self, parts: &mut Vec<Part>, quoted: bool) -> Parsed<()> {
        let dollars = self.rest().iter().take_while(|&&b| b == b'$').count();
        let name = self.rest()[dollars..].iter().take_while(|&&b| b == b'_' || b.is_ascii_alphanumeric()).count();
        if name == 0 {
            return self.wrong("a dollar without a name");
        }
        let text = self.rest()[dollars..dollars + name].to_vec();
        self.skip(dollars + name);
        let index = self.index()?;
        let more = u32::try_from(dollars - 1).unwrap_or(u32::MAX).min(8);
        parts.push(Part::Variable(text, quoted, index, more));
        Ok(())
    }

    pub(super) fn index(&mut self) -> Parsed<Option<Box<Word>>> {
        if self.peek() != Some(b'[') {
            return Ok(None);
        }
        self.skip(1);
        let word = self.word_until(b"]\n")?;
        if self.peek() != Some(b']') {
            return self.wrong("a bracket is not closed");
        }
        self.skip(1);
        Ok(Some(Box::new(word)))
    }

    pub(super) fn output(&mut self, quoted: bool) -> Parsed<Part> {
        self.skip(1);
        let block = self.block()?;
        if self.peek() != Some(b')') {
            return self.wrong("a parenthesis is not closed");
        }
        self.skip(1);
        let index = if self.peek() == Some(b'[') { self.index()? } else { None };
        Ok(Part::Output(Arc::new(block), quoted, index))
    }
}

/// What an escape with a number or a control letter stands for, behind its backslash, and its length.
fn escape(rest: &[u8]) -> Option<(Vec<u8>, usize)> {
    let letter = *rest.first()?;
    let (from, most, base) = match letter {
        b'x' | b'X' => (1, 2, 16),
        b'u' => (1, 4, 16),
        b'U' => (1, 8, 16),
        b'0'..=b'7' => (0, 3, 8),
        b'a' => return Some((vec![7], 1)),
        b'b' => return Some((vec![8], 1)),
        b'f' => return Some((vec![12], 1)),
        b'r' => return Some((vec![13], 1)),
        b'v' => return Some((vec![11], 1)),
        b'c' => return Some((vec![rest.get(1)? & 0x1f], 2)),
        _ => return None,
    };
    let digits = rest[from..].iter().take(most).take_while(|digit| char::from(**digit).is_digit(base)).count();
    let number = u32::from_str_radix(std::str::from_utf8(&rest[from..from + digits]).ok()?, base).ok()?;
    let text = match u8::try_from(number) {
        Ok(byte) if byte < 128 || matches!(letter, b'X') => vec![byte],
        _ => char::from_u32(number)?.to_string().into_bytes(),
    };
    Some((text, from + digits))
}

/// A word in braces without the blanks around it.
fn without_blanks(mut word: Word) -> Word {
    if let Some(Part::Plain(text)) = word.0.first_mut() {
        *text = text.trim_ascii_start().to_vec();
    }
    if let Some(Part::Plain(text)) = word.0.last_mut() {
        *text = text.trim_ascii_end().to_vec();
    }
    word.0.retain(|part| !matches!(part, Part::Plain(text) if text.is_empty()));
    word
}
