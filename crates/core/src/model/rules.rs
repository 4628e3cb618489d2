//! User-defined rules about which packages are the same software.

use crate::bytes::ByteString;

/// Which of two packages a user said to be the same, or not: `MANAGER:NAME`, or a name for every manager.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Rules {
    /// Each list is one title.
    pub same: Vec<Vec<ByteString>>,
    /// No two of a list are one title.
    pub different: Vec<Vec<ByteString>>,
}
