//! What the file system says of an entry, and why it will not say.

use std::fmt;

use rustix::fs::FileType;
use rustix::io::Errno;

use crate::bytes::ByteString;

/// The most that one read takes, by the kind of file that is expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limit(pub(super) u64);

impl Limit {
    /// Small configuration and state: one group of alternatives, `os-release`, a launcher.
    pub const SMALL: Limit = Limit(1 << 20);
    /// One package's list of files or digests.
    pub const LIST: Limit = Limit(32 << 20);
    /// A manager's record of all its packages.
    pub const RECORD: Limit = Limit(512 << 20);

    /// A limit of this many bytes.
    #[must_use]
    pub const fn bytes(count: u64) -> Self {
        Limit(count)
    }
}

/// Why a file, directory or link could not be used. Each case names the path as seen from inside the root.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}: {}", self.path(), self.reason())]
pub enum FsError {
    /// Nothing is there.
    Missing {
        /// What was asked for.
        path: ByteString,
    },
    /// The permissions do not allow it.
    Denied {
        /// What was asked for.
        path: ByteString,
    },
    /// A FIFO, device, socket or directory where a regular file was expected, or a file where a directory was.
    WrongKind {
        /// What was asked for.
        path: ByteString,
        /// What is there.
        found: Kind,
        /// What was needed.
        wanted: Kind,
    },
    /// More than the limit for this kind of file.
    TooLarge {
        /// What was asked for.
        path: ByteString,
        /// The limit in bytes.
        limit: u64,
    },
    /// More than 40 links on the way.
    Loop {
        /// What was asked for.
        path: ByteString,
    },
    /// Anything else that the system reports.
    Failed {
        /// What was asked for.
        path: ByteString,
        /// The system's own words.
        cause: String,
    },
}

impl FsError {
    pub(super) fn new(path: &[u8], errno: Errno) -> Self {
        let path = ByteString::from(path);
        match errno {
            Errno::NOENT | Errno::NOTDIR => FsError::Missing { path },
            Errno::ACCESS | Errno::PERM => FsError::Denied { path },
            Errno::LOOP => FsError::Loop { path },
            other => FsError::Failed { path, cause: other.to_string() },
        }
    }

    /// Whether the only trouble is that nothing is there.
    #[must_use]
    pub fn is_missing(&self) -> bool {
        matches!(self, FsError::Missing { .. })
    }

    /// The trouble without the path.
    #[must_use]
    pub fn reason(&self) -> String {
        match self {
            FsError::Missing { .. } => "no such file or directory".to_owned(),
            FsError::Denied { .. } => "permission denied".to_owned(),
            FsError::WrongKind { found, wanted, .. } => format!("is {found}, not {wanted}"),
            FsError::TooLarge { limit, .. } => format!("larger than the limit of {limit} bytes for such a file"),
            FsError::Loop { .. } => "too many levels of symbolic links".to_owned(),
            FsError::Failed { cause, .. } => cause.clone(),
        }
    }

    /// The path that the trouble is with.
    #[must_use]
    pub fn path(&self) -> &ByteString {
        match self {
            FsError::Missing { path }
            | FsError::Denied { path }
            | FsError::WrongKind { path, .. }
            | FsError::TooLarge { path, .. }
            | FsError::Loop { path }
            | FsError::Failed { path, .. } => path,
        }
    }
}

/// What a directory entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A regular file.
    File,
    /// A directory.
    Dir,
    /// A symbolic link.
    Link,
    /// A FIFO, device, socket or anything else that is never opened.
    Special,
}

impl From<FileType> for Kind {
    fn from(kind: FileType) -> Self {
        match kind {
            FileType::RegularFile => Kind::File,
            FileType::Directory => Kind::Dir,
            FileType::Symlink => Kind::Link,
            _ => Kind::Special,
        }
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Kind::File => "a regular file",
            Kind::Dir => "a directory",
            Kind::Link => "a link",
            Kind::Special => "a FIFO, device or socket",
        })
    }
}

/// What the file system says of one entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Meta {
    /// What it is.
    pub kind: Kind,
    /// Length in bytes.
    pub size: u64,
    /// Permission bits, as in `chmod`.
    pub mode: u32,
    /// The user number of its owner.
    pub owner: u32,
    /// The number of its group.
    pub group: u32,
    /// Last change of the content, in seconds since 1970 UTC.
    pub modified: i64,
    /// Device and inode: two names with the same pair are one file.
    pub identity: (u64, u64),
    /// How many names it has.
    pub links: u64,
    /// Bytes that it takes on the disk: less than its length where it has holes, more where a block is not full.
    pub disk: u64,
}

impl From<rustix::fs::Stat> for Meta {
    fn from(stat: rustix::fs::Stat) -> Self {
        Meta {
            kind: FileType::from_raw_mode(stat.st_mode).into(),
            size: u64::try_from(stat.st_size).unwrap_or(0),
            mode: stat.st_mode & 0o7777,
            owner: stat.st_uid,
            group: stat.st_gid,
            modified: stat.st_mtime,
            identity: (stat.st_dev, stat.st_ino),
            links: stat.st_nlink,
            disk: u64::try_from(stat.st_blocks).unwrap_or(0).saturating_mul(512),
        }
    }
}

/// Something that could not be read, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gap {
    /// The file or directory, as seen from inside the root.
    pub path: ByteString,
    /// Why, in a few words.
    pub reason: String,
}
