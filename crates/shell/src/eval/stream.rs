//! What commands read.

use std::collections::BTreeSet;

use crate::UnknownId;

/// What a command reads.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Input {
    pub text: Vec<u8>,
    /// The position in it.
    pub at: usize,
    /// Doubts about it.
    pub taints: BTreeSet<UnknownId>,
}
