//! What was recorded of each file.

use crate::model::{Depth, FileRecord, Remedy};

/// The packages whose records are read together.
pub const BATCH: usize = 128;

/// Those of `count` packages that are wanted, in the order of their numbers.
#[must_use]
pub fn wanted(count: usize, packages: Option<&[u32]>) -> Vec<u32> {
    let count = u32::try_from(count).unwrap_or(u32::MAX);
    match packages {
        None => (0..count).collect(),
        Some(packages) => {
            let mut wanted: Vec<u32> = packages.iter().copied().filter(|number| *number < count).collect();
            wanted.sort_unstable();
            wanted.dedup();
            wanted
        }
    }
}

/// The capability of a manager that records what its files should be.
pub trait FileRecords {
    /// Gives what is recorded of each file of these packages, or of all, to `take`: the records of some packages at a
    /// time, those of one package together, so that those of a whole machine are never in memory at once. For [`Depth::Presence`] only the paths need
    /// be filled in.
    fn each_batch(&self, packages: Option<&[u32]>, depth: Depth, take: &mut dyn FnMut(Vec<FileRecord>));

    /// The records of a few packages at once.
    fn file_records(&self, packages: &[u32], depth: Depth) -> Vec<FileRecord> {
        let mut all = Vec::new();
        self.each_batch(Some(packages), depth, &mut |batch| all.extend(batch));
        all
    }

    /// The command that restores a package's own files.
    fn restore(&self, package: u32) -> Option<Remedy> {
        let _ = package;
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn those_that_are_wanted_come_once_and_in_order() {
        for (count, packages, expected) in [
            (3, None, &[0, 1, 2][..]),
            (3, Some(&[2, 0, 2][..]), &[0, 2]),
            (3, Some(&[7, 1]), &[1]),
            (3, Some(&[]), &[]),
            (0, None, &[]),
        ] {
            assert_eq!(wanted(count, packages), expected, "{packages:?} of {count}");
        }
    }
}
