//! The machine's tree, live or offline. **The only room that touches the file system.**
//!
//! Every path given here is absolute and as seen from inside the tree: `/usr/bin/x` means that file
//! below the root's directory, and an absolute link or a `..` found on the way stays inside
//! (`openat2(2)`, `RESOLVE_IN_ROOT`; the same rule by hand on kernels without it).
//!
//! Reads are bounded: nothing but a regular file is ever opened for reading, and each read names the
//! most that it is willing to take ([`Limit`]). What could not be read for want of permission is
//! remembered ([`Root::gaps`]), so that no answer skips it in silence.

#![expect(
    clippy::disallowed_methods,
    clippy::disallowed_types,
    reason = "the only module that may access the file system"
)]

mod dirs;
mod extents;
mod facts;
mod gaps;
mod open;
mod presence;
mod records;
mod regular;
mod sparse;
mod usage;
mod walk;

use std::io::Read as _;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;

use rustix::fs::{Access, AtFlags, CWD, Mode, OFlags};
use rustix::io::Errno;

use crate::bytes::{ByteString, path, shown};

pub use dirs::Dir;
pub use extents::SharedExtent;
pub use facts::{FsError, Gap, Kind, Limit, Meta};
pub use regular::RegularFile;
pub use walk::{Found, WalkLimits};

/// A machine's tree: the running one, or the one below a directory.
#[derive(Debug)]
pub struct Root {
    offline: Option<Offline>,
    gaps: gaps::Gaps,
    dirs: dirs::Memo,
    sparse: sparse::SparseDirs,
    devices: extents::Devices,
    /// Whether files can be opened without a change of their time of access.
    keeps_times: AtomicBool,
}

#[derive(Debug)]
struct Offline {
    dir: OwnedFd,
    place: PathBuf,
    by_kernel: bool,
}

impl Root {
    /// The running machine.
    #[must_use]
    pub fn live() -> Self {
        Root {
            offline: None,
            gaps: gaps::Gaps::default(),
            dirs: dirs::Memo::default(),
            sparse: sparse::SparseDirs::default(),
            devices: extents::Devices::default(),
            keeps_times: AtomicBool::new(true),
        }
    }

    /// The tree below `place`: a mounted disk, a container's root.
    ///
    /// # Errors
    /// When `place` is no directory or may not be entered.
    pub fn offline(place: &Path) -> Result<Self, FsError> {
        Self::offline_by(place, open::kernel_contains())
    }

    /// As [`Root::offline`], with the containment done in this program and not by the kernel.
    ///
    /// # Errors
    /// As [`Root::offline`].
    pub fn offline_by_hand(place: &Path) -> Result<Self, FsError> {
        Self::offline_by(place, false)
    }

    fn offline_by(place: &Path, by_kernel: bool) -> Result<Self, FsError> {
        use std::os::unix::ffi::OsStrExt as _;
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let dir = rustix::fs::openat(CWD, place, flags, Mode::empty())
            .map_err(|errno| FsError::new(place.as_os_str().as_bytes(), errno))?;
        let place = std::fs::canonicalize(place).unwrap_or_else(|_| place.to_owned());
        let offline = Some(Offline { dir, place, by_kernel });
        Ok(Root { offline, ..Root::live() })
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
        self.gaps.list()
    }

    /// Remembers that something could not be read. What lies within a known gap adds nothing.
    pub fn note_gap(&self, at: &[u8], reason: impl Into<String>) {
        self.gaps.note(at, reason.into());
    }

    /// Remembers how a record was when it was opened, for [`Root::note_changes`].
    pub fn watch(&self, record: &[u8], meta: Meta) {
        self.gaps.watch(record, meta);
    }

    /// Notes records that are not the same files any more as when they were read: an answer from several of them may
    /// fit no state that the machine was ever in.
    pub fn note_changes(&self) {
        for (record, then) in self.gaps.watched() {
            let now = self.target(&record).ok();
            if now.is_none_or(|now| (now.identity, now.size, now.modified) != (then.identity, then.size, then.modified))
            {
                self.note_gap(&record, "it was changed while it was being read: ask again");
            }
        }
    }

    /// The entry at `path`, without following a last link.
    ///
    /// # Errors
    /// When nothing is there or a directory on the way may not be searched.
    pub fn entry(&self, path: &[u8]) -> Result<Meta, FsError> {
        self.meta(path, true)
    }

    /// Whether something stands where a record would, so that what is no file is told by whoever reads it. Behind a
    /// closed directory nothing is known to stand; that is remembered as a gap.
    #[must_use]
    pub fn has_record(&self, path: &[u8]) -> bool {
        !matches!(self.target(path), Err(FsError::Missing { .. } | FsError::Denied { .. }))
    }

    /// What `path` leads to, through all links.
    ///
    /// # Errors
    /// As [`Root::entry`]; also for links that lead in a circle.
    pub fn target(&self, path: &[u8]) -> Result<Meta, FsError> {
        self.meta(path, false)
    }

    fn meta(&self, path: &[u8], of_link: bool) -> Result<Meta, FsError> {
        let stat = if self.is_live() && self.is_absent(path) {
            Err(Errno::NOENT)
        } else if self.is_live() {
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
    pub fn read_link(&self, path: &[u8]) -> Result<ByteString, FsError> {
        self.link_text(path).map_err(|errno| self.trouble_on_the_way(path, errno))
    }

    fn link_text(&self, path: &[u8]) -> Result<ByteString, Errno> {
        let text = if self.is_live() && self.is_absent(path) {
            return Err(Errno::NOENT);
        } else if self.is_live() {
            rustix::fs::readlinkat(CWD, path, Vec::new())?
        } else {
            let link = self.open_raw(path, OFlags::PATH | OFlags::NOFOLLOW)?;
            rustix::fs::readlinkat(&link, "", Vec::new()).map_err(|errno| match errno {
                // An empty name on something that is no link is reported as missing.
                Errno::NOENT => Errno::INVAL,
                other => other,
            })?
        };
        Ok(ByteString::from(text.into_bytes()))
    }

    /// Opens a regular file. A FIFO, device or socket is refused without being opened.
    ///
    /// # Errors
    /// When it is not there, is no regular file, or may not be read; the last is also remembered as a gap.
    pub fn open(&self, path: &[u8]) -> Result<RegularFile, FsError> {
        let before = self.target(path)?;
        if before.kind != Kind::File {
            return Err(FsError::WrongKind { path: path.into(), found: before.kind, wanted: Kind::File });
        }
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY;
        let opened = self.open_raw(path, flags).map_err(|errno| self.trouble(path, errno))?;
        RegularFile::checked(opened, path)
    }

    /// The names in a directory, with what each is, sorted by name; none where there is no such directory, or where it
    /// cannot be read.
    #[must_use]
    pub fn names_in(&self, dir: &[u8]) -> Vec<(ByteString, Kind)> {
        self.dir(dir).and_then(|dir| dir.list()).unwrap_or_default()
    }

    /// When what stands at a path was last changed, a link itself and not what it leads to: seconds since 1970.
    #[must_use]
    pub fn modified(&self, path: &[u8]) -> Option<i64> {
        self.entry(path).ok().map(|meta| meta.modified)
    }

    /// Whether a path leads to `/dev/null`: the usual way to say that a file has nothing in it.
    #[must_use]
    pub fn is_null(&self, path: &[u8]) -> bool {
        *self.canonicalize_dir(path) == *b"/dev/null"
    }

    /// The first bytes of a regular file, at most `most`.
    ///
    /// # Errors
    /// As [`Root::open`].
    pub fn read_start(&self, path: &[u8], most: usize) -> Result<Vec<u8>, FsError> {
        let file = self.open(path)?;
        let mut start = Vec::with_capacity(most.min(4096));
        match file.take(most as u64).read_to_end(&mut start) {
            Ok(_) => Ok(start),
            Err(cause) => Err(FsError::Failed { path: path.into(), cause: cause.to_string() }),
        }
    }

    /// The first bytes of a file that a listing has just told to be a regular one: opened without another
    /// look, never through a link, and looked at once open.
    ///
    /// # Errors
    /// As [`Root::open`].
    pub fn read_listed_start(&self, path: &[u8], most: usize) -> Result<Vec<u8>, FsError> {
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::NOFOLLOW;
        let opened = self.open_raw(path, flags).map_err(|errno| self.trouble(path, errno))?;
        let file = RegularFile::checked(opened, path)?;
        file.start(path, most)
    }

    /// What a regular file shares with other files on a file system with copy-on-write; none where it is not told.
    #[must_use]
    pub fn shared_extents(&self, path: &[u8], meta: Meta) -> Vec<SharedExtent> {
        if !self.has_extents(meta) {
            return Vec::new();
        }
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::NOFOLLOW;
        let opened = self.open_raw(path, flags).ok().and_then(|opened| RegularFile::checked(opened, path).ok());
        opened.map(|file| self.devices.shared_extents(&file, meta.identity.0)).unwrap_or_default()
    }

    fn has_extents(&self, meta: Meta) -> bool {
        meta.kind == Kind::File && meta.disk > 0 && self.devices.may_share(meta.identity.0)
    }

    /// Opens a directory, to list it and to read many of its files.
    ///
    /// # Errors
    /// When it is not there, is no directory, or may not be read; the last is also remembered as a gap.
    pub fn dir(&self, path: &[u8]) -> Result<Dir<'_>, FsError> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NONBLOCK;
        match self.open_raw(path, flags) {
            Ok(opened) => {
                tracing::debug!(directory = %shown(path), "opened");
                Ok(Dir::new(self, opened, path))
            }
            Err(Errno::NOTDIR) => match self.target(path) {
                Ok(meta) => Err(FsError::WrongKind { path: path.into(), found: meta.kind, wanted: Kind::Dir }),
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

    /// `path` with every link in its directories followed; the last part is left as it is.
    ///
    /// This is the one spelling under which claims and files are compared, so that `/bin/x` and
    /// `/usr/bin/x` meet where `/bin` is a link. Directories that are not there keep their spelling.
    #[must_use]
    pub fn canonicalize(&self, path: &[u8]) -> ByteString {
        if matches!(path::name(path), b"" | b"." | b"..") {
            return self.canonicalize_dir(path);
        }
        path::join(&self.canonicalize_dir(path::parent(path)), path::name(path))
    }

    /// `dir` with every link followed, the last part too.
    #[must_use]
    pub fn canonicalize_dir(&self, dir: &[u8]) -> ByteString {
        self.dirs.canonicalize(dir, &|link| self.link_text(link))
    }

    /// Every entry below `start`, links not followed, within `limits`.
    pub fn walk(&self, start: &[u8], limits: WalkLimits, visit: &mut dyn FnMut(Found<'_>) -> bool) {
        walk::walk(self, start, limits, true, visit);
    }

    /// Like `walk`, but hitting a limit is not recorded as a loss.
    pub fn walk_quietly(&self, start: &[u8], limits: WalkLimits, visit: &mut dyn FnMut(Found<'_>) -> bool) {
        walk::walk(self, start, limits, false, visit);
    }

    /// Hands every entry of a tree, its start included, to `visit`, which says of a directory whether to go into it. Other
    /// file systems mounted below are not entered. Entries come in no order, many at a time.
    pub fn each_entry(&self, start: &ByteString, visit: &(dyn Fn(&ByteString, Meta) -> bool + Sync)) {
        usage::each_entry(self, start, visit);
    }

    /// Trouble in looking up a path: it is a directory before it that does not let one through.
    fn trouble_on_the_way(&self, path: &[u8], errno: Errno) -> FsError {
        let error = FsError::new(path, errno);
        if matches!(error, FsError::Denied { .. }) {
            self.note_gap(path::parent(path), error.reason());
        }
        error
    }

    fn trouble(&self, path: &[u8], errno: Errno) -> FsError {
        let error = FsError::new(path, errno);
        if matches!(error, FsError::Denied { .. } | FsError::Failed { .. }) {
            self.note_gap(path, error.reason());
        }
        error
    }
}

#[cfg(test)]
mod tests;
