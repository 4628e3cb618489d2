//! Opening a path inside the root: by the kernel where it can contain the lookup, by hand elsewhere.

#![expect(clippy::disallowed_methods, reason = "part of the fs module")]

use std::os::fd::{AsFd, OwnedFd};
use std::sync::atomic::Ordering;

use rustix::fs::{CWD, Mode, OFlags, ResolveFlags};
use rustix::io::Errno;

use super::{Offline, Root};
use crate::bytes::path;

impl Root {
    /// Opens `path` with `flags`; on an offline root no link and no `..` leads out of it.
    pub(super) fn open_raw(&self, path: &[u8], flags: OFlags) -> Result<OwnedFd, Errno> {
        if self.is_absent(path) {
            return Err(Errno::NOENT);
        }
        let flags = flags | OFlags::CLOEXEC;
        self.keeping_times(flags, |flags| self.opened(path, flags))
    }

    /// Opens something so that it does not look used afterwards, where that may be asked for: by its owner and root.
    pub(super) fn keeping_times(
        &self,
        flags: OFlags,
        open: impl Fn(OFlags) -> Result<OwnedFd, Errno>,
    ) -> Result<OwnedFd, Errno> {
        if !flags.contains(OFlags::PATH) && self.keeps_times.load(Ordering::Relaxed) {
            match open(flags | OFlags::NOATIME) {
                Err(Errno::PERM) => self.keeps_times.store(false, Ordering::Relaxed),
                other => return other,
            }
        }
        open(flags)
    }

    fn opened(&self, path: &[u8], flags: OFlags) -> Result<OwnedFd, Errno> {
        match &self.offline {
            None => rustix::fs::openat(CWD, path, flags, Mode::empty()),
            Some(offline) if offline.by_kernel => contained(offline, path, flags),
            Some(offline) => self.by_hand(offline, path, flags),
        }
    }

    /// The kernel's rule without the kernel: the links on the way are followed as text, inside the
    /// root; the path without links that results is then opened part by part, refusing any link that
    /// has come to stand there meanwhile.
    fn by_hand(&self, offline: &Offline, path: &[u8], flags: OFlags) -> Result<OwnedFd, Errno> {
        let wants_link = flags.contains(OFlags::NOFOLLOW);
        let canonical = if wants_link { self.canonicalize(path) } else { self.canonicalize_dir(path) };
        if !wants_link && self.dirs.is_circle(path) {
            return Err(Errno::LOOP);
        }
        let mut held: Option<OwnedFd> = None;
        let step = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        for part in path::parent(&canonical).split(|&b| b == b'/').filter(|part| !part.is_empty()) {
            let at = held.as_ref().unwrap_or(&offline.dir);
            held = Some(rustix::fs::openat(at, part, step, Mode::empty())?);
        }
        let at = held.as_ref().unwrap_or(&offline.dir);
        let last = path::name(&canonical);
        let last: &[u8] = if last.is_empty() { b"." } else { last };
        rustix::fs::openat(at.as_fd(), last, flags | OFlags::NOFOLLOW, Mode::empty())
    }
}

fn contained(offline: &Offline, path: &[u8], flags: OFlags) -> Result<OwnedFd, Errno> {
    let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_MAGICLINKS;
    // The kernel answers "again" when the tree is being moved during the lookup.
    for _ in 0..16 {
        match rustix::fs::openat2(&offline.dir, path, flags, Mode::empty(), resolve) {
            Err(Errno::AGAIN | Errno::INTR) => {}
            other => return other,
        }
    }
    Err(Errno::AGAIN)
}

/// Whether this kernel has `openat2` (Linux 5.6 and later, unless a sandbox refuses it).
pub(super) fn kernel_contains() -> bool {
    let flags = OFlags::PATH | OFlags::CLOEXEC;
    rustix::fs::openat2(CWD, ".", flags, Mode::empty(), ResolveFlags::BENEATH).is_ok()
}
