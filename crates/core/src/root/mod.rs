//! The machine's tree, live or offline. **The only room that touches the file system.**
//!
//! Every path given here is absolute and as seen from inside the tree: `/usr/bin/x` means that file
//! below the root's folder, and an absolute link or a `..` found on the way stays inside
//! (`openat2(2)`, `RESOLVE_IN_ROOT`; the same rule by hand on kernels without it).
//!
//! Reads are bounded: nothing but a regular file is ever opened for reading, and each read names the
//! most that it is willing to take ([`Limit`]). What could not be read for want of permission is
//! remembered ([`Root::gaps`]), so that no answer passes over it in silence.

#![expect(clippy::disallowed_methods, clippy::disallowed_types, reason = "the one room that may touch the file system")]

mod folders;
mod open;
mod walk;

use std::fmt;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rustix::fs::{Access, AtFlags, CWD, FileType, Mode, OFlags};
use rustix::io::Errno;

use crate::text::{Text, path};

pub use folders::Folder;
pub use walk::{Found, WalkLimits};

/// The most that one read takes, by the kind of file that is expected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limit(u64);

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
    fn new(path: &[u8], errno: Errno) -> Self {
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

/// A regular file, open for reading.
#[derive(Debug)]
pub struct RegularFile {
    file: File,
    meta: Meta,
}

impl RegularFile {
    /// What the file system says of it.
    #[must_use]
    pub fn meta(&self) -> Meta {
        self.meta
    }
}

impl Read for RegularFile {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.file.read(buffer)
    }
}

impl Seek for RegularFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

/// A machine's tree: the running one, or the one below a folder.
#[derive(Debug)]
pub struct Root {
    offline: Option<Offline>,
    gaps: Mutex<Vec<Gap>>,
    folders: folders::Memo,
}

#[derive(Debug)]
struct Offline {
    folder: OwnedFd,
    place: PathBuf,
    by_kernel: bool,
}

impl Root {
    /// The running machine.
    #[must_use]
    pub fn live() -> Self {
        Root { offline: None, gaps: Mutex::default(), folders: folders::Memo::default() }
    }

    /// The tree below `place`: a mounted disk, a container's root.
    ///
    /// # Errors
    /// When `place` is no folder or may not be entered.
    pub fn offline(place: &Path) -> Result<Self, RootError> {
        Self::offline_by(place, open::kernel_contains())
    }

    /// As [`Root::offline`], with the containment done in this program and not by the kernel.
    ///
    /// # Errors
    /// As [`Root::offline`].
    pub fn offline_by_hand(place: &Path) -> Result<Self, RootError> {
        Self::offline_by(place, false)
    }

    fn offline_by(place: &Path, by_kernel: bool) -> Result<Self, RootError> {
        use std::os::unix::ffi::OsStrExt as _;
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = rustix::fs::openat(CWD, place, flags, Mode::empty())
            .map_err(|errno| RootError::new(place.as_os_str().as_bytes(), errno))?;
        let place = std::fs::canonicalize(place).unwrap_or_else(|_| place.to_owned());
        let offline = Some(Offline { folder, place, by_kernel });
        Ok(Root { offline, gaps: Mutex::default(), folders: folders::Memo::default() })
    }

    /// Where the tree lies on the running machine; `/` for the machine itself.
    #[must_use]
    pub fn place(&self) -> &Path {
        self.offline.as_ref().map_or(Path::new("/"), |offline| &offline.place)
    }

    /// Whether this is the running machine.
    #[must_use]
    pub fn is_live(&self) -> bool {
        self.offline.is_none()
    }

    /// What could not be read so far, in the order of its discovery, each path once.
    #[must_use]
    pub fn gaps(&self) -> Vec<Gap> {
        self.gaps.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
    }

    /// Remembers that something could not be read. What lies within a known gap adds nothing.
    pub fn note_gap(&self, at: &[u8], reason: impl Into<String>) {
        let mut gaps = self.gaps.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if !gaps.iter().any(|gap| path::within(at, &gap.path)) {
            gaps.retain(|gap| !path::within(&gap.path, at));
            gaps.push(Gap { path: at.into(), reason: reason.into() });
        }
    }

    /// What stands at `path`, a last link not followed.
    ///
    /// # Errors
    /// When nothing is there or a folder on the way may not be searched.
    pub fn entry(&self, path: &[u8]) -> Result<Meta, RootError> {
        self.meta(path, true)
    }

    /// What `path` leads to, through all links.
    ///
    /// # Errors
    /// As [`Root::entry`]; also for links that lead in a circle.
    pub fn target(&self, path: &[u8]) -> Result<Meta, RootError> {
        self.meta(path, false)
    }

    fn meta(&self, path: &[u8], of_link: bool) -> Result<Meta, RootError> {
        let stat = if self.is_live() {
            let flags = if of_link { AtFlags::SYMLINK_NOFOLLOW } else { AtFlags::empty() };
            rustix::fs::statat(CWD, path, flags)
        } else {
            let flags = if of_link { OFlags::PATH | OFlags::NOFOLLOW } else { OFlags::PATH };
            self.open_raw(path, flags).and_then(rustix::fs::fstat)
        };
        stat.map(Meta::from).map_err(|errno| self.trouble_on_the_way(path, errno))
    }

    /// The text of the link at `path`.
    ///
    /// # Errors
    /// When there is no link at `path`.
    pub fn read_link(&self, path: &[u8]) -> Result<Text, RootError> {
        self.link_text(path).map_err(|errno| self.trouble_on_the_way(path, errno))
    }

    fn link_text(&self, path: &[u8]) -> Result<Text, Errno> {
        let text = if self.is_live() {
            rustix::fs::readlinkat(CWD, path, Vec::new())?
        } else {
            let link = self.open_raw(path, OFlags::PATH | OFlags::NOFOLLOW)?;
            rustix::fs::readlinkat(&link, "", Vec::new()).map_err(|errno| match errno {
                // An empty name on something that is no link is reported as missing.
                Errno::NOENT => Errno::INVAL,
                other => other,
            })?
        };
        Ok(Text::from(text.into_bytes()))
    }

    /// Opens a regular file. A FIFO, device or socket is refused without being opened.
    ///
    /// # Errors
    /// When it is not there, is no regular file, or may not be read; the last is also remembered as a gap.
    pub fn open(&self, path: &[u8]) -> Result<RegularFile, RootError> {
        let before = self.target(path)?;
        if before.kind != Kind::File {
            return Err(RootError::WrongKind { path: path.into(), found: before.kind, wanted: Kind::File });
        }
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY;
        let opened = self.open_raw(path, flags).map_err(|errno| self.trouble(path, errno))?;
        RegularFile::checked(opened, path)
    }

    /// The whole of a regular file, if it is no larger than `limit`.
    ///
    /// # Errors
    /// As [`Root::open`]; also when the file is larger.
    pub fn read(&self, path: &[u8], limit: Limit) -> Result<Vec<u8>, RootError> {
        self.open(path)?.read_all(path, limit)
    }

    /// The first bytes of a regular file, at most `most`.
    ///
    /// # Errors
    /// As [`Root::open`].
    pub fn read_start(&self, path: &[u8], most: usize) -> Result<Vec<u8>, RootError> {
        let file = self.open(path)?;
        let mut start = Vec::with_capacity(most.min(4096));
        match file.take(most as u64).read_to_end(&mut start) {
            Ok(_) => Ok(start),
            Err(cause) => Err(RootError::Failed { path: path.into(), cause: cause.to_string() }),
        }
    }

    /// Opens a folder, to list it and to read many of its files.
    ///
    /// # Errors
    /// When it is not there, is no folder, or may not be read; the last is also remembered as a gap.
    pub fn folder(&self, path: &[u8]) -> Result<Folder<'_>, RootError> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NONBLOCK;
        match self.open_raw(path, flags) {
            Ok(opened) => Ok(Folder::new(self, opened, path)),
            Err(Errno::NOTDIR) => match self.target(path) {
                Ok(meta) => Err(RootError::WrongKind { path: path.into(), found: meta.kind, wanted: Kind::Folder }),
                Err(error) => Err(error),
            },
            Err(errno) => Err(self.trouble(path, errno)),
        }
    }

    /// Whether this process could start the file: the kernel's own answer on the running machine, the
    /// permission bits in an offline tree. `meta` is that of the file itself, links followed.
    #[must_use]
    pub fn can_execute(&self, path: &[u8], meta: Meta) -> bool {
        meta.kind == Kind::File
            && meta.mode & 0o111 != 0
            && (!self.is_live() || rustix::fs::accessat(CWD, path, Access::EXEC_OK, AtFlags::EACCESS).is_ok())
    }

    /// `path` with every link in its folders followed; the last part is left as it is.
    ///
    /// This is the one spelling under which claims and files are compared, so that `/bin/x` and
    /// `/usr/bin/x` meet where `/bin` is a link. Folders that are not there keep their spelling.
    #[must_use]
    pub fn settle(&self, path: &[u8]) -> Text {
        if matches!(path::name(path), b"" | b"." | b"..") {
            return self.settle_folder(path);
        }
        path::join(&self.settle_folder(path::folder(path)), path::name(path))
    }

    /// `folder` with every link followed, the last part too.
    #[must_use]
    pub fn settle_folder(&self, folder: &[u8]) -> Text {
        self.folders.settle(folder, &|link| self.link_text(link))
    }

    /// Every entry below `start`, links not followed, within `limits`.
    pub fn walk(&self, start: &[u8], limits: WalkLimits, visit: &mut dyn FnMut(Found<'_>) -> bool) {
        walk::walk(self, start, limits, visit);
    }

    /// Trouble in looking up a path: it is a folder before it that does not let one through.
    fn trouble_on_the_way(&self, path: &[u8], errno: Errno) -> RootError {
        let error = RootError::new(path, errno);
        if matches!(error, RootError::Denied { .. }) {
            self.note_gap(path::folder(path), error.reason());
        }
        error
    }

    fn trouble(&self, path: &[u8], errno: Errno) -> RootError {
        let error = RootError::new(path, errno);
        if matches!(error, RootError::Denied { .. } | RootError::Failed { .. }) {
            self.note_gap(path, error.reason());
        }
        error
    }
}

impl RegularFile {
    fn checked(opened: OwnedFd, path: &[u8]) -> Result<Self, RootError> {
        let meta = Meta::from(rustix::fs::fstat(&opened).map_err(|errno| RootError::new(path, errno))?);
        // Looked at again once open: it may have been exchanged in between.
        if meta.kind != Kind::File {
            return Err(RootError::WrongKind { path: path.into(), found: meta.kind, wanted: Kind::File });
        }
        Ok(RegularFile { file: File::from(opened), meta })
    }

    fn read_all(self, path: &[u8], limit: Limit) -> Result<Vec<u8>, RootError> {
        let too_large = || RootError::TooLarge { path: path.into(), limit: limit.0 };
        if self.meta.size > limit.0 {
            return Err(too_large());
        }
        // One byte more than expected: a read that leaves room has seen the end, so most files take one.
        let mut content = Vec::with_capacity(usize::try_from(self.meta.size).unwrap_or(0) + 1);
        loop {
            let room = content.capacity() - content.len();
            match rustix::io::read(&self.file, rustix::buffer::spare_capacity(&mut content)) {
                Ok(0) => return Ok(content),
                Ok(_) if content.len() as u64 > limit.0 => return Err(too_large()),
                Ok(taken) if taken < room && self.meta.size > 0 => return Ok(content),
                // It grows while being read, or its size is not told.
                Ok(_) => content.reserve(content.len().max(4096)),
                Err(Errno::INTR) => {}
                Err(errno) => return Err(RootError::new(path, errno)),
            }
        }
    }
}

#[cfg(test)]
mod tests;
