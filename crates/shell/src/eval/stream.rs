//! What commands read.

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::UnknownId;

/// What a command reads.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Input {
    /// Shared: it is kept wherever ways part.
    pub text: Arc<Vec<u8>>,
    /// The position in it.
    pub at: usize,
    /// Doubts about it.
    pub taints: BTreeSet<UnknownId>,
}
