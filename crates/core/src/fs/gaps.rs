//! What could not be read, and what was not the same any more afterwards.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::{Gap, Meta};
use crate::bytes::{ByteString, path, shown};

/// The gaps of a tree. A disk can have a million directories that are closed, so none is looked for among all.
#[derive(Debug, Default)]
pub struct Gaps(Mutex<Kept>);

#[derive(Debug, Default)]
struct Kept {
    /// By path, each with its place in the order of discovery. No path lies within another.
    by_path: BTreeMap<ByteString, (usize, String)>,
    discovered: usize,
    /// Records that were read, as they were then.
    records: Vec<(ByteString, Meta)>,
}

impl Gaps {
    fn kept(&self) -> MutexGuard<'_, Kept> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// In the order of their discovery.
    pub fn list(&self) -> Vec<Gap> {
        let kept = self.kept();
        let mut gaps: Vec<(usize, Gap)> = kept
            .by_path
            .iter()
            .map(|(path, (order, reason))| (*order, Gap { path: path.clone(), reason: reason.clone() }))
            .collect();
        gaps.sort_by_key(|(order, _)| *order);
        gaps.into_iter().map(|(_, gap)| gap).collect()
    }

    /// Remembers that something could not be read. What lies within a known gap adds nothing.
    pub fn note(&self, at: &[u8], reason: String) {
        let mut kept = self.kept();
        let mut above = Some(at);
        while let Some(dir) = above {
            if kept.by_path.contains_key(dir) {
                return;
            }
            above = Some(path::parent(dir)).filter(|parent| parent.len() < dir.len());
        }
        let below = path::join(at, b"");
        let within: Vec<ByteString> = kept
            .by_path
            .range(below..)
            .map(|(path, _)| path.clone())
            .take_while(|known| path::within(known, at))
            .collect();
        within.iter().for_each(|known| {
            kept.by_path.remove(known);
        });
        tracing::debug!(path = %shown(at), reason, "could not be read");
        let order = kept.discovered;
        kept.discovered += 1;
        kept.by_path.insert(at.into(), (order, reason));
    }

    /// Remembers how a record was when it was read.
    pub fn watch(&self, record: &[u8], meta: Meta) {
        self.kept().records.push((record.into(), meta));
    }

    /// The records that were read, as they were then.
    pub fn watched(&self) -> Vec<(ByteString, Meta)> {
        self.kept().records.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_gap_takes_in_what_lies_within_it_and_the_order_is_that_of_discovery() {
        let gaps = Gaps::default();
        // `/b-c` stands between `/b` and `/b/x` in the order of bytes, and lies within neither.
        for path in ["/b/x/y", "/b-c", "/a", "/b/x/z", "/b/x", "/b/x/y", "/b", "/a/deep", "/b/x"] {
            gaps.note(path.as_bytes(), format!("{path} is closed"));
        }
        let told: Vec<String> = gaps.list().iter().map(|gap| format!("{}: {}", gap.path, gap.reason)).collect();
        assert_eq!(told, ["/b-c: /b-c is closed", "/a: /a is closed", "/b: /b is closed"]);
        gaps.note(b"/", "all is closed".to_owned());
        gaps.note(b"/c", "later".to_owned());
        assert_eq!(gaps.list().len(), 1);
    }
}
