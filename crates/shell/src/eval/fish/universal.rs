//! The file of fish's universal variables.

use super::Fish;
use crate::Files;
use crate::eval::lists::Place;
use crate::eval::run::MAX_FILE;
use crate::eval::state::{Value, Variable};
use whodunit_formats::bytes::ByteString;

impl Fish<'_> {
    /// `SETUVAR [--export] NAME:VALUE`, parts separated by `\x1e`.
    pub(super) fn universal(&mut self, file: &ByteString) {
        let content = self.run.seen().read(file, MAX_FILE).unwrap_or_default();
        for (line, text) in (1..).zip(content.split(|&b| b == b'\n')) {
            let Some(rest) = text.strip_prefix(b"SETUVAR ") else { continue };
            let exported = rest.starts_with(b"--export ");
            let rest = rest.strip_prefix(b"--export ").unwrap_or(rest);
            let is_path = rest.starts_with(b"--path ");
            let rest = rest.strip_prefix(b"--path ").unwrap_or(rest);
            let Some(at) = memchr::memchr(b':', rest) else { continue };
            let (name, value) = (&rest[..at], unescaped(&rest[at + 1..]));
            // What is inherited hides it.
            if self.run.state.variables.contains_key(name) {
                continue;
            }
            let list: Vec<Vec<u8>> = match value.is_empty() {
                true => Vec::new(),
                false => value.split(|&b| b == 0x1e).map(<[u8]>::to_vec).collect(),
            };
            let place = Place { file: file.clone(), line };
            let mut variable =
                Variable { places: vec![place; list.len()], value: Value::List(list), ..Variable::text("", exported) };
            variable.attributes.path = is_path.then_some(true);
            self.run.state.variables.insert(name.to_vec(), variable);
        }
    }
}

/// `\xNN` and `\\` of the file of universal variables.
fn unescaped(text: &[u8]) -> Vec<u8> {
    let mut result = Vec::new();
    let mut at = 0;
    while at < text.len() {
        if text[at] == b'\\' && text.get(at + 1) == Some(&b'x') {
            let digits = text.get(at + 2..at + 4).and_then(|digits| std::str::from_utf8(digits).ok());
            if let Some(byte) = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok()) {
                result.push(byte);
                at += 4;
                continue;
            }
        }
        if text[at] == b'\\' && at + 1 < text.len() {
            at += 1;
        }
        result.push(text[at]);
        at += 1;
    }
    result
}
