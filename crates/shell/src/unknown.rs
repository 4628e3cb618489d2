//! What cannot be known without running something.

use whodunit_formats::bytes::ByteString;

/// The number of an [`Unknown`] within one evaluation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct UnknownId(pub usize);

/// Something that cannot be known without running it, and where it is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unknown {
    /// The start-up file.
    pub file: ByteString,
    /// The line, counted from 1; `None` for the whole file.
    pub line: Option<u32>,
    /// What is unknown, as a phrase that follows the file and line.
    pub says: String,
}

impl Unknown {
    /// What a whole file leaves unknown.
    pub fn of_file(file: impl Into<ByteString>, says: impl Into<String>) -> Self {
        Unknown { file: file.into(), line: None, says: says.into() }
    }
}
