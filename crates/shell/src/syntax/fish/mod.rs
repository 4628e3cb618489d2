//! The language of fish, as far as its configuration files use it (the fish documentation, "The fish language").

mod around;
mod block;
mod word;

use std::sync::Arc;

use super::SyntaxError;

/// Statements one after another.
pub type Block = Vec<Statement>;

/// One statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Statement {
    /// The line on which it begins, from 1.
    pub line: u32,
    /// It only runs where what is before it ended well (`true`, `and`) or badly (`false`, `or`).
    pub after: Option<bool>,
    /// Whether it goes on with the statement before it (`&&`, `||`): where that one does not run because of its own
    /// `and` or `or`, neither does this.
    pub is_chained: bool,
    /// Whether what follows does not wait for it (`&`).
    pub is_background: bool,
    /// Whether its status is turned round (`not`).
    pub negated: bool,
    /// The file that it reads (`<`).
    pub input: Option<Word>,
    /// The files that it writes.
    pub outputs: Vec<Word>,
    /// What it is.
    pub kind: Kind,
}

/// What a statement is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kind {
    /// A command for which variables are set.
    With(Vec<(Vec<u8>, Word)>, Box<Kind>),
    /// A command.
    Command(Vec<Word>),
    /// `a | b`.
    Pipeline(Block),
    /// `begin … end`.
    Block(Block),
    /// Conditions with what follows each, then what follows when none holds.
    If(Vec<(Block, Block)>, Option<Block>),
    /// The word, and patterns with what follows each.
    Switch(Word, Vec<(Vec<Word>, Block)>),
    /// The variable, the words, and the body.
    For(Vec<u8>, Vec<Word>, Block),
    /// The condition, and the body.
    While(Block, Block),
    /// The words behind `function`, and the body.
    Function(Vec<Word>, Arc<Block>),
}

/// A word: its parts, side by side.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Word(pub Vec<Part>);

/// A part of a word.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// Text in which patterns, `~` and braces mean something.
    Plain(Vec<u8>),
    /// Text that means itself.
    Quoted(Vec<u8>),
    /// A variable: its name, whether it is in quotes, inside brackets, and how many more dollars stand before it.
    Variable(Vec<u8>, bool, Option<Box<Word>>, u32),
    /// What a command writes, whether it is in quotes, and inside brackets which of the lines.
    Output(Arc<Block>, bool, Option<Box<Word>>),
    /// `{a,b}`.
    Braces(Vec<Word>),
}

/// Blocks nested deeper than this are refused.
const MAX_DEPTH: u32 = 100;

pub(super) struct Parser<'t> {
    pub(super) text: &'t [u8],
    pub(super) at: usize,
    pub(super) line: u32,
    pub(super) depth: u32,
    /// The file that the command which is taken reads.
    pub(super) input: Option<Word>,
    pub(super) outputs: Vec<Word>,
}

type Parsed<T> = Result<T, SyntaxError>;

/// Takes a text. fish refuses a file with a mistake in it as a whole.
///
/// # Errors
/// What is wrong, with the line.
pub fn parse(text: &[u8], line: u32) -> Parsed<Block> {
    let mut parser = Parser { text, at: 0, line, depth: 0, input: None, outputs: Vec::new() };
    let block = parser.block()?;
    if parser.at < text.len() { parser.wrong("an `end` or a word that cannot stand here") } else { Ok(block) }
}

impl Parser<'_> {
    pub(super) fn wrong<T>(&self, what: &'static str) -> Parsed<T> {
        Err(SyntaxError { line: self.line, what })
    }

    pub(super) fn rest(&self) -> &[u8] {
        &self.text[self.at.min(self.text.len())..]
    }

    pub(super) fn peek(&self) -> Option<u8> {
        self.text.get(self.at).copied()
    }

    pub(super) fn skip(&mut self, count: usize) {
        let end = (self.at + count).min(self.text.len());
        let lines = memchr::memchr_iter(b'\n', &self.text[self.at..end]).count();
        self.line += u32::try_from(lines).unwrap_or(0);
        self.at = end;
    }

    pub(super) fn deeper(&mut self) -> Parsed<()> {
        self.depth += 1;
        if self.depth > MAX_DEPTH { self.wrong("nested too deep") } else { Ok(()) }
    }

    pub(super) fn blanks(&mut self) {
        loop {
            match self.peek() {
                Some(b' ' | b'\t' | b'\r') => self.at += 1,
                Some(b'\\') if self.rest().starts_with(b"\\\n") => self.skip(2),
                Some(b'#') => self.at += memchr::memchr(b'\n', self.rest()).unwrap_or(self.rest().len()),
                _ => return,
            }
        }
    }

    /// Whether a plain word stands here, alone.
    pub(super) fn has(&self, word: &[u8]) -> bool {
        self.rest().starts_with(word) && self.rest().get(word.len()).is_none_or(|b| b" \t\r\n;&|()#<>".contains(b))
    }

    pub(super) fn take(&mut self, word: &[u8]) -> bool {
        let is_there = self.has(word);
        if is_there {
            self.skip(word.len());
        }
        is_there
    }

    /// Takes a word that stands before a command. With an option, and `not` and `!` alone, it is a command itself.
    fn takes_prefix(&mut self, word: &[u8]) -> bool {
        if !self.has(word) {
            return false;
        }
        let after = self.rest().iter().skip(word.len()).find(|byte| !b" \t".contains(byte));
        let is_alone = after.is_none_or(|byte| b"\r\n;#".contains(byte));
        let is_command = after == Some(&b'-') || is_alone && matches!(word, b"not" | b"!");
        !is_command && self.take(word)
    }

    pub(super) fn statement(&mut self, mut after: Option<bool>) -> Parsed<Statement> {
        self.blanks();
        let line = self.line;
        let mut negated = false;
        loop {
            self.blanks();
            if self.takes_prefix(b"and") {
                after = Some(true);
            } else if self.takes_prefix(b"or") {
                after = Some(false);
            } else if self.takes_prefix(b"not") || self.takes_prefix(b"!") {
                negated = !negated;
            } else if !self.takes_prefix(b"time") {
                break;
            }
        }
        let mut parts = vec![self.part(line)?];
        loop {
            self.blanks();
            if self.peek() != Some(b'|') || self.rest().starts_with(b"||") {
                break;
            }
            self.skip(1);
            while matches!(self.peek(), Some(b'\n' | b' ' | b'\t')) {
                self.skip(1);
            }
            parts.push(self.part(line)?);
        }
        if parts.len() == 1 {
            return Ok(Statement { after, negated, ..parts.remove(0) });
        }
        let kind = Kind::Pipeline(parts);
        Ok(Statement {
            line,
            after,
            is_chained: false,
            is_background: false,
            negated,
            input: None,
            outputs: Vec::new(),
            kind,
        })
    }

    /// One command of a pipeline.
    fn part(&mut self, line: u32) -> Parsed<Statement> {
        let outer = (self.input.take(), std::mem::take(&mut self.outputs));
        let kind = self.kind()?;
        let input = std::mem::replace(&mut self.input, outer.0);
        let outputs = std::mem::replace(&mut self.outputs, outer.1);
        Ok(Statement {
            line,
            after: None,
            is_chained: false,
            is_background: false,
            negated: false,
            input,
            outputs,
            kind,
        })
    }

    fn end(&mut self) -> Parsed<()> {
        self.separators();
        if !self.take(b"end") {
            return self.wrong("a block without end");
        }
        self.redirections()
    }

    fn kind(&mut self) -> Parsed<Kind> {
        self.blanks();
        let assignments = self.assignments()?;
        if !assignments.is_empty() {
            self.deeper()?;
            let kind = self.kind()?;
            self.depth -= 1;
            return Ok(Kind::With(assignments, Box::new(kind)));
        }
        if self.take(b"begin") {
            let block = self.block()?;
            self.end()?;
            return Ok(Kind::Block(block));
        }
        if self.take(b"if") {
            let mut branches = vec![self.branch()?];
            loop {
                self.separators();
                if !self.take(b"else") {
                    self.end()?;
                    return Ok(Kind::If(branches, None));
                }
                self.blanks();
                if self.take(b"if") {
                    branches.push(self.branch()?);
                    continue;
                }
                let otherwise = self.block()?;
                self.end()?;
                return Ok(Kind::If(branches, Some(otherwise)));
            }
        }
        if self.take(b"switch") {
            self.blanks();
            let Some(word) = self.word()? else { return self.wrong("switch without a word") };
            let mut arms = Vec::new();
            loop {
                self.separators();
                if !self.take(b"case") {
                    break;
                }
                let patterns = self.words()?;
                arms.push((patterns, self.block()?));
            }
            self.end()?;
            return Ok(Kind::Switch(word, arms));
        }
        if self.take(b"for") {
            let mut words = self.words()?;
            let is_for = words.len() >= 2 && plain(&words[1]).as_deref() == Some(b"in");
            let Some(name) = words.first().and_then(plain).filter(|_| is_for) else {
                return self.wrong("for without in");
            };
            words.drain(..2);
            let body = self.block()?;
            self.end()?;
            return Ok(Kind::For(name, words, body));
        }
        if self.take(b"while") {
            let (condition, body) = self.branch()?;
            self.end()?;
            return Ok(Kind::While(condition, body));
        }
        if self.take(b"function") {
            let words = self.words()?;
            if words.is_empty() {
                return self.wrong("a function without a name");
            }
            let body = self.block()?;
            self.end()?;
            return Ok(Kind::Function(words, Arc::new(body)));
        }
        self.command()
    }

    /// A condition, with the `and` and `or` behind it, and a body.
    fn branch(&mut self) -> Parsed<(Block, Block)> {
        let mut condition = Vec::new();
        self.blanks();
        self.conjunction(&mut condition)?;
        loop {
            self.separators();
            if !self.has(b"and") && !self.has(b"or") {
                break;
            }
            self.conjunction(&mut condition)?;
        }
        Ok((condition, self.block()?))
    }
}

/// The text of a word without variables in it.
#[must_use]
pub fn plain(word: &Word) -> Option<Vec<u8>> {
    let mut text = Vec::new();
    for part in &word.0 {
        match part {
            Part::Plain(more) | Part::Quoted(more) => text.extend_from_slice(more),
            _ => return None,
        }
    }
    Some(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_configuration_files_hold_is_taken_and_mistakes_have_a_line() {
        for (text, expected) in [
            ("set -gx PATH ~/bin $PATH\nfish_add_path /opt/{a,b}/bin\n", Ok(2)),
            ("if test -d ~/bin; and not contains ~/bin $PATH\n  set -p PATH ~/bin\nelse if x\nelse\ny\nend\n", Ok(1)),
            ("switch (uname)\ncase Linux 'x*'\n a\ncase '*'\n b\nend\n", Ok(1)),
            ("function ll --description 'x'\n ls -l $argv[2..-1]\nend\nalias la='ls -a'\n", Ok(2)),
            ("for f in a b; source \"$f\" 2>/dev/null; end; status is-login && begin; x; end\n", Ok(3)),
            ("x (pyenv init - | source) $(a)\ny | source\n", Ok(2)),
            ("if x\n", Err(2)),
            ("set x 'a\n", Err(2)),
            ("end\n", Err(1)),
        ] {
            let count = parse(text.as_bytes(), 1).map(|block| block.len()).map_err(|error| error.line);
            assert_eq!(count, expected, "{text}");
        }
        assert!(parse(&b"(".repeat(10_000), 1).is_err());
        assert!(parse(&b"begin;".repeat(10_000), 1).is_err());
        assert!(parse(&b"{".repeat(10_000), 1).is_err());
    }
}
