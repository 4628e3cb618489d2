//! What stands before and behind a command: variables that are set for it, and redirections.

use super::{Kind, Parsed, Parser, Part, Word, plain};

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

    /// Redirections: what is read, and the files that are written.
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

    /// The words of a command: the first of them is not what another command writes.
    pub(super) fn command(&mut self) -> Parsed<Kind> {
        let words = self.words()?;
        let decorates = |word: &Word| matches!(plain(word).as_deref(), Some(b"command" | b"builtin" | b"exec"));
        let at = usize::from(words.first().is_some_and(decorates));
        let writes = |word: &Word| word.0.iter().any(|part| matches!(part, Part::Output(..)));
        if words.iter().take(at + 1).any(writes) {
            return self.wrong("the output of a command in the place of one");
        }
        if words.is_empty() {
            self.wrong("an operator or a word that cannot stand here")
        } else {
            Ok(Kind::Command(words))
        }
    }
}
