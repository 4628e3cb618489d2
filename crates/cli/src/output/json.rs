//! JSON: one document, or one object per line.
//!
//! JSON itself escapes the control characters below U+0020 only. Everything else that could steer a
//! terminal is escaped here as well, for results are also read on one; to a JSON reader it is the same.

use std::io::{self, Write};

use serde::Serialize;
use serde_json::ser::{CompactFormatter, Formatter, PrettyFormatter, Serializer};
use whodunit_core::bytes::steers_terminal;

/// One indented document.
pub fn document(out: &mut impl Write, value: &impl Serialize) -> io::Result<()> {
    value.serialize(&mut Serializer::with_formatter(&mut *out, Safe(PrettyFormatter::new())))?;
    out.write_all(b"\n")
}

/// One object per line.
pub fn lines(out: &mut impl Write, items: &[impl Serialize]) -> io::Result<()> {
    for item in items {
        item.serialize(&mut Serializer::with_formatter(&mut *out, Safe(CompactFormatter)))?;
        out.write_all(b"\n")?;
    }
    Ok(())
}

struct Safe<F>(F);

macro_rules! pass_on {
    ($($name:ident($($argument:ident: $type:ty),*);)*) => {
        $(fn $name<W: ?Sized + Write>(&mut self, writer: &mut W $(, $argument: $type)*) -> io::Result<()> {
            self.0.$name(writer $(, $argument)*)
        })*
    };
}

impl<F: Formatter> Formatter for Safe<F> {
    pass_on! {
        begin_array();
        end_array();
        begin_array_value(first: bool);
        end_array_value();
        begin_object();
        end_object();
        begin_object_key(first: bool);
        begin_object_value();
        end_object_value();
    }

    fn write_string_fragment<W: ?Sized + Write>(&mut self, writer: &mut W, fragment: &str) -> io::Result<()> {
        let mut rest = fragment;
        while let Some((at, unsafe_char)) = rest.char_indices().find(|(_, c)| steers_terminal(*c)) {
            writer.write_all(&rest.as_bytes()[..at])?;
            for unit in unsafe_char.encode_utf16(&mut [0; 2]) {
                write!(writer, "\\u{unit:04x}")?;
            }
            rest = &rest[at + unsafe_char.len_utf8()..];
        }
        writer.write_all(rest.as_bytes())
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn what_could_steer_a_terminal_is_escaped_and_read_back_alike() {
        let odd = "a\u{1b}[2J\u{7f}\u{9b}2J\u{202e}z\"";
        let mut out = Vec::new();
        super::lines(&mut out, &[odd]).unwrap();
        let text = String::from_utf8(out).unwrap();
        assert_eq!(text, "\"a\\u001b[2J\\u007f\\u009b2J\\u202ez\\\"\"\n");
        assert_eq!(serde_json::from_str::<String>(&text).unwrap(), odd);
    }
}
