//! Directories: one opened to read many of its files, and the memory of where each directory's links lead.

#![expect(clippy::disallowed_methods, reason = "part of the fs module")]

use std::os::fd::OwnedFd;
use std::sync::Mutex;

use hashbrown::HashMap;
use rustix::fs::{AtFlags, Dir as DirStream, Mode, OFlags};
use rustix::io::Errno;

use super::{FsError, Kind, Limit, Meta, RegularFile, Root, SharedExtent};
use crate::bytes::{ByteString, path};

/// An open directory. Reading many of its files through it spares looking up the way to each.
#[derive(Debug)]
pub struct Dir<'root> {
    root: &'root Root,
    opened: OwnedFd,
    path: ByteString,
}

impl<'root> Dir<'root> {
    pub(super) fn new(root: &'root Root, opened: OwnedFd, path: &[u8]) -> Self {
        Dir { root, opened, path: path.into() }
    }

    /// Its path as seen from inside the root.
    #[must_use]
    pub fn path(&self) -> &ByteString {
        &self.path
    }

    /// The names in it, with what each is, sorted by name.
    ///
    /// # Errors
    /// When the directory vanishes or its disk fails while being read.
    pub fn list(&self) -> Result<Vec<(ByteString, Kind)>, FsError> {
        let trouble = |errno| FsError::new(&self.path, errno);
        let mut found = Vec::new();
        for entry in DirStream::read_from(&self.opened).map_err(trouble)? {
            let entry = entry.map_err(trouble)?;
            let name = entry.file_name().to_bytes();
            if name == b"." || name == b".." {
                continue;
            }
            let kind = match entry.file_type() {
                // Some file systems do not tell with the name.
                rustix::fs::FileType::Unknown => match self.entry(name) {
                    Ok(meta) => meta.kind,
                    Err(_) => continue,
                },
                told => told.into(),
            };
            found.push((ByteString::from(name), kind));
        }
        found.sort_unstable_by(|(a, _), (b, _)| ByteString::cmp(a, b));
        Ok(found)
    }

    /// The entry called `name`, without following a link.
    ///
    /// # Errors
    /// When nothing is there any more.
    pub fn entry(&self, name: &[u8]) -> Result<Meta, FsError> {
        rustix::fs::statat(&self.opened, name, AtFlags::SYMLINK_NOFOLLOW)
            .map(Meta::from)
            .map_err(|errno| FsError::new(&path::join(&self.path, name), errno))
    }

    /// Opens a regular file in this directory, no link followed.
    fn open(&self, name: &[u8]) -> Result<RegularFile, FsError> {
        let whole = || path::join(&self.path, name);
        let opened = self.opened(name).map_err(|errno| self.root.trouble(&whole(), errno))?;
        RegularFile::checked(opened, &whole())
    }

    fn opened(&self, name: &[u8]) -> Result<OwnedFd, Errno> {
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        self.root.keeping_times(flags, |flags| rustix::fs::openat(&self.opened, name, flags, Mode::empty()))
    }

    /// As [`Root::shared_extents`], of a file in this directory.
    #[must_use]
    pub fn shared_extents(&self, name: &[u8], meta: Meta) -> Vec<SharedExtent> {
        if !self.root.has_extents(meta) {
            return Vec::new();
        }
        // What may not be read is none that could not be looked at.
        let file = self.opened(name).ok().and_then(|opened| RegularFile::checked(opened, name).ok());
        file.map(|file| self.root.devices.shared_extents(&file, meta.identity.0)).unwrap_or_default()
    }

    /// The first bytes of a regular file in this directory, no link followed, with its metadata.
    ///
    /// # Errors
    /// As [`Root::open`].
    pub fn read_start(&self, name: &[u8], most: usize) -> Result<(Vec<u8>, Meta), FsError> {
        let whole = || path::join(&self.path, name);
        let file = self.open(name)?;
        let meta = file.meta();
        Ok((file.start(&whole(), most)?, meta))
    }

    /// The whole of a regular file in this directory, with its metadata.
    ///
    /// # Errors
    /// As [`Root::read`].
    pub fn read(&self, name: &[u8], limit: Limit) -> Result<(Vec<u8>, Meta), FsError> {
        let read = self.read_whole(name, limit);
        match &read {
            Ok((content, _)) if content.first() == Some(&0) => {
                self.root.note_lost(&path::join(&self.path, name), content);
            }
            Ok(_) => {}
            Err(_) => self.root.note_unreadable(&path::join(&self.path, name), &read),
        }
        read
    }

    fn read_whole(&self, name: &[u8], limit: Limit) -> Result<(Vec<u8>, Meta), FsError> {
        let whole = || path::join(&self.path, name);
        let before = self.entry(name)?;
        let file = match before.kind {
            Kind::File => self.open(name)?,
            Kind::Link => self.root.open(&whole())?,
            found => return Err(FsError::WrongKind { path: whole(), found, wanted: Kind::File }),
        };
        let meta = file.meta();
        Ok((file.read_all(&whole(), limit)?, meta))
    }
}

/// Directory path as spelled → the same with every link followed. One look at the disk per directory.
#[derive(Debug, Default)]
pub(super) struct Memo(Mutex<HashMap<ByteString, Canonical>>);

#[derive(Debug, Clone)]
struct Canonical {
    dir: ByteString,
    circle: bool,
}

/// The number of links that Linux follows in one lookup.
const MAX_LINKS: u32 = 40;

/// As long as a path can be on Linux.
const LONGEST: usize = 4096;

type ReadLink<'a> = &'a dyn Fn(&[u8]) -> Result<ByteString, Errno>;

impl Memo {
    pub(super) fn canonicalize(&self, dir: &[u8], read_link: ReadLink<'_>) -> ByteString {
        self.canonicalize_within(dir, read_link, MAX_LINKS).dir
    }

    /// Whether a canonical path turned out to be a circle of links.
    pub(super) fn is_circle(&self, dir: &[u8]) -> bool {
        self.known(dir).is_some_and(|canonical| canonical.circle)
    }

    fn known(&self, dir: &[u8]) -> Option<Canonical> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).get(dir).cloned()
    }

    fn canonicalize_within(&self, dir: &[u8], read_link: ReadLink<'_>, links: u32) -> Canonical {
        if dir.is_empty() || dir == b"/" {
            return Canonical { dir: "/".into(), circle: false };
        }
        if let Some(canonical) = self.known(dir) {
            return canonical;
        }
        if dir.len() > LONGEST || links == 0 {
            return Canonical { dir: dir.into(), circle: links == 0 };
        }
        let parent = self.canonicalize_within(path::parent(dir), read_link, links);
        let canonical = match path::name(dir) {
            _ if parent.circle => Canonical { dir: path::join(&parent.dir, path::name(dir)), circle: true },
            b"" | b"." => parent,
            b".." => Canonical { dir: path::parent(&parent.dir).into(), circle: false },
            name => {
                let plain = path::join(&parent.dir, name);
                match read_link(&plain) {
                    Ok(target) if target.starts_with(b"/") => self.canonicalize_within(&target, read_link, links - 1),
                    Ok(target) => self.canonicalize_within(&path::join(&parent.dir, &target), read_link, links - 1),
                    Err(_) => Canonical { dir: plain, circle: false },
                }
            }
        };
        // A circle is only known as such from where its lookup began.
        if !canonical.circle || links == MAX_LINKS {
            let mut known = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            known.insert(dir.into(), canonical.clone());
        }
        canonical
    }
}
