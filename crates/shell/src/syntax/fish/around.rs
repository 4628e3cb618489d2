//! What stands before and behind a command: variables that are set for it, and redirections.

use super::{Parsed, Parser, Word};

impl Parser<'_> {
    /// Variables that are set for one command: `NAME=value` before it.
    pub(super) fn assignments(&mut self) -> Parsed<Vec<(Vec<u8>, Word)>> {
        let mut assignments = Vec::new();
        loop {
            self.blanks();
            let length = self.rest().iter().take_while(|&&b| b == b'_' || b.is_ascii_alphanumeric()).count();
            if length == 0 || self.rest()[0].is_ascii_digit() || self.rest().get(length) != Some(&b'=') {
                return Ok(assignments);
            }
            let name = self.rest()[..length].to_vec();
            self.skip(length + 1);
            assignments.push((name, self.word()?.unwrap_or_default()));
        }
    }

    /// Redirections, of which only what is read matters here.
    pub(super) fn redirections(&mut self) -> Parsed<()> {
        loop {
            self.blanks();
            let digits = self.rest().iter().take_while(|b| b.is_ascii_digit()).count();
            let behind = &self.rest()[digits..];
            let is_one = matches!(behind.first(), Some(b'<' | b'>')) || behind.starts_with(b"&>");
            if !is_one {
                return Ok(());
            }
            let signs = behind.iter().take_while(|b| b"<>&|?".contains(b)).count();
            let reads = behind.starts_with(b"<") && digits == 0;
            let writes = behind.starts_with(b">") && !behind.starts_with(b">&") || behind.starts_with(b"&>");
            self.skip(digits + signs);
            self.blanks();
            let target = self.word()?;
            if reads {
                self.input = target;
            } else if writes {
                self.outputs.extend(target);
            }
        }
    }
}
