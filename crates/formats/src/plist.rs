//! Property lists (Apple, "Property List Programming Guide", and `plist(5)`), as far as managers use them: in XML, and
//! in binary form.

mod binary;

use quick_xml::Reader;
use quick_xml::events::Event;

/// The deepest level that is read.
const MAX_DEPTH: usize = 32;

/// A value of a property list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// Keys with their values, in the order of the file.
    Dict(Vec<Entry>),
    /// Values in a row.
    Array(Vec<Value>),
    /// A text; dates, data and numbers with a fraction are texts here as well.
    Text(String),
    /// A number.
    Number(i64),
    /// Yes or no.
    Bool(bool),
}

/// A key with its value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The key.
    pub key: String,
    /// The line on which the key ends, from 1; 0 in a binary file, which has no lines.
    pub line: u32,
    /// The value.
    pub value: Value,
}

impl Value {
    /// Reads a document.
    ///
    /// # Errors
    /// In words, where the document breaks off, is none, or is nested too deeply.
    pub fn parse(content: &[u8]) -> Result<Value, String> {
        if content.starts_with(binary::MAGIC) {
            return binary::parse(content);
        }
        let mut reader = Reader::from_reader(content);
        let mut open: Vec<Open> = Vec::new();
        let mut text = String::new();
        let (mut line, mut counted) = (1, 0);
        loop {
            let event = reader.read_event().map_err(|error| error.to_string())?;
            let done = match event {
                Event::Start(tag) => {
                    text.clear();
                    match tag.name().as_ref() {
                        _ if open.len() >= MAX_DEPTH => return Err("nested too deeply".to_owned()),
                        "dict" => open.push(Open::Dict(Vec::new(), None)),
                        "array" => open.push(Open::Array(Vec::new())),
                        _ => {}
                    }
                    None
                }
                Event::Empty(tag) => match tag.name().as_ref() {
                    "true" => Some(Value::Bool(true)),
                    "false" => Some(Value::Bool(false)),
                    "dict" => Some(Value::Dict(Vec::new())),
                    "array" => Some(Value::Array(Vec::new())),
                    "string" | "data" => Some(Value::Text(String::new())),
                    _ => None,
                },
                Event::Text(part) => {
                    text.push_str(&part);
                    None
                }
                Event::GeneralRef(name) => {
                    text.push_str(super::primary::plain(&name));
                    None
                }
                Event::End(tag) => match tag.name().as_ref() {
                    "key" => {
                        let end = usize::try_from(reader.buffer_position()).unwrap_or(content.len()).min(content.len());
                        line += u32::try_from(memchr::memchr_iter(b'\n', &content[counted..end]).count()).unwrap_or(0);
                        counted = end;
                        if let Some(Open::Dict(_, key)) = open.last_mut() {
                            if key.is_some() {
                                return Err("a key without a value".to_owned());
                            }
                            *key = Some((std::mem::take(&mut text), line));
                        }
                        None
                    }
                    "string" | "date" | "real" => Some(Value::Text(std::mem::take(&mut text))),
                    "data" => Some(Value::Text(text.split_ascii_whitespace().collect())),
                    "integer" => Some(number(text.trim())?),
                    "dict" | "array" => open.pop().map(Open::close),
                    _ => None,
                },
                Event::Eof => return Err("truncated".to_owned()),
                _ => None,
            };
            let Some(value) = done else { continue };
            match open.last_mut() {
                None => return Ok(value),
                Some(Open::Array(values)) => values.push(value),
                Some(Open::Dict(entries, key)) => {
                    let (key, line) = key.take().ok_or("a value without a key")?;
                    entries.push(Entry { key, line, value });
                }
            }
        }
    }

    /// The value of a key.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<&Value> {
        self.entry(key).map(|entry| &entry.value)
    }

    /// A key with its value.
    #[must_use]
    pub fn entry(&self, key: &str) -> Option<&Entry> {
        self.entries().iter().find(|entry| entry.key == key)
    }

    /// The keys with their values; none where this is no dictionary.
    #[must_use]
    pub fn entries(&self) -> &[Entry] {
        if let Value::Dict(entries) = self { entries } else { &[] }
    }

    /// The values of an array; none where this is no array.
    pub fn items(&self) -> impl Iterator<Item = &Value> {
        if let Value::Array(values) = self { values.iter() } else { [].iter() }
    }

    /// The text, where this is one.
    #[must_use]
    pub fn text(&self) -> Option<&str> {
        if let Value::Text(text) = self { Some(text) } else { None }
    }

    /// The text of a key.
    #[must_use]
    pub fn text_at(&self, key: &str) -> Option<&str> {
        self.get(key)?.text()
    }
}

/// `12`, `-3` or `0x1f`.
fn number(text: &str) -> Result<Value, String> {
    let read = match text.strip_prefix("0x") {
        Some(digits) => i64::from_str_radix(digits, 16),
        None => text.parse(),
    };
    read.map(Value::Number).map_err(|_| format!("{text} is no number"))
}

/// A value that is being read.
enum Open {
    /// With the key whose value comes next.
    Dict(Vec<Entry>, Option<(String, u32)>),
    Array(Vec<Value>),
}

impl Open {
    fn close(self) -> Value {
        match self {
            Open::Dict(entries, _) => Value::Dict(entries),
            Open::Array(values) => Value::Array(values),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_of_value_is_read() {
        let text = "<?xml version=\"1.0\"?><!DOCTYPE plist><plist version=\"1.0\"><dict><key>a &amp; b</key><string>x</string>\
            <key>n</key><integer>0x10</integer><key>list</key><array><true/><string/><dict/></array></dict></plist>";
        let read = Value::parse(text.as_bytes()).unwrap();
        assert_eq!(read.text_at("a & b"), Some("x"));
        assert_eq!(read.get("n"), Some(&Value::Number(16)));
        assert_eq!(
            Value::parse(b"<dict>\n<key>a</key>\n\n<key>b</key><true/></dict>").unwrap_err(),
            "a key without a value"
        );
        let lines = Value::parse(b"<dict>\n<key>a</key>\n<true/>\n<key>b</key><true/></dict>").unwrap();
        assert_eq!(lines.entries().iter().map(|entry| entry.line).collect::<Vec<_>>(), [2, 4]);
        let list: Vec<&Value> = read.get("list").unwrap().items().collect();
        assert_eq!(list, [&Value::Bool(true), &Value::Text(String::new()), &Value::Dict(Vec::new())]);
    }

    #[test]
    fn what_is_damaged_is_said() {
        let deep = "<array>".repeat(99);
        for (text, says) in [
            ("<plist><dict><key>a</key>", "truncated"),
            ("", "truncated"),
            ("<plist><dict><string>x</string></dict></plist>", "a value without a key"),
            ("<plist><integer>many</integer></plist>", "many is no number"),
            (deep.as_str(), "nested too deeply"),
        ] {
            assert_eq!(Value::parse(text.as_bytes()), Err(says.to_owned()), "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(content: Vec<u8>) {
            let _ = Value::parse(&content);
        }
    }
}
