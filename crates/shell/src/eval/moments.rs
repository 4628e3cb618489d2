//! When aliases count.

use std::collections::BTreeMap;

/// When commands, functions and aliases came about, as the number of complete commands that were taken apart by then.
/// A shell puts aliases in where it takes commands apart: one that is made later does not count.
#[derive(Debug, Default)]
pub(super) struct Moments {
    /// When what is followed was taken apart.
    pub now: u32,
    pub last: u32,
    pub aliases: BTreeMap<Vec<u8>, u32>,
    /// Aliases that were taken away, or made anew: what was taken apart before may still have them.
    pub dropped: BTreeMap<Vec<u8>, u32>,
    pub functions: BTreeMap<Vec<u8>, u32>,
}
