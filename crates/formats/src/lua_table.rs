//! Tables that a program wrote as assignments in Lua (*Lua Reference Manual*, "Table Constructors"): texts, numbers and
//! tables alone. Nothing is evaluated.

/// The deepest level that is read.
const MAX_DEPTH: usize = 32;

/// A value in a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// Fields in the order of the file; a value in a row has no key.
    Table(Vec<(Option<String>, Value)>),
    /// A text, a number or a word, as it is written; of a text without its quotes.
    Text(String),
}

impl Value {
    /// The value of a key.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<&Value> {
        self.fields().iter().find(|(name, _)| name.as_deref() == Some(key)).map(|(_, value)| value)
    }

    /// The fields; none where this is no table.
    #[must_use]
    pub fn fields(&self) -> &[(Option<String>, Value)] {
        if let Value::Table(fields) = self { fields } else { &[] }
    }

    /// The text, where this is one.
    #[must_use]
    pub fn text(&self) -> Option<&str> {
        if let Value::Text(text) = self { Some(text) } else { None }
    }
}

/// Reads assignments, as a table of what is assigned.
///
/// ```
/// use whodunit_formats::lua_table::parse;
/// let read = parse(r#"name = "gauge" bin = { ["tide"] = "1", "lamp" }"#).unwrap();
/// assert_eq!(read.get("name").unwrap().text(), Some("gauge"));
/// assert_eq!(read.get("bin").unwrap().get("tide").unwrap().text(), Some("1"));
/// ```
///
/// # Errors
/// In words with the line, where it is no table of this kind, breaks off, or is nested too deeply.
pub fn parse(text: &str) -> Result<Value, String> {
    let mut reader = Reader { text: text.as_bytes(), at: 0 };
    let fields = reader.fields(0, None).map_err(|what| {
        let before = &reader.text[..reader.at.min(reader.text.len())];
        format!("line {}: {what}", memchr::memchr_iter(b'\n', before).count() + 1)
    })?;
    Ok(Value::Table(fields))
}

struct Reader<'t> {
    text: &'t [u8],
    at: usize,
}

impl Reader<'_> {
    /// Goes behind blanks, separators and comments, and returns what comes next.
    fn next(&mut self) -> Option<u8> {
        loop {
            match self.text.get(self.at)? {
                b if b.is_ascii_whitespace() || b",;".contains(b) => self.at += 1,
                b'-' if self.text.get(self.at + 1) == Some(&b'-') => {
                    let rest = &self.text[self.at..];
                    self.at += memchr::memchr(b'\n', rest).unwrap_or(rest.len());
                }
                b => return Some(*b),
            }
        }
    }

    /// The fields up to the end of a table, or of the text.
    fn fields(&mut self, depth: usize, end: Option<u8>) -> Result<Vec<(Option<String>, Value)>, &'static str> {
        if depth > MAX_DEPTH {
            return Err("nested too deeply");
        }
        let mut fields = Vec::new();
        loop {
            match self.next() {
                None if end.is_none() => return Ok(fields),
                None => return Err("truncated"),
                Some(b'}') if end.is_some() => {
                    self.at += 1;
                    return Ok(fields);
                }
                Some(b'[') => {
                    self.at += 1;
                    let key = self.word()?;
                    if self.next() != Some(b']') {
                        return Err("a key that is no text");
                    }
                    self.at += 1;
                    if self.next() != Some(b'=') {
                        return Err("a key without a value");
                    }
                    self.at += 1;
                    fields.push((Some(key), self.value(depth)?));
                }
                Some(first) => {
                    let is_name = first.is_ascii_alphabetic() || first == b'_';
                    let value = self.value(depth)?;
                    match value {
                        Value::Text(key) if is_name && self.next() == Some(b'=') => {
                            self.at += 1;
                            fields.push((Some(key), self.value(depth)?));
                        }
                        value => fields.push((None, value)),
                    }
                }
            }
        }
    }

    fn value(&mut self, depth: usize) -> Result<Value, &'static str> {
        match self.next() {
            Some(b'{') => {
                self.at += 1;
                Ok(Value::Table(self.fields(depth + 1, Some(b'}'))?))
            }
            Some(_) => Ok(Value::Text(self.word()?)),
            None => Err("truncated"),
        }
    }

    /// A text in quotes, or a word.
    fn word(&mut self) -> Result<String, &'static str> {
        let quote = self.next().ok_or("truncated")?;
        let mut word = Vec::new();
        if quote != b'"' && quote != b'\'' {
            let rest = &self.text[self.at..];
            let is_part = |b: &u8| b.is_ascii_alphanumeric() || b"_.+-".contains(b);
            let length = rest.iter().take_while(|b| is_part(b)).count();
            self.at += length;
            return match length {
                0 => Err("neither a text nor a table"),
                _ => Ok(String::from_utf8_lossy(&rest[..length]).into_owned()),
            };
        }
        self.at += 1;
        loop {
            let b = *self.text.get(self.at).ok_or("truncated")?;
            self.at += 1;
            match b {
                b'\\' => {
                    let escaped = *self.text.get(self.at).ok_or("truncated")?;
                    self.at += 1;
                    word.push(if escaped == b'n' { b'\n' } else { escaped });
                }
                b if b == quote => return Ok(String::from_utf8_lossy(&word).into_owned()),
                b => word.push(b),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_damaged_is_said() {
        let deep = format!("a = {}", "{".repeat(99));
        for (text, says) in [
            ("a = {\n", "line 2: truncated"),
            ("a = \"x", "line 1: truncated"),
            ("a = {\n[\"b\"] }", "line 2: a key without a value"),
            ("a = function() end", "line 1: neither a text nor a table"),
            (deep.as_str(), "line 1: nested too deeply"),
        ] {
            assert_eq!(parse(text), Err(says.to_owned()), "{text}");
        }
        let read = parse("-- made\na = { 5, 1, string = '5\\'1' }").unwrap();
        let fields = read.get("a").unwrap().fields();
        assert_eq!((fields[0].1.text(), fields[2].1.text()), (Some("5"), Some("5'1")));
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_read_without_panic(text: String) {
            let _ = parse(&text);
        }
    }
}
