//! Bytes from strangers: file names, versions and the like, kept losslessly and shown safely.
//!
//! A file name on Unix is any run of bytes without `/` and NUL, so it may hold line feeds, escape
//! sequences and bytes that are no UTF-8. [`ByteString`] keeps them as they are; its [`Display`] form is
//! safe to send to a terminal.
//!
//! [`Display`]: fmt::Display

use std::borrow::{Borrow, Cow};
use std::fmt::{self, Write as _};
use std::ops::Deref;

use bstr::ByteSlice;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Serialize, Serializer};

/// A name, version or path as found, byte for byte.
///
/// In JSON it is the text itself where it is UTF-8; every byte that is not becomes `\xNN`.
///
/// ```
/// use whodunit_formats::bytes::ByteString;
/// let odd = ByteString::from(&b"fog\x1b[2Jhorn\xff"[..]);
/// assert_eq!(odd.to_string(), r"fog\x1b[2Jhorn\xff");
/// assert_eq!(odd.as_bytes(), b"fog\x1b[2Jhorn\xff");
/// ```
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct ByteString(Box<[u8]>);

impl ByteString {
    /// A text, unless it is empty.
    #[must_use]
    pub fn unless_empty(text: impl AsRef<[u8]>) -> Option<Self> {
        let text = text.as_ref();
        (!text.is_empty()).then(|| ByteString::from(text))
    }

    /// The bytes as found.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// The text for data formats: lossless for UTF-8, `\xNN` for any other byte.
    #[must_use]
    pub fn to_data(&self) -> Cow<'_, str> {
        match self.0.to_str() {
            Ok(text) => Cow::Borrowed(text),
            Err(_) => Cow::Owned(escape(&self.0, |_| false)),
        }
    }
}

impl Deref for ByteString {
    type Target = [u8];
    fn deref(&self) -> &[u8] {
        &self.0
    }
}

impl Borrow<[u8]> for ByteString {
    fn borrow(&self) -> &[u8] {
        &self.0
    }
}

impl From<&[u8]> for ByteString {
    fn from(bytes: &[u8]) -> Self {
        Self(bytes.into())
    }
}

impl From<Vec<u8>> for ByteString {
    fn from(bytes: Vec<u8>) -> Self {
        Self(bytes.into())
    }
}

impl From<&str> for ByteString {
    fn from(text: &str) -> Self {
        Self(text.as_bytes().into())
    }
}

impl From<String> for ByteString {
    fn from(text: String) -> Self {
        Self(text.into_bytes().into())
    }
}

impl PartialEq<str> for ByteString {
    fn eq(&self, other: &str) -> bool {
        &*self.0 == other.as_bytes()
    }
}

impl fmt::Display for ByteString {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&shown(&self.0))
    }
}

impl fmt::Debug for ByteString {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", self.0.as_bstr())
    }
}

impl Serialize for ByteString {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.to_data())
    }
}

impl JsonSchema for ByteString {
    fn schema_name() -> Cow<'static, str> {
        "Text".into()
    }
    fn inline_schema() -> bool {
        true
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string" })
    }
}

/// `bytes` as text that cannot steer a terminal: control characters, direction overrides and bytes
/// that are no UTF-8 become `\n`, `\t`, `\xNN` or `\u{…}`.
#[must_use]
pub fn shown(bytes: &[u8]) -> Cow<'_, str> {
    match bytes.to_str() {
        Ok(text) if !text.chars().any(steers_terminal) => Cow::Borrowed(text),
        _ => Cow::Owned(escape(bytes, steers_terminal)),
    }
}

/// A sentence with texts from strangers in it, as [`shown`] has it; the same sentence where nothing is to be escaped.
///
/// ```
/// assert_eq!(whodunit_formats::bytes::shown_text("requires tide\u{c}".to_owned()), r"requires tide\x0c");
/// ```
#[must_use]
pub fn shown_text(text: String) -> String {
    match shown(text.as_bytes()) {
        Cow::Borrowed(_) => text,
        Cow::Owned(escaped) => escaped,
    }
}

/// A word as one types it into a shell: quoted where it must be, and unable to steer a terminal.
///
/// ```
/// assert_eq!(whodunit_formats::bytes::shell_word(b"/home/maren/tide lab"), "'/home/maren/tide lab'");
/// assert_eq!(whodunit_formats::bytes::shell_word(b"swellplot-1.9"), "swellplot-1.9");
/// ```
#[must_use]
pub fn shell_word(bytes: &[u8]) -> String {
    // Only a zero byte has no quotation, and what is shown holds none.
    shlex::try_quote(&shown(bytes)).map_or_else(|_| "''".to_owned(), Cow::into_owned)
}

/// Whether a terminal could act on this character, or be made to show something else than is there.
#[must_use]
pub fn steers_terminal(c: char) -> bool {
    c.is_control()
        || matches!(c,
            // Marks of direction, separators of lines, and overrides of the order in which text is shown.
            '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{206f}'
            // What has no width, or is there for machines alone.
            | '\u{ad}' | '\u{180e}' | '\u{200b}'..='\u{200d}' | '\u{2060}'..='\u{2064}' | '\u{feff}'
            | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e0fff}')
}

fn escape(bytes: &[u8], unwanted: impl Fn(char) -> bool) -> String {
    let mut out = String::with_capacity(bytes.len() + 8);
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                _ if !unwanted(c) => out.push(c),
                '\n' => out.push_str("\\n"),
                '\t' => out.push_str("\\t"),
                '\r' => out.push_str("\\r"),
                _ if (c as u32) < 0x80 => {
                    let _ = write!(out, "\\x{:02x}", c as u32);
                }
                _ => {
                    let _ = write!(out, "\\u{{{:x}}}", c as u32);
                }
            }
        }
        for byte in chunk.invalid() {
            let _ = write!(out, "\\x{byte:02x}");
        }
    }
    out
}

/// Path arithmetic on bytes; nothing here looks at a disk.
pub mod path {
    use super::ByteString;

    /// The directory of an absolute path: `/usr/bin` of `/usr/bin/x`, `/` of `/x` and of `/`.
    #[must_use]
    pub fn parent(path: &[u8]) -> &[u8] {
        match memchr::memrchr(b'/', path) {
            Some(0) => b"/",
            Some(at) => &path[..at],
            None => b"",
        }
    }

    /// What follows the last `/`.
    #[must_use]
    pub fn name(path: &[u8]) -> &[u8] {
        match memchr::memrchr(b'/', path) {
            Some(at) => &path[at + 1..],
            None => path,
        }
    }

    /// `dir/name`, without a doubled slash.
    #[must_use]
    pub fn join(dir: &[u8], name: &[u8]) -> ByteString {
        let mut out = Vec::with_capacity(dir.len() + name.len() + 1);
        out.extend_from_slice(dir);
        if !dir.ends_with(b"/") {
            out.push(b'/');
        }
        out.extend_from_slice(name);
        ByteString::from(out)
    }

    /// Whether `path` is `dir` itself or lies below it.
    #[must_use]
    pub fn within(path: &[u8], dir: &[u8]) -> bool {
        let dir = dir.strip_suffix(b"/").unwrap_or(dir);
        path.strip_prefix(dir).is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
    }

    /// An absolute path with each `..` taken back word by word: nothing is looked up on a disk, so a link on
    /// the way is not noticed.
    #[must_use]
    pub fn without_dots(name: &[u8], env: &[u8]) -> ByteString {
        let whole = absolute(name, env);
        let mut parts: Vec<&[u8]> = Vec::new();
        for part in whole.split(|&b| b == b'/').filter(|part| !part.is_empty()) {
            if part == b".." {
                parts.pop();
            } else {
                parts.push(part);
            }
        }
        let mut out = Vec::with_capacity(whole.len());
        for part in parts {
            out.push(b'/');
            out.extend_from_slice(part);
        }
        if out.is_empty() { "/".into() } else { out.into() }
    }

    /// An absolute path without `.`, empty parts and trailing slash. `..` stays: only the tree knows what it means.
    #[must_use]
    pub fn absolute(path: &[u8], env: &[u8]) -> ByteString {
        let mut out = Vec::with_capacity(path.len() + env.len() + 1);
        let bases: [&[u8]; 2] = if path.first() == Some(&b'/') { [b"", path] } else { [env, path] };
        for part in bases.iter().flat_map(|base| base.split(|&b| b == b'/')) {
            if !part.is_empty() && part != b"." {
                out.push(b'/');
                out.extend_from_slice(part);
            }
        }
        if out.is_empty() {
            out.push(b'/');
        }
        ByteString::from(out)
    }
}

/// The text from `at`, which is behind its first quote, to its last: `\n`, `\r` and `\t` are lines and tabs, any other
/// escaped letter itself. `at` is behind the last quote then. `None` where the content ends within the text.
#[must_use]
pub fn quoted(content: &[u8], at: &mut usize) -> Option<Vec<u8>> {
    let mut text = Vec::new();
    loop {
        let byte = *content.get(*at)?;
        *at += 1;
        match byte {
            b'"' => return Some(text),
            b'\\' => {
                let escaped = *content.get(*at)?;
                *at += 1;
                text.push(match escaped {
                    b'n' => b'\n',
                    b'r' => b'\r',
                    b't' => b'\t',
                    other => other,
                });
            }
            other => text.push(other),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_reaches_a_terminal_cannot_steer_it() {
        for (bytes, safe) in [
            (&b"barolog"[..], "barolog"),
            (b"a\x1b]0;x\x07b", r"a\x1b]0;x\x07b"),
            (b"a\nb\tc\x7f", r"a\nb\tc\x7f"),
            ("pegel\u{9b}2J".as_bytes(), r"pegel\u{9b}2J"),
            ("x\u{202e}gpj".as_bytes(), r"x\u{202e}gpj"),
            (b"\xff\xfe", r"\xff\xfe"),
            ("h\u{e4}fen".as_bytes(), "h\u{e4}fen"),
        ] {
            assert_eq!(shown(bytes), safe);
        }
    }

    #[test]
    fn paths_are_taken_apart_and_put_together() {
        assert_eq!(path::parent(b"/usr/bin/x"), b"/usr/bin");
        assert_eq!(path::parent(b"/x"), b"/");
        assert_eq!(path::name(b"/usr/bin/["), b"[");
        assert_eq!(path::join(b"/", b"x").as_bytes(), b"/x");
        assert!(path::within(b"/opt/a", b"/opt/a") && path::within(b"/opt/a/b", b"/opt/a/"));
        assert!(!path::within(b"/opt/ab", b"/opt/a"));
        assert!(path::within(b"/opt", b"/"));
        for (given, whole) in [("/a//b/./c/", "/a/b/c"), ("b/../c", "/here/b/../c"), (".", "/here"), ("/", "/")] {
            assert_eq!(&*path::absolute(given.as_bytes(), b"/here"), whole.as_bytes());
        }
    }
}
