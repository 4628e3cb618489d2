//! Shell syntax: commands of the POSIX shell language (XCU 2, "Shell Command Language") with what bash and zsh add to it,
//! as far as start-up files use it; and fish's in [`fish`].
//!
//! Nothing is ever executed: a text becomes a tree. A text is taken one complete command at a time, as shells do, so
//! that what stands before a mistake still counts.

mod command;
mod compound;
mod condition;
mod documents;
pub mod fish;
mod parameter;
pub mod pattern;
mod pipeline;
mod word;

pub use command::literal;
pub(crate) use word::closing_bracket;

use std::sync::Arc;

/// Which language.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dialect {
    /// The POSIX shell, as dash takes it.
    Posix,
    /// bash.
    Bash,
    /// zsh.
    Zsh,
}

/// Commands one after another.
pub type List = Vec<Command>;

/// One command, and the line on which it begins, counted from 1.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Command {
    /// Where it begins.
    pub line: u32,
    /// What it is.
    pub kind: Kind,
    /// Redirections of a compound command, or of a simple one.
    pub redirects: Vec<Redirect>,
}

/// What a command is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kind {
    /// Assignments, then words.
    Simple(Vec<Assignment>, Vec<Word>),
    /// `a && b || c`: the first, then each with the operator before it, `true` for `&&`.
    AndOr(Box<Command>, Vec<(bool, Command)>),
    /// `a | b`.
    Pipeline(List),
    /// `! a`.
    Not(Box<Command>),
    /// `a &`.
    Background(Box<Command>),
    /// `{ … } always { … }` of zsh
    Always(List, List),
    /// `coproc NAME command`
    Coprocess(Vec<u8>, Box<Command>),
    /// `{ a; b; }`.
    Group(List),
    /// `( a; b )`.
    Subshell(List),
    /// Conditions with what follows each, then what follows when none holds.
    If(Vec<(List, List)>, Option<List>),
    /// The condition, the body, and whether it runs until the condition holds.
    While(List, List, bool),
    /// The variable (in zsh several, with blanks between them), the words (none: the arguments) and the body.
    For(Vec<u8>, Option<Vec<Word>>, List),
    /// The word, and the arms.
    Case(Word, Vec<Arm>),
    /// A function's definition. Several names in zsh.
    Function(Vec<Vec<u8>>, Arc<Command>),
    /// `[[ … ]]`.
    Test(Condition),
    /// `(( … ))`.
    Arithmetic(Vec<u8>),
    /// `for ((from; to; by))`.
    Count(Vec<u8>, Vec<u8>, Vec<u8>, List),
    /// `repeat COUNT` of zsh.
    Repeat(Word, List),
    /// `() { … } words` of zsh: a function without a name, called at once.
    Anonymous(Arc<Command>, Vec<Word>),
    /// A loop whose end nobody can know: `select`.
    OtherLoop(List),
}

/// One arm of a `case`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Arm {
    /// Its patterns.
    pub patterns: Vec<Word>,
    /// What is done.
    pub body: List,
    /// Whether the next arm's body follows (`;&`), or the next arms are tried as well (`;;&`, `;|`).
    pub then: ArmEnd,
}

/// How an arm ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ArmEnd {
    /// `;;`
    Stop,
    /// `;&`
    FallThrough,
    /// `;;&` or `;|`
    TestOn,
}

/// `NAME=value`, `NAME+=value`, `NAME[index]=value`, `NAME=(…)`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Assignment {
    /// The variable.
    pub name: Vec<u8>,
    /// Inside brackets.
    pub index: Option<Vec<u8>>,
    /// Whether it is added.
    pub append: bool,
    /// What is assigned.
    pub value: Assigned,
}

/// What is assigned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Assigned {
    /// A word.
    Word(Word),
    /// A list.
    List(Vec<Word>),
}

/// A redirection.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Redirect {
    /// The descriptor, where one is given.
    pub descriptor: Option<u32>,
    /// The operator.
    pub operator: &'static str,
    /// A file, a descriptor; the text itself of `<<` and `<<<`.
    pub target: Word,
}

/// A word: its parts, side by side.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Word(pub Vec<Part>);

/// A part of a word.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// Text without quotes: patterns and `~` mean something in it.
    Plain(Vec<u8>),
    /// Text that means itself.
    Quoted(Vec<u8>),
    /// Text in double quotes.
    Double(Vec<Part>),
    /// A variable.
    Parameter(Box<Parameter>),
    /// The output of commands.
    Output(Arc<List>),
    /// A number.
    Arithmetic(Vec<u8>),
    /// `<(…)`: the name of a pipe from or to commands.
    Process(Arc<List>),
    /// `name=(…)` behind a command that declares.
    List(Vec<Word>),
}

/// `$NAME` or `${…}`.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Parameter {
    /// The name; a digit or a sign for special ones.
    pub name: Vec<u8>,
    /// What stands in the place of a name in zsh: `${${name}…}`, `${$(command)…}`, `${"text"…}`.
    pub inner: Option<Box<Part>>,
    /// Inside brackets.
    pub index: Option<Vec<u8>>,
    /// Sign before the name: `#` for a length, `!` for the variable that it names, `+` whether it is set.
    pub before: Option<u8>,
    /// Flags of zsh: `${(f)…}`.
    pub flags: Vec<u8>,
    /// The operator behind the name.
    pub operator: Vec<u8>,
    /// The operator's word.
    pub argument: Word,
    /// The second word, of a replacement or a cut.
    pub second: Option<Word>,
}

/// A condition inside `[[ … ]]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Condition {
    /// A word that is not empty.
    Word(Word),
    /// `-d word`.
    Unary(Vec<u8>, Word),
    /// `word == pattern`.
    Binary(Word, Vec<u8>, Word),
    /// `! …`
    Not(Box<Condition>),
    /// `… && …`
    And(Box<Condition>, Box<Condition>),
    /// `… || …`
    Or(Box<Condition>, Box<Condition>),
}

/// What is wrong, and on which line.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {what}")]
pub struct SyntaxError {
    /// The line, from 1.
    pub line: u32,
    /// What is wrong.
    pub what: &'static str,
}

/// Commands nested deeper than this are refused.
const MAX_DEPTH: u32 = 120;

/// Takes a text one complete command after another.
///
/// ```
/// # use whodunit_shell::syntax::{Dialect, Parser};
/// let mut parser = Parser::new(b"PATH=/opt/bin:$PATH\nif x\n", Dialect::Posix);
/// assert!(parser.next().unwrap().is_ok());
/// assert!(parser.next().unwrap().is_err(), "no fi");
/// ```
#[derive(Debug)]
pub struct Parser<'t> {
    text: &'t [u8],
    at: usize,
    line: u32,
    dialect: Dialect,
    depth: u32,
    /// Whether what is read stands in double quotes, in which a single quote is a letter like any other.
    in_double: bool,
    /// How many `foreach` wait for their `end`.
    foreach: u32,
    /// Documents that begin on the next line: where they are to be put, the end word, and how they are read.
    awaited: Vec<Awaited>,
    documents: Vec<(usize, Word)>,
    count: usize,
    /// Whether the command that was taken last has groups in patterns, which bash only takes with an option.
    has_groups: bool,
}

#[derive(Debug)]
struct Awaited {
    number: usize,
    end: Vec<u8>,
    is_quoted: bool,
    strips_tabs: bool,
}

type Parsed<T> = Result<T, SyntaxError>;

impl<'t> Parser<'t> {
    /// Begins at the first line.
    #[must_use]
    pub fn new(text: &'t [u8], dialect: Dialect) -> Self {
        Self::at_line(text, dialect, 1)
    }

    /// Begins at the first byte, which stands on this line of a file.
    #[must_use]
    pub fn at_line(text: &'t [u8], dialect: Dialect, line: u32) -> Self {
        Parser {
            text,
            at: 0,
            line,
            dialect,
            depth: 0,
            in_double: false,
            foreach: 0,
            awaited: Vec::new(),
            documents: Vec::new(),
            count: 0,
            has_groups: false,
        }
    }

    /// A text as it would be taken inside double quotes.
    ///
    /// # Errors
    /// What is wrong, with the line.
    pub fn in_quotes(text: &'t [u8], dialect: Dialect) -> Result<Word, SyntaxError> {
        Parser::new(text, dialect).document()
    }

    /// Whether the commands that were given last have `@(…)` and the like outside `[[ ]]`.
    #[must_use]
    pub fn has_groups(&self) -> bool {
        self.has_groups
    }

    fn peek(&self) -> Option<u8> {
        self.text.get(self.at).copied()
    }

    fn rest(&self) -> &'t [u8] {
        &self.text[self.at.min(self.text.len())..]
    }

    fn starts(&self, with: &[u8]) -> bool {
        self.rest().starts_with(with)
    }

    /// Steps over bytes, counting lines.
    fn skip(&mut self, count: usize) {
        let end = (self.at + count).min(self.text.len());
        let lines = memchr::memchr_iter(b'\n', &self.text[self.at..end]).count();
        self.line += u32::try_from(lines).unwrap_or(0);
        self.at = end;
    }

    fn take(&mut self, with: &[u8]) -> bool {
        let is_there = self.starts(with);
        if is_there {
            self.skip(with.len());
        }
        is_there
    }

    fn wrong<T>(&self, what: &'static str) -> Parsed<T> {
        Err(SyntaxError { line: self.line, what })
    }

    /// Blanks, joined lines and a comment, but no line's end.
    fn blanks(&mut self) {
        loop {
            match self.peek() {
                Some(b' ' | b'\t') => self.at += 1,
                Some(b'\\') if self.starts(b"\\\n") => self.skip(2),
                Some(b'#') => {
                    let end = memchr::memchr(b'\n', self.rest()).unwrap_or(self.rest().len());
                    self.at += end;
                }
                _ => return,
            }
        }
    }

    /// Blanks and line ends; documents that were announced are taken at the first of these.
    fn lines(&mut self) -> Parsed<()> {
        loop {
            self.blanks();
            if self.peek() != Some(b'\n') {
                return Ok(());
            }
            self.line_end()?;
        }
    }
}

impl Iterator for Parser<'_> {
    type Item = Result<List, SyntaxError>;

    /// The commands up to the end of the line on which the next complete one ends.
    fn next(&mut self) -> Option<Self::Item> {
        if let Err(error) = self.lines() {
            self.at = self.text.len();
            return Some(Err(error));
        }
        if self.rest().is_empty() {
            return None;
        }
        self.has_groups = false;
        let list = self.line_of_commands();
        if list.is_err() {
            self.at = self.text.len();
        }
        Some(list)
    }
}

/// Whether bytes are a variable's name.
#[must_use]
pub fn is_name(bytes: &[u8]) -> bool {
    let starts = bytes.first().is_some_and(|&b| b == b'_' || b.is_ascii_alphabetic());
    starts && bytes.iter().all(|&b| b == b'_' || b.is_ascii_alphanumeric())
}
