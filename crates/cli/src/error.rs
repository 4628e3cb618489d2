//! What can go wrong with a call: one sentence each, the cause kept, a hint on what to do, and an exit status.

use std::io;

use whodunit_core::bytes::ByteString;
use whodunit_core::fs::FsError;
use whodunit_core::host::UnknownUser;
use whodunit_fleet::store::StoreError;

/// The exit statuses, as every help text lists them.
pub mod status {
    /// The question was answered.
    pub const ANSWERED: u8 = 0;
    /// The thing asked for was not found, or `check` or `verify` found something.
    pub const NOT_FOUND: u8 = 1;
    /// The command line is wrong.
    pub const USAGE: u8 = 2;
    /// Something could not be read, and `--strict` was given; or the user ended it early.
    pub const INCOMPLETE: u8 = 3;
    /// The results could not be written.
    pub const OUTPUT: u8 = 4;
}

/// An error of the command line. Its text is one sentence; what the user can do is a [hint](CliError::hint).
#[derive(Debug, thiserror::Error)]
pub enum CliError {
    /// The command line is wrong.
    #[error("{message}")]
    Usage {
        /// What is wrong with it.
        message: String,
        /// What to do instead.
        hint: Option<String>,
    },
    /// The directory of `--root` or `--directory` cannot be used.
    #[error("{}", bad_directory(option, place, cause))]
    Directory {
        /// The option.
        option: &'static str,
        /// Its value.
        place: ByteString,
        /// Why it cannot be used.
        cause: FsError,
    },
    /// The directory in which the program was started is gone.
    #[error("the current directory does not exist any more")]
    NoCurrentDirectory,
    /// A user was named who has no account.
    #[error(transparent)]
    User(#[from] UnknownUser),
    /// The configuration file cannot be read.
    #[error("cannot read the configuration file: {0}")]
    ConfigFile(#[source] FsError),
    /// The configuration file has a mistake.
    #[error("configuration file {file}, line {line}: {mistake}")]
    Config {
        /// The file.
        file: ByteString,
        /// The line, counted from 1.
        line: u32,
        /// What is wrong with it.
        mistake: String,
    },
    /// There is no snapshot of that name.
    #[error("there is no snapshot {name}")]
    NoSnapshot {
        /// The name, or the path.
        name: ByteString,
    },
    /// A snapshot cannot be used.
    #[error("cannot use the snapshot {file}: {cause}")]
    Snapshot {
        /// Its file.
        file: ByteString,
        /// Why not.
        cause: String,
    },
    /// A manifest cannot be used.
    #[error("cannot use the manifest {file}: {cause}")]
    Manifest {
        /// Its file.
        file: ByteString,
        /// Why not.
        cause: String,
    },
    /// A store of snapshots cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// There is no machine of that name in a store.
    #[error("no machine is called {name}")]
    NoMachine {
        /// The name.
        name: ByteString,
    },
    /// A file that was asked for could not be written.
    #[error("cannot write {file}: {cause}")]
    Write {
        /// The file.
        file: ByteString,
        /// Why not.
        #[source]
        cause: io::Error,
    },
    /// The demo workstation could not be written.
    #[error(transparent)]
    Demo(#[from] whodunit_demo::WriteError),
    /// The results could not be written.
    #[error("cannot write the results: {0}")]
    Output(#[from] io::Error),
}

impl CliError {
    /// A mistake in the command line.
    pub fn usage(message: impl Into<String>) -> Self {
        CliError::Usage { message: message.into(), hint: None }
    }

    /// The error with a hint.
    #[must_use]
    pub fn with_hint(self, hint: impl Into<String>) -> Self {
        match self {
            CliError::Usage { message, .. } => CliError::Usage { message, hint: Some(hint.into()) },
            other => other,
        }
    }

    /// The hint: what the user can do about it.
    pub fn hint(&self) -> Option<&str> {
        match self {
            CliError::Usage { hint, .. } => hint.as_deref(),
            CliError::Directory { cause: FsError::Missing { .. }, option: "--root", .. } => {
                Some("is the disk mounted?")
            }
            CliError::Directory { cause: FsError::Denied { .. }, .. } => Some("try it as root"),
            CliError::NoCurrentDirectory => Some("change to another one, or give one with -C"),
            CliError::Output(error) | CliError::Write { cause: error, .. }
                if error.kind() == io::ErrorKind::StorageFull =>
            {
                Some("the disk is full")
            }
            CliError::Store(StoreError::Missing { .. }) => Some("whodunit fleet load makes one"),
            CliError::NoMachine { .. } => Some("whodunit fleet machines lists them"),
            CliError::NoSnapshot { .. } => Some("whodunit snapshot list shows those that are kept"),
            _ => None,
        }
    }

    /// The exit status that stands for it.
    pub fn exit_status(&self) -> u8 {
        match self {
            // A reader that has seen enough closes the pipe; that is no error.
            CliError::Output(error) if error.kind() == io::ErrorKind::BrokenPipe => status::ANSWERED,
            CliError::Output(_) | CliError::Write { .. } => status::OUTPUT,
            CliError::NoSnapshot { .. } | CliError::NoMachine { .. } => status::NOT_FOUND,
            // While it is loaded, the disk may fill up or the server go away.
            CliError::Store(StoreError::Failed { .. }) => status::OUTPUT,
            CliError::Demo(whodunit_demo::WriteError::Failed { .. }) => status::OUTPUT,
            _ => status::USAGE,
        }
    }

    /// Whether it is worth telling.
    pub fn is_silent(&self) -> bool {
        self.exit_status() == status::ANSWERED
    }
}

fn bad_directory(option: &str, place: &ByteString, cause: &FsError) -> String {
    match cause {
        FsError::Missing { .. } => format!("no such directory for {option}: {place}"),
        FsError::Denied { .. } => format!("permission denied for {option}: {place}"),
        other => format!("cannot use {place} for {option}: {other}"),
    }
}
