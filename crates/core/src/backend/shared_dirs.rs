//! Directories that two managers fill.

use crate::bytes::ByteString;

/// The capability of a manager that finds packages in directories which another manager fills as well. Which of them
/// put a package there is decided by the other's claims.
pub trait SharedDirs {
    /// The packages that may be another manager's, each with the path of its own record: if the other manager claims
    /// that path, the package is the other's.
    fn foreign_packages(&self) -> Vec<(u32, ByteString)>;

    /// Whether the package is among those of [`SharedDirs::foreign_packages`].
    fn may_be_foreign(&self, package: u32) -> bool;

    /// Whether the package lies in a directory in which the other manager keeps its own, so that this manager's command
    /// does not remove it there, or removes the other's files with it.
    fn is_among_others(&self, package: u32) -> bool {
        let _ = package;
        false
    }
}
