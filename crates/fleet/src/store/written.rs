//! Which rows a loader has written: those of all machines alike are not sent again and again.

use hashbrown::HashSet;

/// How many rows are remembered to be there already; then they are forgotten and tried again.
const MAX_REMEMBERED: usize = 2_000_000;

/// Rows of entities, by their numbers.
#[derive(Debug, Default)]
pub(super) struct Written {
    there: HashSet<i64>,
    /// Those of the transaction that has not ended.
    pending: HashSet<i64>,
}

impl Written {
    /// Begins a transaction. What was written in one that failed is not there.
    pub fn begin(&mut self) {
        self.pending.clear();
        if self.there.len() > MAX_REMEMBERED {
            self.there.clear();
        }
    }

    /// Whether a row is known to be there.
    pub fn is_there(&self, number: i64) -> bool {
        self.there.contains(&number)
    }

    /// Whether a row is yet to be written, which it then is.
    pub fn is_new(&mut self, number: i64) -> bool {
        !self.is_there(number) && self.pending.insert(number)
    }

    /// The transaction has ended well.
    pub fn keep(&mut self) {
        self.there.extend(self.pending.drain());
    }
}
