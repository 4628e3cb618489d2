//! Builtins of fish that write something and change nothing.

use super::Fish;
use crate::eval::piece::is_known;
use whodunit_formats::bytes::ByteString;

impl Fish<'_> {
    /// Builtins that write something and change nothing; `false` for any other command.
    pub(super) fn writes(&mut self, name: &[u8], arguments: &[Vec<u8>]) -> bool {
        match name {
            b"echo" => self.echo(arguments),
            b"printf" => {
                let outer = self.run.output.replace(Vec::new());
                self.run.printf(arguments);
                if arguments.first().is_some_and(|format| !is_known(format)) {
                    self.run.status = None;
                }
                let text = std::mem::replace(&mut self.run.output, outer).unwrap_or_default();
                self.write_lines(text.strip_suffix(b"\n").unwrap_or(&text));
            }
            b"string" => self.string(arguments),
            b"seq" => self.seq(arguments),
            b"count" if self.run.input.is_some() => {
                let unknown = self.unknown_value("how many lines there are");
                self.run.status = None;
                self.write(unknown);
            }
            b"count" => {
                if arguments.iter().any(|one| !is_known(one)) {
                    let unknown = self.unknown_value("the length of a list that is unknown");
                    self.run.status = None;
                    self.write(unknown);
                } else {
                    self.run.status = Some(u8::from(arguments.is_empty()));
                    self.write(arguments.len().to_string().into_bytes());
                }
            }
            b"math" => {
                // fish computes with fractions, where there is one.
                let text = arguments.join(&b' ');
                let is_whole = text.iter().all(|b| b.is_ascii_digit() || b" +-*()".contains(b));
                let value = if is_whole { self.run.computed(&text) } else { None };
                let line = match value {
                    Some(value) => value.to_string().into_bytes(),
                    None => {
                        self.run.status = None;
                        self.unknown_value("a number that cannot be computed")
                    }
                };
                self.write(line);
            }
            b"random" | b"path" => {
                self.run.status = None;
                if self.output.is_some() {
                    let unknown = self.unknown_value(format!("{} is not supported", ByteString::from(name)));
                    self.write(unknown);
                }
            }
            _ => return false,
        }
        true
    }

    pub(super) fn contains(&mut self, arguments: &[Vec<u8>]) {
        let first = arguments.first().map_or(&b""[..], Vec::as_slice);
        let index = matches!(first, b"-i" | b"--index");
        let rest: Vec<&Vec<u8>> = arguments.iter().skip(usize::from(index)).skip_while(|word| *word == b"--").collect();
        let at = rest.split_first().and_then(|(wanted, list)| list.iter().position(|one| one == wanted));
        if let (Some(at), true) = (at, index) {
            self.write((at + 1).to_string().into_bytes());
        }
        // An element that is not known may be the one.
        let is_told = at.is_some() || rest.iter().all(|word| is_known(word));
        self.run.status = is_told.then(|| u8::from(at.is_none()));
    }

    fn echo(&mut self, arguments: &[Vec<u8>]) {
        let is_option =
            |word: &&Vec<u8>| word.len() > 1 && word[0] == b'-' && word[1..].iter().all(|b| b"nseE".contains(b));
        let count = arguments.iter().take_while(is_option).count();
        let has = |letter: u8| arguments[..count].iter().any(|word| word.contains(&letter));
        let separator: &[u8] = if has(b's') { b"" } else { b" " };
        let mut text = arguments[count..].join(separator);
        if has(b'e') {
            text = crate::eval::printf::unescaped(&text);
        }
        self.write_lines(&text);
    }

    fn seq(&mut self, arguments: &[Vec<u8>]) {
        // Where there is no such program, fish has a function of this name.
        let list = self.list_of(b"PATH").unwrap_or_default().join(&b':');
        let is_here = self.run.which_in(&list, b"seq").is_some();
        if *self.seq.get_or_insert(is_here) && !is_here {
            self.run.status = Some(127);
            self.is_missing = true;
            return;
        }
        let words: Vec<&[u8]> = arguments.iter().map(Vec::as_slice).collect();
        match crate::eval::programs::counted(&words) {
            Some(text) if text.is_empty() => {}
            Some(text) => self.write_lines(text.strip_suffix(b"\n").unwrap_or(&text)),
            None => {
                let unknown = self.unknown_value("the output of `seq`");
                self.write(unknown);
            }
        }
    }
}
