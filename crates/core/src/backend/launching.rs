//! Wrappers, shims, launchers, and the directories where a manager puts them.

use crate::bytes::ByteString;
use crate::model::{Evidence, ExecTarget};

/// The capability of a manager whose programs are started through files of its own, or lie outside the usual
/// directories.
pub trait Launching {
    /// The program that a file made by this manager starts, if that is not the file itself: a wrapper that starts an
    /// application, a shim that chooses a version.
    fn exec_target(&self, canonical: &[u8]) -> Option<ExecTarget> {
        let _ = canonical;
        None
    }

    /// The directories in which this manager puts programs, whether or not a search path contains them.
    fn program_dirs(&self) -> Vec<ByteString> {
        Vec::new()
    }

    /// Directories with nothing in them but what this manager puts there for its packages, and takes away with them.
    fn own_dirs(&self) -> Vec<ByteString> {
        Vec::new()
    }

    /// The data directories in which this manager puts launchers, each with what would make a session search it.
    fn launcher_dirs(&self) -> Vec<(ByteString, String)> {
        Vec::new()
    }

    /// The package whose application a command line starts through this manager's own program.
    fn started_by(&self, words: &[String]) -> Option<u32> {
        let _ = words;
        None
    }

    /// Applications that a user means by a command's name and that no search path reaches, each with the command that
    /// starts it.
    fn starts_as(&self, name: &[u8]) -> Vec<(u32, ByteString)> {
        let _ = name;
        Vec::new()
    }

    /// A note about a program of this package that was found at `path`.
    fn program_notes(&self, package: u32, path: &[u8]) -> Vec<Evidence> {
        let _ = (package, path);
        Vec::new()
    }
}
