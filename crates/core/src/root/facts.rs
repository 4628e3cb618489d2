//! What the file system says of an entry, and why it will not say.

use std::fmt;

use rustix::fs::FileType;
use rustix::io::Errno;

use crate::text::Text;

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

/// Why a file, folder or link could not be used. Each case names the path as seen from inside the root.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RootError {
    /// Nothing there.
    #[error("{path}: no such file or folder")]
    Missing {
        /// What was asked for.
        path: Text,
    },
    /// The permissions do not allow it.
    #[error("{path}: permission denied")]
    Denied {
        /// What was asked for.
        path: Text,
    },
    /// A FIFO, device, socket or folder where a regular file was expected, or a file where a folder was.
    #[error("{path}: is {found}, not {wanted}")]
    WrongKind {
        /// What was asked for.
        path: Text,
        /// What is there.
        found: Kind,
        /// What was needed.
        wanted: Kind,
    },
    /// More than the limit for this kind of file.
    #[error("{path}: larger than the {limit} bytes that are read of such a file")]
    TooLarge {
        /// What was asked for.
        path: Text,
        /// The limit in bytes.
        limit: u64,
    },
    /// More than 40 links on the way.
    #[error("{path}: its links lead round in a circle")]
    Loop {
        /// What was asked for.
        path: Text,
    },
    /// Anything else that the system reports.
    #[error("{path}: {cause}")]
    Failed {
        /// What was asked for.
        path: Text,
        /// The system's own words.
        cause: String,
    },
}

impl RootError {
    pub(super) fn new(path: &[u8], errno: Errno) -> Self {
        let path = Text::from(path);
        match errno {
            Errno::NOENT | Errno::NOTDIR => RootError::Missing { path },
            Errno::ACCESS | Errno::PERM => RootError::Denied { path },
            Errno::LOOP => RootError::Loop { path },
            other => RootError::Failed { path, cause: other.to_string() },
        }
    }

    /// Whether the only trouble is that nothing is there.
    #[must_use]
    pub fn is_missing(&self) -> bool {
        matches!(self, RootError::Missing { .. })
    }

    /// The trouble without the path.
    #[must_use]
    pub fn reason(&self) -> String {
        let whole = self.to_string();
        whole.strip_prefix(&format!("{}: ", self.path())).map(str::to_owned).unwrap_or(whole)
    }

    /// The path that the trouble is with.
    #[must_use]
    pub fn path(&self) -> &Text {
        match self {
            RootError::Missing { path }
            | RootError::Denied { path }
            | RootError::WrongKind { path, .. }
            | RootError::TooLarge { path, .. }
            | RootError::Loop { path }
            | RootError::Failed { path, .. } => path,
        }
    }
}

/// What a directory entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A FIFO, device, socket or anything else that is never opened.
    Special,
}

impl From<FileType> for Kind {
    fn from(kind: FileType) -> Self {
        match kind {
            FileType::RegularFile => Kind::File,
            FileType::Directory => Kind::Folder,
            FileType::Symlink => Kind::Link,
            _ => Kind::Special,
        }
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Kind::File => "a regular file",
            Kind::Folder => "a folder",
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
        }
    }
}

/// Something that could not be read, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gap {
    /// The file or folder, as seen from inside the root.
    pub path: Text,
    /// Why, in a few words.
    pub reason: String,
}
