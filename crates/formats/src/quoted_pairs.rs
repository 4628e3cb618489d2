//! Nested pairs of quoted texts, as Steam writes them (Valve Developer documentation, "KeyValues"):
//! `"key" "value"`, or `"key"` and a group of pairs in braces.

/// Groups nest at most so deep.
const MAX_DEPTH: usize = 32;

/// A group of pairs, in order. Keys are compared without regard to case, as their reader does.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Pairs(Vec<(String, Value)>);

/// What stands at a key.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Value {
    Text(String),
    Group(Pairs),
}

enum Token {
    Text(String),
    Open,
    Close,
}

impl Pairs {
    /// Reads a file.
    ///
    /// ```
    /// use whodunit_formats::quoted_pairs::Pairs;
    /// let read = Pairs::parse(br#""AppState" { "name" "Tide \"Gauge\"" }"#).unwrap();
    /// assert_eq!(read.below("appstate").unwrap().text("name"), Some("Tide \"Gauge\""));
    /// ```
    ///
    /// # Errors
    /// In words, with the byte at which reading ended.
    pub fn parse(content: &[u8]) -> Result<Self, String> {
        let text = String::from_utf8_lossy(content);
        let mut rest = text.trim_start_matches('\u{feff}');
        let wrong = |rest: &str, what: &str| format!("{what} at byte {}", text.len() - rest.len());
        let mut open: Vec<(String, Pairs)> = Vec::new();
        let mut group = Pairs::default();
        let mut key: Option<String> = None;
        while let Some((token, after)) = token(rest).map_err(|what| wrong(rest, what))? {
            rest = after;
            match (token, key.take()) {
                (Token::Text(text), None) => key = Some(text),
                (Token::Text(text), Some(key)) => group.0.push((key, Value::Text(text))),
                (Token::Open, Some(key)) if open.len() < MAX_DEPTH => open.push((key, std::mem::take(&mut group))),
                (Token::Close, None) => {
                    let Some((key, outer)) = open.pop() else { return Err(wrong(rest, "a brace that nothing opened")) };
                    let inner = std::mem::replace(&mut group, outer);
                    group.0.push((key, Value::Group(inner)));
                }
                (Token::Open, Some(_)) => return Err(wrong(rest, "groups nested too deeply")),
                (Token::Open, None) => return Err(wrong(rest, "a group without a key")),
                (Token::Close, Some(_)) => return Err(wrong(rest, "a key without a value")),
            }
        }
        if key.is_some() || !open.is_empty() {
            return Err(wrong(rest, "cut off"));
        }
        Ok(group)
    }

    /// The text at a key.
    #[must_use]
    pub fn text(&self, key: &str) -> Option<&str> {
        self.0.iter().find_map(|(name, value)| match value {
            Value::Text(text) if name.eq_ignore_ascii_case(key) => Some(text.as_str()),
            _ => None,
        })
    }

    /// The group at a key.
    #[must_use]
    pub fn below(&self, key: &str) -> Option<&Pairs> {
        self.0.iter().find_map(|(name, value)| match value {
            Value::Group(group) if name.eq_ignore_ascii_case(key) => Some(group),
            _ => None,
        })
    }

    /// The groups in this one.
    pub fn children(&self) -> impl Iterator<Item = &Pairs> {
        self.0.iter().filter_map(|(_, value)| match value {
            Value::Group(group) => Some(group),
            Value::Text(_) => None,
        })
    }
}

/// The next token and what follows it; `None` at the end.
fn token(text: &str) -> Result<Option<(Token, &str)>, &'static str> {
    let mut text = text.trim_start();
    while let Some(comment) = text.strip_prefix("//") {
        text = comment.split_once('\n').map_or("", |(_, rest)| rest).trim_start();
    }
    let Some(first) = text.chars().next() else { return Ok(None) };
    let after = &text[first.len_utf8()..];
    match first {
        '{' => return Ok(Some((Token::Open, after))),
        '}' => return Ok(Some((Token::Close, after))),
        '"' => {}
        _ => {
            let end = text.find(|c: char| c.is_whitespace() || matches!(c, '{' | '}' | '"')).unwrap_or(text.len());
            return Ok(Some((Token::Text(text[..end].to_owned()), &text[end..])));
        }
    }
    let mut found = String::new();
    let mut characters = after.char_indices();
    while let Some((at, character)) = characters.next() {
        match character {
            '"' => return Ok(Some((Token::Text(found), &after[at + 1..]))),
            '\\' => match characters.next() {
                Some((_, 'n')) => found.push('\n'),
                Some((_, 't')) => found.push('\t'),
                Some((_, other)) => found.push(other),
                None => break,
            },
            other => found.push(other),
        }
    }
    Err("a text that is not closed")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn groups_texts_and_comments() {
        let read = Pairs::parse(
            b"// made up\n\"libraryfolders\"\n{\n\t\"0\"\n\t{\n\t\t\"path\"\t\"/srv/b\\\\c\"\n\t}\n\tplain text\n}\n",
        )
        .unwrap();
        let group = read.below("LibraryFolders").unwrap();
        assert_eq!(group.text("plain"), Some("text"));
        assert_eq!(group.children().filter_map(|one| one.text("PATH")).collect::<Vec<_>>(), ["/srv/b\\c"]);
    }

    #[test]
    fn what_is_no_such_file_is_told() {
        for (text, what) in [
            (&b"\"a\" \"b"[..], "not closed"),
            (b"\"a\"", "cut off"),
            (b"\"a\" {", "cut off"),
            (b"}", "nothing opened"),
            (b"{", "without a key"),
            (b"\"a\" { b }", "without a value"),
        ] {
            assert!(Pairs::parse(text).unwrap_err().contains(what), "{text:?}");
        }
        let deep = b"a {".repeat(40);
        assert!(Pairs::parse(&deep).unwrap_err().contains("too deeply"));
    }
}
