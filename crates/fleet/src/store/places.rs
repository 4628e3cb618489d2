//! The places of packages and offers: small numbers in the order in which they came, by which whole lists are packed.

use hashbrown::HashMap;

use crate::rows::{List, SnapshotRows};
use crate::tables::Entity;
use crate::value::Row;

/// The statement that tells which places there are from one on.
pub(super) const PLACES_FROM: &str = "SELECT place, item FROM places WHERE place >= $1";

/// What a loader knows of the places.
#[derive(Debug, Default)]
pub(super) struct Places {
    of: HashMap<i64, i64>,
    next: i64,
}

impl Places {
    /// The first place that is not known to be taken.
    pub fn next(&self) -> i64 {
        self.next
    }

    /// Takes in what another loader has written: rows of `places`.
    pub fn learn(&mut self, rows: impl IntoIterator<Item = Row>) {
        for row in rows {
            self.of.insert(row[1].int(), row[0].int());
            self.next = self.next.max(row[0].int() + 1);
        }
    }

    /// Gives a place to whatever has none. The rows of `places` that are to be written.
    pub fn give(&mut self, batch: &[SnapshotRows]) -> Vec<Row> {
        let mut new = Vec::new();
        let lists = batch.iter().flat_map(|one| &one.lists).filter(|list| is_packed(list));
        for member in lists.flat_map(|list| &list.members) {
            let item = member[1].int();
            if !self.of.contains_key(&item) {
                self.of.insert(item, self.next);
                new.push(vec![self.next.into(), item.into()]);
                self.next += 1;
            }
        }
        new
    }

    /// The rows of `packed_lists` of a batch whose items have places.
    pub fn packed(&self, batch: &[SnapshotRows]) -> Vec<Row> {
        let lists = batch.iter().flat_map(|one| &one.lists).filter(|list| is_packed(list));
        lists.map(|list| vec![list.number.into(), self.pack(list).into()]).collect()
    }

    fn pack(&self, list: &List) -> Vec<u8> {
        let place = |member: &Row| self.of.get(&member[1].int()).copied();
        let mut places: Vec<i64> = list.members.iter().filter_map(place).collect();
        places.sort_unstable();
        pack(&places)
    }
}

/// Whether there is a row of `packed_lists` for a list: only what is compared as a whole is packed.
fn is_packed(list: &List) -> bool {
    matches!(list.entity, Entity::Packages | Entity::Offers)
}

/// Ascending numbers, each as its difference from the one before it: seven bits a byte, the lowest first, the eighth
/// set where more follow (LEB128).
fn pack(places: &[i64]) -> Vec<u8> {
    let (mut packed, mut last) = (Vec::with_capacity(places.len() * 2), 0);
    for place in places {
        let mut rest = place.abs_diff(last);
        last = *place;
        while rest >= 0x80 {
            packed.push((rest & 0x7f) as u8 | 0x80);
            rest >>= 7;
        }
        packed.push(rest as u8);
    }
    packed
}

/// The places of a packed list, into `places`. What is no such list ends where it can no longer be read.
pub(super) fn unpack(packed: &[u8], places: &mut Vec<usize>) {
    places.clear();
    let (mut last, mut rest, mut shift) = (0_usize, 0_usize, 0);
    for byte in packed {
        rest |= usize::from(byte & 0x7f) << shift;
        shift += 7;
        if byte & 0x80 == 0 {
            let Some(place) = last.checked_add(rest) else { return };
            places.push(place);
            (last, rest, shift) = (place, 0, 0);
        } else if shift >= usize::BITS - 7 {
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::Value;

    #[test]
    fn places_are_read_as_they_were_packed_and_anything_else_ends() {
        let places = [0, 1, 2, 127, 128, 300, 70_000, 70_001, 5_000_000_000];
        let mut read = Vec::new();
        unpack(&pack(&places), &mut read);
        assert_eq!(read.iter().map(|place| Value::from(*place).int()).collect::<Vec<_>>(), places);
        assert_eq!(pack(&[0, 1, 2]).len(), 3);
        unpack(&[0x05, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x01], &mut read);
        assert_eq!(read, [5]);
        unpack(&[], &mut read);
        assert_eq!(read, [0_usize; 0]);
    }
}
