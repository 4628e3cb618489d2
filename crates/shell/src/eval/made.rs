//! The files that start-up files ask about, where the start-up files themselves make or remove them: what the disk has
//! now is not what they find at that moment.

use std::borrow::Cow;
use std::cell::Cell;
use std::collections::BTreeMap;
use std::sync::Arc;

use crate::{FileType, Files, Metadata, ReadError};
use whodunit_formats::bytes::{ByteString, path};

/// Why what follows is uncertain where a file was asked about.
pub(super) const OWN_FILE: &str = "asks about a file that the start-up files themselves change";

/// The size of a file whose content is not known.
pub(super) const UNKNOWN_SIZE: u64 = u64::MAX;

/// More files than this are not told apart.
pub(super) const MAX_FILES: usize = 200;
/// The content of longer files, and of more of them together, is not kept.
pub(super) const MAX_CONTENT: usize = 64 << 10;

/// What became of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Made {
    /// A directory that was not there.
    Dir,
    /// A regular file, with this content where that is known.
    File(Option<Arc<[u8]>>),
    /// Nothing is there any more.
    Gone,
    /// Nobody knows without running it.
    Unknown,
}

/// The machine's files with what was made of them so far.
#[derive(Debug)]
pub(super) struct Seen<'s> {
    disk: &'s dyn Files,
    made: &'s BTreeMap<Vec<u8>, Made>,
    uid: u32,
    why_astray: &'s Cell<Option<&'static str>>,
}

/// Where to look for a file: on the disk under this name, or among what was made.
enum Place<'m, 'p> {
    Disk(Cow<'p, [u8]>),
    Made(&'m Made),
}

impl<'s> Seen<'s> {
    /// The files of the disk with these.
    pub(super) fn new(
        disk: &'s dyn Files,
        made: &'s BTreeMap<Vec<u8>, Made>,
        uid: u32,
        why_astray: &'s Cell<Option<&'static str>>,
    ) -> Self {
        Seen { disk, made, uid, why_astray }
    }

    /// What became of a path whose directory has no links in it: what is below a directory that was made or removed is
    /// not there, unless it was made too.
    fn fate(&self, path: &[u8]) -> Option<&Made> {
        if let Some(made) = self.made.get(path) {
            return Some(made);
        }
        let mut above = path::parent(path);
        while above.len() > 1 {
            match self.made.get(above) {
                Some(Made::Unknown) => return Some(&Made::Unknown),
                Some(_) => return Some(&Made::Gone),
                None => above = path::parent(above),
            }
        }
        None
    }

    /// The same of any path; of what was not made, its name on the disk. What nobody knows is noted.
    fn of<'p>(&self, path: &'p [u8], follows: bool) -> Place<'_, 'p> {
        if self.made.is_empty() {
            return Place::Disk(Cow::Borrowed(path));
        }
        let key = key(self.disk, path, follows);
        match self.fate(&key) {
            None => Place::Disk(Cow::Owned(key)),
            Some(Made::Unknown) => {
                self.why_astray.set(Some(OWN_FILE));
                Place::Disk(Cow::Owned(key))
            }
            Some(made) => Place::Made(made),
        }
    }

    fn made_metadata(&self, path: &[u8], made: &Made) -> Option<Metadata> {
        let (file_type, size, mode) = match made {
            Made::Dir => (FileType::Dir, 4096, 0o755),
            Made::File(content) => {
                let size = content.as_ref().map_or(UNKNOWN_SIZE, |content| content.len() as u64);
                match self.disk.metadata(path) {
                    Some(before) => return Some(Metadata { size, ..before }),
                    None => (FileType::File, size, 0o644),
                }
            }
            Made::Gone | Made::Unknown => return None,
        };
        let number = self.made.range(..key(self.disk, path, true)).count();
        let identity = (u64::MAX, number as u64);
        Some(Metadata { file_type, size, mode, owner: self.uid, group: self.uid, modified: i64::MAX, identity })
    }
}

/// The name under which it is kept what became of a path.
pub(super) fn key(disk: &dyn Files, file: &[u8], follows: bool) -> Vec<u8> {
    let file = path::absolute(file, b"/");
    let name = path::name(&file);
    let found = if follows || matches!(name, b"" | b"." | b"..") {
        disk.canonicalize(&file)
    } else {
        path::join(&disk.canonicalize(path::parent(&file)), name)
    };
    if memchr::memmem::find(&found, b"/.").is_none() {
        return found.to_vec();
    }
    // What is not on the disk has no links in it.
    let mut parts: Vec<&[u8]> = Vec::new();
    for part in found.split(|&b| b == b'/').filter(|part| !matches!(*part, b"" | b".")) {
        if part == b".." {
            parts.pop();
        } else {
            parts.push(part);
        }
    }
    [&b"/"[..], &parts.join(&b'/')].concat()
}

impl Files for Seen<'_> {
    fn read(&self, path: &[u8], max: u64) -> Result<Vec<u8>, ReadError> {
        match self.of(path, true) {
            Place::Disk(_) if self.why_astray.get().is_some() => Err(ReadError::Unreadable(OWN_FILE.to_owned())),
            Place::Disk(path) => self.disk.read(&path, max),
            Place::Made(Made::File(Some(content))) => Ok(content.to_vec()),
            Place::Made(Made::File(None)) => {
                self.why_astray.set(Some(OWN_FILE));
                let file = ByteString::from(path);
                Err(ReadError::Unreadable(format!("{file}, which the start-up files themselves write")))
            }
            Place::Made(_) => Err(ReadError::Absent(format!("{} is no file", ByteString::from(path)))),
        }
    }

    fn metadata(&self, path: &[u8]) -> Option<Metadata> {
        match self.of(path, true) {
            Place::Disk(path) => self.disk.metadata(&path),
            Place::Made(made) => self.made_metadata(path, made),
        }
    }

    fn entry_type(&self, path: &[u8]) -> Option<FileType> {
        match self.of(path, false) {
            Place::Disk(path) => self.disk.entry_type(&path),
            Place::Made(made) => self.made_metadata(path, made).map(|meta| meta.file_type),
        }
    }

    fn list(&self, dir: &[u8]) -> Vec<(ByteString, FileType)> {
        let mut entries = match self.of(dir, true) {
            Place::Disk(dir) => self.disk.list(&dir),
            Place::Made(_) => Vec::new(),
        };
        if self.made.is_empty() {
            return entries;
        }
        let dir = key(self.disk, dir, true);
        for (file, made) in self.made.iter().filter(|(file, _)| path::parent(file) == dir) {
            let name = ByteString::from(path::name(file));
            entries.retain(|(known, _)| *known != name);
            match made {
                Made::Dir => entries.push((name, FileType::Dir)),
                Made::File(_) => entries.push((name, FileType::File)),
                Made::Gone => {}
                Made::Unknown => self.why_astray.set(Some(OWN_FILE)),
            }
        }
        entries.sort_by(|(one, _), (other, _)| one.cmp(other));
        entries
    }

    fn read_link(&self, path: &[u8]) -> Option<ByteString> {
        match self.of(path, false) {
            Place::Disk(path) => self.disk.read_link(&path),
            Place::Made(_) => None,
        }
    }

    fn canonicalize(&self, path: &[u8]) -> ByteString {
        match self.of(path, false) {
            Place::Disk(path) => self.disk.canonicalize(&path),
            Place::Made(_) => key(self.disk, path, true).into(),
        }
    }
}

/// What holds whichever of two ways was taken.
pub(super) fn joined(mut one: BTreeMap<Vec<u8>, Made>, two: &BTreeMap<Vec<u8>, Made>) -> BTreeMap<Vec<u8>, Made> {
    for (file, made) in &mut one {
        if two.get(file) != Some(made) {
            *made = Made::Unknown;
        }
    }
    for file in two.keys() {
        one.entry(file.clone()).or_insert(Made::Unknown);
    }
    one
}
