//! Which package is meant: by its name, or by its id.

use std::sync::{Arc, Mutex, PoisonError};

use hashbrown::HashMap;

use super::Survey;
use crate::backend::{Detail, Installation};
use crate::bytes::{ByteString, path};
use crate::model::{Owner, Remedy};

/// So often the packages of a manager are looked through for one with an id. Most questions ask for one or two, and to
/// index all takes as long as to look through them ten times.
const SCANS: usize = 16;

/// Holder and number of a package.
type Place = (u16, u32);

/// The packages of each manager by their ids, from the time on when many are asked for: a check asks for one package of
/// each finding, and both can be many.
#[derive(Debug, Default)]
pub(super) struct Ids(Mutex<HashMap<ByteString, OfManager>>);

#[derive(Debug, Default)]
struct OfManager {
    asked: usize,
    index: Option<Arc<HashMap<ByteString, Place>>>,
}

impl Ids {
    /// The place of an id: `look` finds it among all, `all` has each.
    fn find(
        &self,
        id: &ByteString,
        manager: &[u8],
        all: impl FnOnce() -> HashMap<ByteString, Place>,
        look: impl FnOnce() -> Option<Place>,
    ) -> Option<Place> {
        let lock = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let (asked, index) = {
            let mut managers = lock();
            let of_manager = managers.entry(manager.into()).or_default();
            of_manager.asked += 1;
            (of_manager.asked, of_manager.index.clone())
        };
        if let Some(index) = index {
            return index.get(id).copied();
        }
        if asked <= SCANS {
            return look();
        }
        // Reading asks other questions: nothing is locked meanwhile.
        let index = Arc::new(all());
        let found = index.get(id).copied();
        lock().entry(manager.into()).or_default().index = Some(index);
        found
    }
}

impl<'s> Survey<'s> {
    /// The packages that a user means by `name`: holder and number.
    #[must_use]
    pub fn named(&self, name: &[u8]) -> Vec<(&dyn Installation, u32)> {
        let found = self.numbered(name).into_iter();
        found.map(|(holder, number)| (&*self.installations()[usize::from(holder)], number)).collect()
    }

    /// The same, by the holder's number.
    #[must_use]
    pub fn numbered(&self, name: &[u8]) -> Vec<(u16, u32)> {
        let all = (0..).zip(self.installations());
        let named: Vec<(u16, u32)> =
            all.flat_map(|(holder, held)| held.named(name).into_iter().map(move |number| (holder, number))).collect();
        named.into_iter().filter(|(holder, number)| !self.is_foreign(*holder, *number)).collect()
    }

    /// The commands with which a package's own manager acts on it, the safest first.
    #[must_use]
    pub fn remedies_of(&self, owner: &Owner) -> Vec<Remedy> {
        self.remedies_by_id(&owner.name, &owner.id)
    }

    /// The same of the package with this name and id.
    #[must_use]
    pub fn remedies_by_id(&self, name: &[u8], id: &ByteString) -> Vec<Remedy> {
        let found = self.with_id(name, id);
        found.map(|(held, number)| self.remedies_within(held, number)).unwrap_or_default()
    }

    /// The package with an id; its name is where to look first.
    #[must_use]
    pub fn with_id(&self, name: &[u8], id: &ByteString) -> Option<(&dyn Installation, u32)> {
        let manager = id.split(|&b| b == b'/').next().unwrap_or_default();
        let place = self.ids.find(
            id,
            manager,
            || self.all_ids(manager),
            || {
                let of_manager = self.of_manager(manager);
                let named = of_manager
                    .flat_map(|(holder, held)| held.named(name).into_iter().map(move |at| (holder, held, at)));
                let mut same = named.filter(|(_, held, number)| held.owner(*number).id == *id);
                let found = same.find(|(holder, _, number)| !self.is_foreign(*holder, *number));
                let found = found.map(|(holder, _, number)| (holder, number));
                found.or_else(|| self.by_name_or_id(id).into_iter().next())
            },
        );
        place.map(|(holder, number)| (&*self.installations()[usize::from(holder)], number))
    }

    /// The packages of a manager by their ids.
    fn all_ids(&self, manager: &[u8]) -> HashMap<ByteString, (u16, u32)> {
        let mut ids = HashMap::new();
        for (holder, held) in self.of_manager(manager) {
            for (number, package) in held.numbered(Detail::default()) {
                if !self.is_foreign(holder, number) {
                    ids.entry(package.id).or_insert((holder, number));
                }
            }
        }
        ids
    }

    /// The installations of a manager, numbered as in [`FoundClaim::holder`](crate::index::FoundClaim::holder).
    fn of_manager(&self, manager: &[u8]) -> impl Iterator<Item = (u16, &dyn Installation)> {
        let all = (0..).zip(self.installations());
        all.map(|(holder, held)| (holder, &**held))
            .filter(move |(_, held)| held.location().manager.0.as_bytes() == manager)
    }

    /// The packages with this name, or the one with this id: holder and number.
    #[must_use]
    pub fn by_name_or_id(&self, word: &[u8]) -> Vec<(u16, u32)> {
        let named = self.numbered(word);
        if !named.is_empty() {
            return named;
        }
        // An id ends in the name, or in the name and more.
        let parts: Vec<&[u8]> = word.splitn(3, |&b| b == b'/').collect();
        let Some(tail) = parts.get(2) else { return Vec::new() };
        // That of a path of a store has the hash before the name.
        let stored = path::name(tail);
        let stored = if stored.get(32) == Some(&b'-') { &stored[33..] } else { &[] };
        let starts = |tail: &[u8]| -> Vec<usize> {
            let is_end = |end: &usize| *end == tail.len() || matches!(tail[*end], b'/' | b':' | b'.' | b'-');
            (1..=tail.len()).filter(is_end).collect()
        };
        let names = [*tail, stored].into_iter().flat_map(|tail| starts(tail).into_iter().map(move |end| &tail[..end]));
        let mut found: Vec<(u16, u32)> = names.flat_map(|name| self.numbered(name)).collect();
        found.retain(|(holder, number)| *self.installations()[usize::from(*holder)].owner(*number).id == *word);
        found.dedup();
        if found.is_empty() {
            // A scope can be a path, and what stands behind it a path instead of a name: of that manager all are compared.
            found.extend(self.of_manager(parts[0]).flat_map(|(holder, held)| {
                let same = held.numbered(Detail::default()).into_iter().filter(|(_, package)| *package.id == *word);
                same.map(move |(number, _)| (holder, number)).collect::<Vec<_>>()
            }));
            found.retain(|(holder, number)| !self.is_foreign(*holder, *number));
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_id_is_found_alike_however_often_it_is_asked_for() {
        let known = [("dpkg/system/quay", (0, 1)), ("dpkg/system/ferry", (0, 0)), ("dpkg/system/quay", (0, 2))];
        let ids = Ids::default();
        let look = |id: &str| known.iter().find(|(known, _)| *known == id).map(|(_, place)| *place);
        let all = || {
            let mut all = HashMap::new();
            for (id, place) in known {
                all.entry(ByteString::from(id)).or_insert(place);
            }
            all
        };
        for question in 0..3 * SCANS {
            for (id, place) in [("dpkg/system/quay", Some((0, 1))), ("dpkg/system/mole", None)] {
                assert_eq!(ids.find(&id.into(), b"dpkg", all, || look(id)), place, "{id}, question {question}");
            }
        }
    }
}
