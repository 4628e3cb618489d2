//! Evidence: where a fact is recorded, as data.

use std::fmt;

use schemars::JsonSchema;
use serde::{Serialize, Serializer};

use crate::bytes::{ByteString, shown_text};

/// The position of a fact within a file, or within whatever else was examined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Position {
    /// A line, counted from 1.
    Line(u32),
    /// An entry of a list or table, counted from 1.
    Entry(u64),
    /// The file as a whole.
    WholeFile,
    /// The directory itself.
    Directory,
    /// The name of the file.
    FileName,
    /// The time of the file's last modification.
    Modified,
    /// Compiled into the program that `file` names.
    CompiledIn,
    /// A key, a field, a row, or a property of the file itself such as its type or mode.
    Key(String),
}

impl Position {
    /// The line, if it is one.
    #[must_use]
    pub fn line(&self) -> Option<u32> {
        if let Position::Line(line) = self { Some(*line) } else { None }
    }
}

/// For display: `line 12`, `entry 3`, `whole file`, or the key itself.
impl fmt::Display for Position {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Position::Line(line) => write!(f, "line {line}"),
            Position::Entry(entry) => write!(f, "entry {entry}"),
            Position::WholeFile => f.write_str("whole file"),
            Position::Directory => f.write_str("directory"),
            Position::FileName => f.write_str("its name"),
            Position::Modified => f.write_str("time of last change"),
            Position::CompiledIn => f.write_str("compiled in"),
            Position::Key(key) => f.write_str(key),
        }
    }
}

impl From<&str> for Position {
    fn from(key: &str) -> Self {
        Position::Key(key.to_owned())
    }
}

impl From<&String> for Position {
    fn from(key: &String) -> Self {
        Position::Key(key.clone())
    }
}

impl From<String> for Position {
    fn from(key: String) -> Self {
        Position::Key(key)
    }
}

/// A fact, and where it is recorded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(into = "Document")]
#[schemars(with = "Document")]
pub struct Evidence {
    /// The file, as seen from inside the root; or the thing examined if that is not a file.
    pub file: ByteString,
    /// The position in it.
    pub at: Position,
    /// What it says there.
    pub says: String,
}

/// Evidence as data formats have it.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "Evidence")]
struct Document {
    /// The file, as seen from inside the root; or the thing examined if that is not a file.
    file: ByteString,
    /// The position in it, for display: `line 12`, `entry 3`, a key, a row.
    #[serde(serialize_with = "shown")]
    #[schemars(with = "String")]
    at: Position,
    /// The line, counted from 1, if the position is a line.
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<u32>,
    /// What it says there.
    says: String,
}

fn shown<S: Serializer>(position: &Position, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(position)
}

impl From<Evidence> for Document {
    fn from(evidence: Evidence) -> Self {
        let Evidence { file, at, says } = evidence;
        Document { file, line: at.line(), at, says }
    }
}

impl Evidence {
    /// Evidence from a line of a file.
    pub fn line(file: impl Into<ByteString>, line: u32, says: impl Into<String>) -> Self {
        Self::at(file, Position::Line(line), says)
    }

    /// Evidence from an entry of a list or table, counted from 1.
    pub fn entry(file: impl Into<ByteString>, entry: impl TryInto<u64>, says: impl Into<String>) -> Self {
        Self::at(file, Position::Entry(entry.try_into().unwrap_or(u64::MAX)), says)
    }

    /// Evidence from a file as a whole.
    pub fn whole(file: impl Into<ByteString>, says: impl Into<String>) -> Self {
        Self::at(file, Position::WholeFile, says)
    }

    /// Evidence from a directory itself.
    pub fn directory(file: impl Into<ByteString>, says: impl Into<String>) -> Self {
        Self::at(file, Position::Directory, says)
    }

    /// Evidence from a file's name.
    pub fn file_name(file: impl Into<ByteString>, says: impl Into<String>) -> Self {
        Self::at(file, Position::FileName, says)
    }

    /// Evidence from the time of a file's last modification.
    pub fn modified(file: impl Into<ByteString>, says: impl Into<String>) -> Self {
        Self::at(file, Position::Modified, says)
    }

    /// Evidence from a value that is compiled into a program.
    pub fn compiled_in(file: impl Into<ByteString>, says: impl Into<String>) -> Self {
        Self::at(file, Position::CompiledIn, says)
    }

    /// Evidence from any other position. What a stranger's file says can steer no terminal from here on.
    pub fn at(file: impl Into<ByteString>, at: impl Into<Position>, says: impl Into<String>) -> Self {
        Evidence { file: file.into(), at: at.into(), says: shown_text(says.into()) }
    }
}

impl From<whodunit_shell::Unknown> for Evidence {
    fn from(unknown: whodunit_shell::Unknown) -> Self {
        let at = unknown.line.map_or(Position::WholeFile, Position::Line);
        Self::at(unknown.file, at, unknown.says)
    }
}
