//! Folders: one opened to read many of its files, and the memory of where each folder's links lead.

#![expect(clippy::disallowed_methods, reason = "part of the root room")]

use std::os::fd::OwnedFd;
use std::sync::Mutex;

use hashbrown::HashMap;
use rustix::fs::{AtFlags, Dir, Mode, OFlags};
use rustix::io::Errno;

use super::{Kind, Limit, Meta, RegularFile, Root, RootError};
use crate::text::{Text, path};

/// An open folder. Reading many of its files through it spares looking up the way to each.
#[derive(Debug)]
pub struct Folder<'root> {
    root: &'root Root,
    opened: OwnedFd,
    path: Text,
}

impl<'root> Folder<'root> {
    pub(super) fn new(root: &'root Root, opened: OwnedFd, path: &[u8]) -> Self {
        Folder { root, opened, path: path.into() }
    }

    /// Its path as seen from inside the root.
    #[must_use]
    pub fn path(&self) -> &Text {
        &self.path
    }

    /// The names in it, with what each is, sorted by name.
    ///
    /// # Errors
    /// When the folder vanishes or its disk fails while being read.
    pub fn list(&self) -> Result<Vec<(Text, Kind)>, RootError> {
        let trouble = |errno| RootError::new(&self.path, errno);
        let mut found = Vec::new();
        for entry in Dir::read_from(&self.opened).map_err(trouble)? {
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
            found.push((Text::from(name), kind));
        }
        found.sort_unstable_by(|(a, _), (b, _)| Text::cmp(a, b));
        Ok(found)
    }

    /// What stands under `name`, a link not followed.
    ///
    /// # Errors
    /// When nothing is there any more.
    pub fn entry(&self, name: &[u8]) -> Result<Meta, RootError> {
        rustix::fs::statat(&self.opened, name, AtFlags::SYMLINK_NOFOLLOW)
            .map(Meta::from)
            .map_err(|errno| RootError::new(&path::join(&self.path, name), errno))
    }

    /// The first bytes of a regular file in this folder, no link followed, with its metadata.
    ///
    /// # Errors
    /// As [`Root::open`].
    pub fn read_start(&self, name: &[u8], most: usize) -> Result<(Vec<u8>, Meta), RootError> {
        let whole = || path::join(&self.path, name);
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let opened = rustix::fs::openat(&self.opened, name, flags, Mode::empty())
            .map_err(|errno| self.root.trouble(&whole(), errno))?;
        let file = RegularFile::checked(opened, &whole())?;
        let meta = file.meta();
        Ok((file.start(&whole(), most)?, meta))
    }

    /// The whole of a regular file in this folder, with its metadata.
    ///
    /// # Errors
    /// As [`Root::read`].
    pub fn read(&self, name: &[u8], limit: Limit) -> Result<(Vec<u8>, Meta), RootError> {
        let whole = || path::join(&self.path, name);
        let before = self.entry(name)?;
        let file = match before.kind {
            Kind::File => {
                let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                let opened = rustix::fs::openat(&self.opened, name, flags, Mode::empty())
                    .map_err(|errno| self.root.trouble(&whole(), errno))?;
                RegularFile::checked(opened, &whole())?
            }
            Kind::Link => self.root.open(&whole())?,
            found => return Err(RootError::WrongKind { path: whole(), found, wanted: Kind::File }),
        };
        let meta = file.meta();
        Ok((file.read_all(&whole(), limit)?, meta))
    }
}

/// Folder path as spelled → the same with every link followed. One look at the disk per folder.
#[derive(Debug, Default)]
pub(super) struct Memo(Mutex<HashMap<Text, Settled>>);

#[derive(Debug, Clone)]
struct Settled {
    folder: Text,
    circle: bool,
}

/// As many links as Linux follows in one look-up.
const MOST_LINKS: u32 = 40;

/// As long as a path can be on Linux.
const LONGEST: usize = 4096;

type ReadLink<'a> = &'a dyn Fn(&[u8]) -> Result<Text, Errno>;

impl Memo {
    pub(super) fn settle(&self, folder: &[u8], read_link: ReadLink<'_>) -> Text {
        self.settle_within(folder, read_link, MOST_LINKS).folder
    }

    /// Whether a settled path turned out to be a circle of links.
    pub(super) fn is_circle(&self, folder: &[u8]) -> bool {
        self.known(folder).is_some_and(|settled| settled.circle)
    }

    fn known(&self, folder: &[u8]) -> Option<Settled> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).get(folder).cloned()
    }

    fn settle_within(&self, folder: &[u8], read_link: ReadLink<'_>, links: u32) -> Settled {
        if folder.is_empty() || folder == b"/" {
            return Settled { folder: "/".into(), circle: false };
        }
        if let Some(settled) = self.known(folder) {
            return settled;
        }
        if folder.len() > LONGEST || links == 0 {
            return Settled { folder: folder.into(), circle: links == 0 };
        }
        let parent = self.settle_within(path::folder(folder), read_link, links);
        let settled = match path::name(folder) {
            _ if parent.circle => Settled { folder: path::join(&parent.folder, path::name(folder)), circle: true },
            b"" | b"." => parent,
            b".." => Settled { folder: path::folder(&parent.folder).into(), circle: false },
            name => {
                let plain = path::join(&parent.folder, name);
                match read_link(&plain) {
                    Ok(target) if target.starts_with(b"/") => self.settle_within(&target, read_link, links - 1),
                    Ok(target) => self.settle_within(&path::join(&parent.folder, &target), read_link, links - 1),
                    Err(_) => Settled { folder: plain, circle: false },
                }
            }
        };
        // A circle is only known as such from where its look-up began.
        if !settled.circle || links == MOST_LINKS {
            let mut known = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            known.insert(folder.into(), settled.clone());
        }
        settled
    }
}
