//! Self-contained environments of a language, and interpreters that another manager reserves for itself.

use crate::bytes::ByteString;
use crate::model::Evidence;

/// A self-contained environment of Python: a directory with modules of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Environment {
    /// Its directory.
    pub location: ByteString,
    /// Its directories of modules.
    pub dirs: Vec<ByteString>,
    /// The version of its interpreter: `3.11`.
    pub python: Option<ByteString>,
    /// That version in full, as it was when the environment was made.
    pub base: Option<ByteString>,
    /// Whether the modules of the system are imported as well.
    pub sees_system: bool,
    /// In whose home it lies.
    pub user: Option<ByteString>,
}

/// Packages that were installed into a directory which a marker reserves for another manager.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bypass {
    /// The directory.
    pub dir: ByteString,
    /// The marker.
    pub marker: Evidence,
    /// The numbers of the packages.
    pub packages: Vec<u32>,
}

/// The capability of a manager that fills environments.
pub trait Environments {
    /// The self-contained environments found here.
    fn environments(&self) -> Vec<Environment> {
        Vec::new()
    }

    /// Directories that a marker reserves for another manager, with the packages that are in them nevertheless.
    fn bypasses(&self) -> Vec<Bypass> {
        Vec::new()
    }
}
