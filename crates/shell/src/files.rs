//! The files that start-up files ask about, as the evaluator sees them.

use std::fmt;

use whodunit_formats::bytes::ByteString;

/// A machine's files. Paths are absolute. Implementations never run, create or change anything.
pub trait Files: fmt::Debug {
    /// The content of a regular file, links followed.
    ///
    /// # Errors
    /// When there is no such file, when it is not a regular file, when it is larger than `max` bytes, or when it cannot
    /// be read.
    fn read(&self, path: &[u8], max: u64) -> Result<Vec<u8>, ReadError>;

    /// The metadata of a file, links followed; `None` if there is no such file or it cannot be looked up.
    fn metadata(&self, path: &[u8]) -> Option<Metadata>;

    /// The type of an entry, without following a link; `None` if there is no such entry.
    fn entry_type(&self, path: &[u8]) -> Option<FileType>;

    /// The names of the entries of a directory with their types, sorted by name; empty if it cannot be read.
    fn list(&self, dir: &[u8]) -> Vec<(ByteString, FileType)>;

    /// The target of a link as it is written; `None` if there is no link.
    fn read_link(&self, path: &[u8]) -> Option<ByteString>;

    /// The path with every link resolved.
    fn canonicalize(&self, path: &[u8]) -> ByteString;
}

/// The type of a directory entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileType {
    /// A regular file.
    File,
    /// A directory.
    Dir,
    /// A symbolic link.
    Link,
    /// A FIFO, device or socket.
    Special,
}

/// The metadata that tests in start-up files ask for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Metadata {
    /// The type.
    pub file_type: FileType,
    /// Length in bytes.
    pub size: u64,
    /// Permission bits, as in `chmod`.
    pub mode: u32,
    /// User id of the owner.
    pub owner: u32,
    /// Group id.
    pub group: u32,
    /// Last modification, in seconds since 1970 UTC.
    pub modified: i64,
    /// Device and inode: two paths with the same pair are one file.
    pub identity: (u64, u64),
}

/// Why a file could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReadError {
    /// There is no such file, or it is not a regular file: a shell goes on without it.
    #[error("{0}")]
    Absent(String),
    /// The file exists but cannot be read: its effect is unknown.
    #[error("{0}")]
    Unreadable(String),
}
