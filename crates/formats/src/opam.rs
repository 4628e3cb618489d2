//! Files of opam (opam manual, "Common file format"), as far as they are lists of texts: fields with texts in quotes, in
//! brackets or not, each with options in braces behind it. Formulas are not worked out.

/// A text in the value of a field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// The text, without its quotes.
    pub text: String,
    /// The line on which it begins, from 1.
    pub line: u32,
    /// The texts in the braces behind it.
    pub options: Vec<String>,
}

/// Fields in the order of the file, each with the texts in its value. Sections are left out.
pub type Fields = Vec<(String, Vec<Item>)>;

/// Reads the fields of a file.
///
/// ```
/// let read = whodunit_formats::opam::fields("roots: [\"gauge.1.2\"]\nadded: \"bin/gauge\" {\"F:S10\"}\n").unwrap();
/// assert_eq!((read[1].0.as_str(), read[1].1[0].text.as_str()), ("added", "bin/gauge"));
/// ```
///
/// # Errors
/// In words with the line, where a text, a bracket or a brace is not closed, or a value has no field.
pub fn fields(text: &str) -> Result<Fields, String> {
    let mut reader = Reader { text: text.as_bytes(), at: 0, line: 1 };
    reader.file().map_err(|what| format!("line {}: {what}", reader.line))
}

struct Reader<'t> {
    text: &'t [u8],
    at: usize,
    line: u32,
}

impl Reader<'_> {
    fn bump(&mut self) -> Option<u8> {
        let b = *self.text.get(self.at)?;
        self.at += 1;
        self.line += u32::from(b == b'\n');
        Some(b)
    }

    fn starts_with(&self, text: &[u8]) -> bool {
        self.text[self.at..].starts_with(text)
    }

    /// Goes behind blanks and comments, and returns what comes next.
    fn next(&mut self) -> Option<u8> {
        loop {
            match *self.text.get(self.at)? {
                b if b.is_ascii_whitespace() => drop(self.bump()),
                b'#' => while self.bump().is_some_and(|b| b != b'\n') {},
                b'(' if self.starts_with(b"(*") => {
                    while !self.starts_with(b"*)") {
                        self.bump()?;
                    }
                    self.at += 2;
                }
                b => return Some(b),
            }
        }
    }

    fn file(&mut self) -> Result<Fields, &'static str> {
        let mut fields: Fields = Vec::new();
        // Open brackets and parentheses of the value, and open braces.
        let (mut open, mut braces) = (0_u32, 0_u32);
        let mut is_in_section = false;
        while let Some(b) = self.next() {
            match b {
                b'"' => {
                    let line = self.line;
                    let text = self.quoted()?;
                    let Some((_, items)) = fields.last_mut().filter(|_| !is_in_section) else { continue };
                    match (braces, items.last_mut()) {
                        (0, _) => items.push(Item { text, line, options: Vec::new() }),
                        (_, Some(item)) => item.options.push(text),
                        (_, None) => {}
                    }
                }
                b'[' | b'(' => {
                    open += 1;
                    self.at += 1;
                }
                b']' | b')' => {
                    open = open.checked_sub(1).ok_or("a bracket that was not opened")?;
                    self.at += 1;
                }
                b'{' => {
                    braces += 1;
                    self.at += 1;
                }
                b'}' => {
                    braces = braces.checked_sub(1).ok_or("a brace that was not opened")?;
                    is_in_section &= braces > 0;
                    self.at += 1;
                }
                b if b.is_ascii_alphanumeric() || b == b'_' => {
                    let start = self.at;
                    while self.text.get(self.at).is_some_and(|b| b.is_ascii_alphanumeric() || b"_-+".contains(b)) {
                        self.at += 1;
                    }
                    let word = String::from_utf8_lossy(&self.text[start..self.at]).into_owned();
                    if open > 0 || braces > 0 {
                        continue;
                    }
                    match self.next() {
                        Some(b':') => {
                            self.at += 1;
                            fields.push((word, Vec::new()));
                        }
                        // The name of a section stands before its title or its brace.
                        Some(b'"' | b'{') => is_in_section = true,
                        _ => {}
                    }
                }
                // Signs of formulas.
                _ => drop(self.bump()),
            }
        }
        if open + braces == 0 { Ok(fields) } else { Err("truncated") }
    }

    fn quoted(&mut self) -> Result<String, &'static str> {
        const LONG: &[u8] = b"\"\"\"";
        let end: &[u8] = if self.starts_with(LONG) { LONG } else { b"\"" };
        self.at += end.len();
        let mut text = Vec::new();
        while !self.starts_with(end) {
            match self.bump().ok_or("truncated")? {
                b'\\' => match self.bump().ok_or("truncated")? {
                    b'n' => text.push(b'\n'),
                    b't' => text.push(b'\t'),
                    b'\n' => {}
                    escaped => text.push(escaped),
                },
                b => text.push(b),
            }
        }
        self.at += end.len();
        Ok(String::from_utf8_lossy(&text).into_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_and_their_options_are_read() {
        let text = "opam-version: \"2.0\"\ndepends: [ # needed\n  \"rope\" {>= \"0.1\" & build}\n  (\"a\" | \"b\") (* one *)\n]\n\
            url { src: \"x\" checksum: [\"md5=1\"] }\ndescription: \"\"\"\nsays \"this\" twice\"\"\"\nflags: light-uninstall\nroots: [\"gauge.1.2\"]\n";
        let read = fields(text).unwrap();
        let names: Vec<&str> = read.iter().map(|(name, _)| name.as_str()).collect();
        assert_eq!(names, ["opam-version", "depends", "description", "flags", "roots"]);
        let needs: Vec<(&str, u32, usize)> =
            read[1].1.iter().map(|item| (item.text.as_str(), item.line, item.options.len())).collect();
        assert_eq!(needs, [("rope", 3, 1), ("a", 4, 0), ("b", 4, 0)]);
        assert_eq!(read[4].1[0].text, "gauge.1.2");
    }

    #[test]
    fn what_is_damaged_is_said() {
        for (text, says) in [
            ("a: [\"b\"\n", "line 2: truncated"),
            ("a: \"b", "line 1: truncated"),
            ("a: ]\n", "line 1: a bracket that was not opened"),
            ("a: }\n", "line 1: a brace that was not opened"),
        ] {
            assert_eq!(fields(text), Err(says.to_owned()), "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_read_without_panic(text: String) {
            let _ = fields(&text);
        }
    }
}
