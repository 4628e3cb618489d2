//! A regular file, open for reading.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::io::Errno;

use super::{FsError, Kind, Limit, Meta};
use crate::bytes::shown;
use whodunit_formats::database::Source;

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

impl AsFd for RegularFile {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.file.as_fd()
    }
}

impl Source for RegularFile {
    fn length(&self) -> u64 {
        self.meta.size
    }

    fn read_at(&self, place: u64, buffer: &mut [u8]) -> io::Result<usize> {
        let mut done = 0;
        while done < buffer.len() {
            match std::os::unix::fs::FileExt::read_at(&self.file, &mut buffer[done..], place + done as u64) {
                Ok(0) => break,
                Ok(count) => done += count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(done)
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

impl RegularFile {
    pub(super) fn checked(opened: OwnedFd, path: &[u8]) -> Result<Self, FsError> {
        let meta = Meta::from(rustix::fs::fstat(&opened).map_err(|errno| FsError::new(path, errno))?);
        // Looked at again once open: it may have been exchanged in between.
        if meta.kind != Kind::File {
            return Err(FsError::WrongKind { path: path.into(), found: meta.kind, wanted: Kind::File });
        }
        tracing::debug!(file = %shown(path), bytes = meta.size, "opened");
        Ok(RegularFile { file: File::from(opened), meta })
    }

    pub(super) fn start(&self, path: &[u8], most: usize) -> Result<Vec<u8>, FsError> {
        let mut start = vec![0; most];
        let taken = rustix::io::read(&self.file, &mut start).map_err(|errno| FsError::new(path, errno))?;
        start.truncate(taken);
        Ok(start)
    }

    pub(super) fn read_all(self, path: &[u8], limit: Limit) -> Result<Vec<u8>, FsError> {
        let too_large = || FsError::TooLarge { path: path.into(), limit: limit.0 };
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
                Err(errno) => return Err(FsError::new(path, errno)),
            }
        }
    }
}
