//! `[[ … ]]`.

use super::word::push_plain;
use super::{Condition, Dialect, Parsed, Parser, Part, Word, literal};

/// Operators that take one word.
const UNARY: &[u8] = b"abcdefghknoprstuvwxzGLNORS";

/// Conditions side by side: each is one level of the tree.
const MAX_CONDITIONS: usize = 60;

impl Parser<'_> {
    pub(super) fn condition(&mut self) -> Parsed<Condition> {
        let mut left = self.condition_and()?;
        for _ in 0..MAX_CONDITIONS {
            self.lines()?;
            if !self.take(b"||") {
                return Ok(left);
            }
            left = Condition::Or(Box::new(left), Box::new(self.condition_and()?));
        }
        self.wrong("more conditions than are looked at")
    }

    pub(super) fn condition_and(&mut self) -> Parsed<Condition> {
        let mut left = self.condition_one()?;
        for _ in 0..MAX_CONDITIONS {
            self.lines()?;
            if !self.take(b"&&") {
                return Ok(left);
            }
            left = Condition::And(Box::new(left), Box::new(self.condition_one()?));
        }
        self.wrong("more conditions than are looked at")
    }

    pub(super) fn condition_one(&mut self) -> Parsed<Condition> {
        self.lines()?;
        self.deeper()?;
        let found = if self.keyword(b"!") {
            Condition::Not(Box::new(self.condition_one()?))
        } else if self.take(b"(") {
            let inner = self.condition()?;
            self.lines()?;
            if !self.take(b")") {
                return self.wrong("a parenthesis is not closed");
            }
            inner
        } else {
            self.comparison()?
        };
        self.depth -= 1;
        Ok(found)
    }

    pub(super) fn comparison(&mut self) -> Parsed<Condition> {
        let Some(first) = self.word()? else { return self.wrong("[[ with nothing in it") };
        let sign = literal(&first).filter(|text| text.len() == 2 && text[0] == b'-' && text[1].is_ascii_alphabetic());
        self.lines()?;
        let is_over = |parser: &Self| {
            parser.has_keyword(b"]]") || parser.starts(b"&&") || parser.starts(b"||") || parser.peek() == Some(b')')
        };
        if is_over(self) {
            let is_operator = match (&first.0[..], self.dialect) {
                ([Part::Plain(text)], Dialect::Zsh) => text.len() > 1 && text[0] == b'-',
                ([Part::Plain(_)], _) => sign.is_some_and(|sign| UNARY.contains(&sign[1])),
                _ => false,
            };
            return match is_operator {
                true => self.wrong("an operator of [[ without its word"),
                false => Ok(Condition::Word(first)),
            };
        }
        if let Some(sign) = sign
            && let Some(word) = self.word()?
        {
            return Ok(Condition::Unary(sign, word));
        }
        let operator = if self.take(b"<") {
            b"<".to_vec()
        } else if self.take(b">") {
            b">".to_vec()
        } else {
            self.word()?.as_ref().and_then(literal).unwrap_or_default()
        };
        self.lines()?;
        let pattern = match &operator[..] {
            b"=~" => self.word_until(&|b| matches!(b, b' ' | b'\t' | b'\n'))?,
            b"==" | b"=" | b"!=" => {
                // Parentheses belong to the pattern.
                let is_end = |b: u8| matches!(b, b' ' | b'\t' | b'\n' | b'&' | b')');
                let start = self.at;
                let mut word = Word::default();
                while self.peek().is_some_and(|b| !is_end(b) && !self.starts(b"||")) {
                    match self.peek() {
                        Some(b'(') => {
                            let depth = memchr::memchr(b')', self.rest());
                            let Some(length) = depth else { return self.wrong("a parenthesis is not closed") };
                            push_plain(&mut word.0, &self.rest()[..=length]);
                            self.skip(length + 1);
                        }
                        Some(b'|') => {
                            push_plain(&mut word.0, b"|");
                            self.skip(1);
                        }
                        _ => {
                            let more = self.word_until(&|b| is_end(b) || matches!(b, b'(' | b'|'))?;
                            word.0.extend(more.0);
                        }
                    }
                }
                if self.at == start {
                    return self.wrong("a comparison without a second word");
                }
                word
            }
            _ => match self.word()? {
                Some(word) => word,
                None => return self.wrong("a comparison without a second word"),
            },
        };
        Ok(Condition::Binary(first, operator, pattern))
    }
}
