//! Stanza files: the control-file syntax of Debian Policy, section 5.1.
//!
//! A stanza is a run of `Name: value` lines; a value goes on in lines that begin with a blank; an
//! empty line ends the stanza. Field names are compared without regard to case.
//!
//! Traps: dpkg ends each stanza with an empty line, so a file that does not end in a line feed was
//! cut; a line without a colon belongs to no field and is damage, though what stands before and after
//! it is sound.

use memchr::{memchr, memchr_iter};

/// One stanza of a file.
#[derive(Debug, Clone, Copy)]
pub struct Stanza<'a> {
    text: &'a [u8],
    /// The line number of its first line, counted from 1.
    pub line: u32,
}

/// One field of a stanza.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Field<'a> {
    /// Its name as spelled.
    pub name: &'a [u8],
    /// Its value on the first line, without blanks around it.
    pub value: &'a [u8],
    /// Where it begins in the file, counted from 1.
    pub line: u32,
}

/// A line that fits no rule of the format.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Malformed {
    /// Where it stands, counted from 1.
    pub line: u32,
}

/// The stanzas of a file, in order.
pub fn stanzas(file: &[u8]) -> impl Iterator<Item = Stanza<'_>> {
    let mut rest = file;
    let mut line = 1;
    std::iter::from_fn(move || {
        while rest.first() == Some(&b'\n') {
            rest = &rest[1..];
            line += 1;
        }
        if rest.is_empty() {
            return None;
        }
        let end = memchr::memmem::find(rest, b"\n\n").map_or(rest.len(), |at| at + 1);
        let stanza = Stanza { text: &rest[..end], line };
        line += u32::try_from(memchr_iter(b'\n', stanza.text).count()).unwrap_or(u32::MAX);
        rest = &rest[end..];
        Some(stanza)
    })
}

/// Whether a file ends in the middle of a line, as one does that was cut off.
#[must_use]
pub fn is_cut(file: &[u8]) -> bool {
    file.last().is_some_and(|&last| last != b'\n')
}

impl Field<'_> {
    /// Whether it has this name, which is compared without regard to case.
    #[must_use]
    pub fn is(&self, name: &str) -> bool {
        self.name.eq_ignore_ascii_case(name.as_bytes())
    }
}

impl<'a> Stanza<'a> {
    /// Its bytes, as they stand in the file.
    #[must_use]
    pub fn text(self) -> &'a [u8] {
        self.text
    }

    /// The value of a field with the lines on which it goes on, a blank between them.
    #[must_use]
    pub fn whole(self, name: &str) -> Option<Vec<u8>> {
        let mut lines = self.text.split(|&b| b == b'\n');
        let is_it = |line: &&[u8]| {
            let end = memchr(b':', line).filter(|end| *end == name.len());
            end.is_some_and(|end| line[..end].eq_ignore_ascii_case(name.as_bytes()))
        };
        let mut value = lines.find(is_it)?[name.len() + 1..].trim_ascii().to_vec();
        for line in lines.take_while(|line| matches!(line.first(), Some(b' ' | b'\t'))) {
            value.push(b' ');
            value.extend_from_slice(line.trim_ascii());
        }
        Some(value)
    }

    /// Its fields in order; a line that is none is an error in its place.
    pub fn fields(self) -> impl Iterator<Item = Result<Field<'a>, Malformed>> {
        let mut rest = self.text;
        let mut next = self.line;
        std::iter::from_fn(move || {
            loop {
                if rest.is_empty() {
                    return None;
                }
                let end = memchr(b'\n', rest).unwrap_or(rest.len());
                let (text, line) = (&rest[..end], next);
                rest = rest.get(end + 1..).unwrap_or_default();
                next += 1;
                // Continuations are of no interest to any reader so far.
                if matches!(text.first(), Some(b' ' | b'\t')) {
                    continue;
                }
                return Some(match memchr(b':', text) {
                    Some(colon) if colon > 0 => {
                        Ok(Field { name: &text[..colon], value: text[colon + 1..].trim_ascii(), line })
                    }
                    _ => Err(Malformed { line }),
                });
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_keep_their_lines_and_damage_costs_one_line() {
        let file = b"\nPackage: pegel\nConffiles:\n /etc/a 0123\nno colon here\nVERSION:  1.2 \n\n\nPackage: b";
        let read: Vec<_> = stanzas(file).map(|stanza| stanza.fields().collect::<Vec<_>>()).collect();
        let field = |name: &'static str, value: &'static str, line| {
            Ok(Field { name: name.as_bytes(), value: value.as_bytes(), line })
        };
        assert_eq!(
            read,
            [
                vec![
                    field("Package", "pegel", 2),
                    field("Conffiles", "", 3),
                    Err(Malformed { line: 5 }),
                    field("VERSION", "1.2", 6)
                ],
                vec![field("Package", "b", 9)],
            ]
        );
        assert!(is_cut(file) && !is_cut(b"A: b\n") && !is_cut(b""));
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(file: Vec<u8>) {
            for stanza in stanzas(&file) {
                let _ = stanza.fields().count();
            }
        }
    }
}
