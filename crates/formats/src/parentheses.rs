//! Data as Scheme writes it (R7RS, section 7.1.2 "External representations"), as far as records have it: lists, texts, and
//! words, which are everything else.
//!
//! Comments from `;` to the end of the line are left out. A quote or another mark before a datum is a word of its own.

use crate::bytes::quoted;

/// A datum.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// Data in parentheses.
    List(Vec<Value>),
    /// A text in quotes.
    Text(Vec<u8>),
    /// A name, a number, a truth value.
    Word(Vec<u8>),
}

/// Why bytes are none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ParenthesesError {
    /// They end within a list or a text, or there is nothing.
    #[error("truncated")]
    Truncated,
    /// A parenthesis closes what nothing opened.
    #[error("a parenthesis too many at byte {0}")]
    Unopened(usize),
    /// Lists in lists in lists.
    #[error("nested too deeply")]
    Deep,
}

/// The deepest list that is read.
const MAX_DEPTH: usize = 128;

impl Value {
    /// What is in the list; nothing where this is none.
    #[must_use]
    pub fn items(&self) -> &[Value] {
        if let Value::List(items) = self { items } else { &[] }
    }

    /// The text, where this is one.
    #[must_use]
    pub fn text(&self) -> Option<&[u8]> {
        if let Value::Text(text) = self { Some(text) } else { None }
    }

    /// Whether this is a certain word.
    #[must_use]
    pub fn is_word(&self, wanted: &[u8]) -> bool {
        matches!(self, Value::Word(word) if word == wanted)
    }
}

/// Reads the first datum.
///
/// # Errors
/// Where the bytes end too soon, or are nested too deeply.
pub fn parse(content: &[u8]) -> Result<Value, ParenthesesError> {
    let mut open: Vec<Vec<Value>> = Vec::new();
    let mut at = 0;
    loop {
        let byte = *content.get(at).ok_or(ParenthesesError::Truncated)?;
        at += 1;
        let done = match byte {
            b';' => {
                at += content[at..].iter().position(|b| *b == b'\n').unwrap_or(content.len() - at);
                continue;
            }
            byte if byte.is_ascii_whitespace() => continue,
            b'(' | b'[' => {
                if open.len() >= MAX_DEPTH {
                    return Err(ParenthesesError::Deep);
                }
                open.push(Vec::new());
                continue;
            }
            b')' | b']' => Value::List(open.pop().ok_or(ParenthesesError::Unopened(at - 1))?),
            b'"' => Value::Text(quoted(content, &mut at).ok_or(ParenthesesError::Truncated)?),
            _ => {
                let is_end = |b: &u8| b.is_ascii_whitespace() || b"()[]\";".contains(b);
                let length = content[at..].iter().position(is_end).unwrap_or(content.len() - at);
                let word = content[at - 1..at + length].to_vec();
                at += length;
                Value::Word(word)
            }
        };
        match open.last_mut() {
            Some(list) => list.push(done),
            None => return Ok(done),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_texts_and_words_are_told_apart() {
        let read = parse(b";; by hand (\n(manifest (version 4) (\"a \\\"b\\\" \\n\" #f ()) 'x) rest").unwrap();
        let word = |text: &str| Value::Word(text.as_bytes().to_vec());
        let version = Value::List(vec![word("version"), word("4")]);
        let inner = Value::List(vec![Value::Text(b"a \"b\" \n".to_vec()), word("#f"), Value::List(Vec::new())]);
        assert_eq!(read, Value::List(vec![word("manifest"), version, inner, word("'x")]));
        for (text, expected) in [
            (&b""[..], ParenthesesError::Truncated),
            (b"(a \"b", ParenthesesError::Truncated),
            (b"; (a)", ParenthesesError::Truncated),
            (b" )", ParenthesesError::Unopened(1)),
            (&b"(".repeat(200), ParenthesesError::Deep),
        ] {
            assert_eq!(parse(text), Err(expected));
        }
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(content: Vec<u8>) {
            let _ = parse(&content);
        }
    }
}
