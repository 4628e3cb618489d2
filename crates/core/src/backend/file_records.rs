//! What was recorded of each file.

use crate::model::{Depth, FileRecord, Remedy};

/// The capability of a manager that records what its files should be.
pub trait FileRecords {
    /// What is recorded of each file of these packages, or of all. For [`Depth::Presence`] only the paths need be
    /// filled in.
    fn file_records(&self, packages: Option<&[u32]>, depth: Depth) -> Vec<FileRecord>;

    /// The command that restores a package's own files.
    fn restore(&self, package: u32) -> Option<Remedy> {
        let _ = package;
        None
    }
}
