//! Places on a disk that several files have: each is counted once, whosever the files are.

use std::collections::BTreeMap;
use std::ops::Range;

use hashbrown::HashMap;

use crate::fs::SharedExtent;

/// Device, and whether the content is compressed.
type Device = (u64, bool);

/// Places of files, each with the number of a file.
#[derive(Debug, Default)]
pub(super) struct Extents {
    all: Vec<(SharedExtent, u32)>,
}

impl Extents {
    /// A file has these.
    pub(super) fn add(&mut self, file: u32, extents: Vec<SharedExtent>) {
        self.all.extend(extents.into_iter().filter(|one| !one.place.is_empty()).map(|one| (one, file)));
    }

    /// Hands each stretch that the same files have to `visit`: the files, each once, its bytes, and whether whoever shares
    /// it is none of these files: nothing of an extent that is shared was met in another one.
    pub(super) fn each_stretch(&self, visit: &mut dyn FnMut(&[u32], u64, bool)) {
        // At one place ends come before starts.
        let mut edges: Vec<(Device, u64, bool, u32)> = Vec::with_capacity(2 * self.all.len());
        for (SharedExtent { device, place }, file) in &self.all {
            edges.push((*device, place.start, true, *file));
            edges.push((*device, place.end, false, *file));
        }
        edges.sort_unstable();
        let mut open: HashMap<u32, u32> = HashMap::new();
        // The stretches of extents that overlap, up to the place where none does.
        let mut together: Vec<(Vec<u32>, u64)> = Vec::new();
        let mut from = 0;
        for (_, at, is_start, file) in edges {
            if !open.is_empty() && at > from {
                let mut files: Vec<u32> = open.keys().copied().collect();
                files.sort_unstable();
                together.push((files, at - from));
            }
            from = at;
            let count = open.entry(file).or_default();
            *count = if is_start { *count + 1 } else { *count - 1 };
            if *count == 0 {
                open.remove(&file);
            }
            if open.is_empty() {
                let only = together.first().and_then(|(files, _)| files.first()).copied();
                let is_alone = together.iter().all(|(files, _)| files.iter().all(|file| Some(*file) == only));
                together.drain(..).for_each(|(files, bytes)| visit(&files, bytes, is_alone));
            }
        }
    }

    /// All of it, to count further files against.
    pub(super) fn covered(&self) -> Covered {
        let mut covered = Covered::default();
        for (extent, _) in &self.all {
            covered.add(extent);
        }
        covered
    }
}

/// Stretches of disks that have been counted.
#[derive(Debug, Clone, Default)]
pub(super) struct Covered {
    /// Start → end; none overlap.
    stretches: BTreeMap<(Device, u64), u64>,
}

impl Covered {
    /// Counts this one too, and tells how many bytes of it had been counted before.
    pub(super) fn add(&mut self, extent: &SharedExtent) -> u64 {
        let SharedExtent { device, place: Range { start, end } } = extent;
        let before = self.stretches.range(..=(*device, *start)).next_back();
        let first = before.filter(|((at, _), to)| at == device && **to > *start).map_or(*start, |((_, from), _)| *from);
        let touched: Vec<(u64, u64)> =
            self.stretches.range((*device, first)..(*device, *end)).map(|((_, from), to)| (*from, *to)).collect();
        let (mut known, mut merged) = (0, *start..*end);
        for (from, to) in touched {
            known += to.min(*end) - from.max(*start);
            merged = merged.start.min(from)..merged.end.max(to);
            self.stretches.remove(&(*device, from));
        }
        self.stretches.insert((*device, merged.start), merged.end);
        known
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn extent(place: Range<u64>) -> SharedExtent {
        SharedExtent { device: (1, false), place }
    }

    fn stretches(files: &[(u32, Range<u64>)]) -> Vec<(Vec<u32>, u64, bool)> {
        let mut extents = Extents::default();
        files.iter().for_each(|(file, place)| extents.add(*file, vec![extent(place.clone())]));
        let mut found = Vec::new();
        extents.each_stretch(&mut |files, bytes, is_alone| found.push((files.to_vec(), bytes, is_alone)));
        found
    }

    #[test]
    fn each_stretch_is_told_once_with_all_of_its_files() {
        assert_eq!(stretches(&[(1, 0..10), (2, 0..10)]), [(vec![1, 2], 10, false)]);
        // One copy was changed in its middle: what the other one has there alone is of an extent that they share.
        let files = [(1, 0..30), (2, 0..10), (2, 20..30)];
        let all = [(vec![1, 2], 10, false), (vec![1], 10, false), (vec![1, 2], 10, false)];
        assert_eq!(stretches(&files), all);
        // A file can have a place twice, and nothing lies between two places.
        assert_eq!(stretches(&[(1, 0..10), (1, 0..10), (1, 50..60)]), [(vec![1], 10, true), (vec![1], 10, true)]);
        assert_eq!(stretches(&[(1, 5..5)]), []);
        let mut far = Extents::default();
        far.add(1, vec![extent(10..20), SharedExtent { device: (2, false), place: 0..5 }]);
        let mut bytes = 0;
        far.each_stretch(&mut |_, more, _| bytes += more);
        assert_eq!(bytes, 15);
    }

    proptest::proptest! {
        #[test]
        fn what_is_covered_is_what_is_in_any_of_them(places: Vec<(u8, u8)>) {
            let mut covered = Covered::default();
            let mut bytes: std::collections::BTreeSet<u64> = Default::default();
            for (start, length) in places {
                let place = u64::from(start)..u64::from(start) + u64::from(length);
                let known = place.clone().filter(|byte| bytes.contains(byte)).count() as u64;
                if !place.is_empty() {
                    proptest::prop_assert_eq!(covered.add(&extent(place.clone())), known);
                }
                bytes.extend(place);
            }
            let all: u64 = covered.stretches.iter().map(|((_, from), to)| to - from).sum();
            proptest::prop_assert_eq!(all, bytes.len() as u64);
        }
    }
}
