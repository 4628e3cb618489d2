//! Pipelines, and lists of them joined by `&&` and `||`.

use super::command::plain;
use super::{Command, Dialect, Kind, Parsed, Parser};

impl Parser<'_> {
    pub(super) fn and_or(&mut self) -> Parsed<Command> {
        let line = self.line;
        let first = self.pipeline()?;
        let mut more = Vec::new();
        loop {
            self.blanks();
            let is_and = self.starts(b"&&");
            if !is_and && !self.starts(b"||") {
                break;
            }
            self.skip(2);
            self.lines()?;
            more.push((is_and, self.pipeline()?));
        }
        Ok(if more.is_empty() { first } else { plain(line, Kind::AndOr(Box::new(first), more)) })
    }

    pub(super) fn pipeline(&mut self) -> Parsed<Command> {
        self.blanks();
        let line = self.line;
        if self.keyword(b"!") {
            self.blanks();
            if self.dialect != Dialect::Bash && self.has_keyword(b"!") {
                return self.wrong("a second negation");
            }
            self.deeper()?;
            let inner = self.pipeline()?;
            self.depth -= 1;
            return Ok(plain(line, Kind::Not(Box::new(inner))));
        }
        let is_timed = self.dialect != Dialect::Posix && self.keyword(b"time");
        if is_timed {
            self.blanks();
            self.keyword(b"-p");
            self.blanks();
        }
        if self.dialect != Dialect::Posix && self.keyword(b"coproc") {
            return self.coprocess(line);
        }
        let mut commands = vec![self.command()?];
        loop {
            self.blanks();
            if self.starts(b"||") || self.peek() != Some(b'|') {
                break;
            }
            self.skip(1);
            self.take(b"&");
            self.lines()?;
            commands.push(self.command()?);
        }
        // zsh starts another shell for what has no process of its own.
        let is_apart = |command: &Command| match &command.kind {
            Kind::Group(_) => true,
            Kind::Simple(_, words) => words.is_empty(),
            _ => false,
        };
        Ok(match commands.len() {
            1 if is_timed && self.dialect == Dialect::Zsh && is_apart(&commands[0]) => {
                plain(line, Kind::Subshell(commands))
            }
            1 => commands.remove(0),
            _ => plain(line, Kind::Pipeline(commands)),
        })
    }

    /// What follows `coproc`: in bash a name may stand before a compound command.
    fn coprocess(&mut self, line: u32) -> Parsed<Command> {
        self.blanks();
        let mut name = b"COPROC".to_vec();
        let length = super::word::name_at(self.rest());
        let after = self.rest()[length..].trim_ascii_start();
        let is_compound = [&b"{"[..], b"(", b"if ", b"while ", b"until ", b"for ", b"case ", b"[["]
            .iter()
            .any(|start| after.starts_with(start));
        let is_word = length > 0 && self.rest().get(length).is_some_and(|byte| b" \t".contains(byte));
        if self.dialect == Dialect::Bash && is_word && is_compound {
            name = self.rest()[..length].to_vec();
            self.skip(length);
            self.blanks();
        }
        self.deeper()?;
        let inner = self.pipeline()?;
        self.depth -= 1;
        Ok(plain(line, Kind::Coprocess(name, Box::new(inner))))
    }
}
