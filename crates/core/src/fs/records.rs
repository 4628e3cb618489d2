//! The content of files, whole or while it is read.

use std::io::{BufRead as _, BufReader, Read as _, Take};

use super::{FsError, Limit, Meta, RegularFile, Root};

/// As much of a large file is read at a time.
const STREAM_BUFFER: usize = 128 << 10;

impl Root {
    /// The whole of a regular file, if it is no larger than `limit`.
    ///
    /// # Errors
    /// As [`Root::open`]; also when the file is larger. Anything but that nothing is there is remembered as a gap,
    /// whatever the caller makes of it: a FIFO in a file's place is no empty file.
    pub fn read(&self, path: &[u8], limit: Limit) -> Result<Vec<u8>, FsError> {
        self.read_with_meta(path, limit).map(|(content, _)| content)
    }

    /// As [`Root::read`], with what the file system says of the file that was read.
    ///
    /// # Errors
    /// As [`Root::read`].
    pub fn read_with_meta(&self, path: &[u8], limit: Limit) -> Result<(Vec<u8>, Meta), FsError> {
        self.with_file(path, limit, |file| {
            let meta = file.meta();
            let content = file.read_all(path, limit)?;
            self.note_lost(path, &content);
            Ok((content, meta))
        })
    }

    /// As [`Root::read`], to be read while it is taken apart: large files need not be held.
    ///
    /// # Errors
    /// As [`Root::read`].
    pub fn stream(&self, path: &[u8], limit: Limit) -> Result<BufReader<Take<RegularFile>>, FsError> {
        self.with_file(path, limit, |file| {
            if file.meta().size > limit.0 {
                return Err(FsError::TooLarge { path: path.into(), limit: limit.0 });
            }
            let mut stream = BufReader::with_capacity(STREAM_BUFFER, file.take(limit.0));
            // What cannot be read is told by whoever reads on.
            self.note_lost(path, stream.fill_buf().unwrap_or_default());
            Ok(stream)
        })
    }

    /// Opens a file and reads it; what is there and is none is remembered as a gap.
    fn with_file<T>(
        &self,
        path: &[u8],
        limit: Limit,
        read: impl FnOnce(RegularFile) -> Result<T, FsError>,
    ) -> Result<T, FsError> {
        let read = self.open(path).and_then(|file| {
            if limit == Limit::RECORD {
                self.gaps.watch(path, file.meta());
            }
            read(file)
        });
        self.note_unreadable(path, &read);
        read
    }

    /// Remembers a content that is lost: a file system that lost it in a crash has kept its size. Of packed numbers the
    /// first few can be zero.
    pub(super) fn note_lost(&self, path: &[u8], content: &[u8]) {
        if content.len() > 4 && content.iter().all(|&b| b == 0) {
            self.note_gap(path, "holds nothing but zero bytes");
        }
    }

    /// Remembers what is there and is no file that can be read.
    pub(super) fn note_unreadable<T>(&self, path: &[u8], read: &Result<T, FsError>) {
        if let Err(error @ (FsError::WrongKind { .. } | FsError::TooLarge { .. } | FsError::Loop { .. })) = read
            && !self.is_null(path)
        {
            self.note_gap(path, error.reason());
        }
    }
}
