//! A list, what the filter lets through, and which line is chosen.

use super::facts::Item;

/// A list that was read.
#[derive(Debug, Default)]
pub struct List {
    pub items: Vec<Item>,
    /// The places of those that the filter lets through.
    pub passing: Vec<usize>,
    pub chosen: usize,
    pub filter: String,
}

impl List {
    /// Applies the filter.
    pub fn sift(&mut self) {
        let lower = self.filter.to_lowercase();
        let items = self.items.iter().enumerate();
        self.passing = items.filter(|(_, item)| item.has(&lower)).map(|(at, _)| at).collect();
        self.chosen = self.chosen.min(self.passing.len().saturating_sub(1));
    }
}
