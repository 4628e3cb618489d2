//! Writing a tree below one directory, with fixed dates.

#![expect(clippy::disallowed_methods, reason = "the demo's files are written here and nowhere else")]

use std::fs;
use std::io;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Timespec, Timestamps};

/// Why the demo could not be written.
#[derive(Debug, thiserror::Error)]
pub enum WriteError {
    /// There is something in the directory already.
    #[error("{} is not empty; the demo is written into an empty or new directory only", .0.display())]
    NotEmpty(PathBuf),
    /// The system refused.
    #[error("cannot write {}: {cause}", .file.display())]
    Failed {
        /// What was to be written.
        file: PathBuf,
        /// The system's reason.
        cause: io::Error,
    },
}

/// A program of the demo's that nobody runs.
pub const PROGRAM: &str = "#!/bin/sh\n";

/// A tree being written.
#[derive(Debug)]
pub struct Tree {
    top: PathBuf,
}

impl Tree {
    /// Begins in an empty or new directory.
    pub fn begin(top: &Path) -> Result<Self, WriteError> {
        let failed = |cause| WriteError::Failed { file: top.to_owned(), cause };
        fs::create_dir_all(top).map_err(failed)?;
        if fs::read_dir(top).map_err(failed)?.next().is_some() {
            return Err(WriteError::NotEmpty(top.to_owned()));
        }
        Ok(Tree { top: top.to_owned() })
    }

    fn at(&self, path: &str) -> PathBuf {
        self.top.join(path.trim_start_matches('/'))
    }

    fn failed(&self, path: &str) -> impl Fn(io::Error) -> WriteError {
        let file = self.at(path);
        move |cause| WriteError::Failed { file: file.clone(), cause }
    }

    /// A directory, and all above it.
    pub fn dir(&self, path: &str) -> Result<(), WriteError> {
        fs::create_dir_all(self.at(path)).map_err(self.failed(path))
    }

    /// A directory that every user can write to.
    pub fn open_dir(&self, path: &str) -> Result<(), WriteError> {
        use std::os::unix::fs::PermissionsExt as _;
        self.dir(path)?;
        fs::set_permissions(self.at(path), fs::Permissions::from_mode(0o777)).map_err(self.failed(path))
    }

    /// A file with its permissions and date (seconds since 1970).
    pub fn file(&self, path: &str, content: &[u8], mode: u32, date: i64) -> Result<(), WriteError> {
        self.dir(Path::new(path).parent().and_then(Path::to_str).unwrap_or("/"))?;
        let file = self.at(path);
        fs::write(&file, content).map_err(self.failed(path))?;
        fs::set_permissions(&file, fs::Permissions::from_mode(mode)).map_err(self.failed(path))?;
        let time = Timespec { tv_sec: date, tv_nsec: 0 };
        let times = Timestamps { last_access: time, last_modification: time };
        rustix::fs::utimensat(CWD, &file, &times, AtFlags::empty()).map_err(|errno| self.failed(path)(errno.into()))
    }

    /// Files and links with this date. A content that begins with `-> ` is a link's target; scripts, and what lies in a
    /// directory `bin`, can be executed.
    pub fn records(&self, records: &[(&str, &str)], date: i64) -> Result<(), WriteError> {
        for (path, content) in records {
            let is_program = content.starts_with("#!") || path.contains("/bin/");
            match content.strip_prefix("-> ") {
                Some(target) => self.dated_link(path, target, date)?,
                None => self.file(path, content.as_bytes(), if is_program { 0o755 } else { 0o644 }, date)?,
            }
        }
        Ok(())
    }

    /// Gives a directory a date (seconds since 1970), once everything in it is written.
    pub fn date(&self, path: &str, date: i64) -> Result<(), WriteError> {
        let time = Timespec { tv_sec: date, tv_nsec: 0 };
        let times = Timestamps { last_access: time, last_modification: time };
        rustix::fs::utimensat(CWD, self.at(path), &times, AtFlags::empty())
            .map_err(|errno| self.failed(path)(errno.into()))
    }

    /// Gives every directory a date (seconds since 1970), once everything is written.
    pub fn date_dirs(&self, date: i64) -> Result<(), WriteError> {
        let mut waiting = vec![String::new()];
        while let Some(dir) = waiting.pop() {
            let failed = self.failed(&dir);
            for entry in fs::read_dir(self.at(&dir)).map_err(&failed)? {
                let entry = entry.map_err(&failed)?;
                if entry.file_type().map_err(&failed)?.is_dir() {
                    waiting.push(format!("{dir}/{}", entry.file_name().to_string_lossy()));
                }
            }
            self.date(&dir, date)?;
        }
        Ok(())
    }

    /// Where a path lies on this machine.
    pub fn place(&self, path: &str) -> PathBuf {
        self.at(path)
    }

    /// An error at a path, with the text of its cause.
    pub fn trouble(&self, path: &str, cause: impl std::fmt::Display) -> WriteError {
        WriteError::Failed { file: self.at(path), cause: io::Error::other(cause.to_string()) }
    }

    /// A symbolic link with a date of its own (seconds since 1970).
    pub fn dated_link(&self, path: &str, target: &str, date: i64) -> Result<(), WriteError> {
        self.link(path, target)?;
        let time = Timespec { tv_sec: date, tv_nsec: 0 };
        let times = Timestamps { last_access: time, last_modification: time };
        rustix::fs::utimensat(CWD, self.at(path), &times, AtFlags::SYMLINK_NOFOLLOW)
            .map_err(|errno| self.failed(path)(errno.into()))
    }

    /// A symbolic link.
    pub fn link(&self, path: &str, target: &str) -> Result<(), WriteError> {
        self.dir(Path::new(path).parent().and_then(Path::to_str).unwrap_or("/"))?;
        symlink(target, self.at(path)).map_err(self.failed(path))
    }
}
