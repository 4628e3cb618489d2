//! Packages that stand in a folder which another manager fills too: whose they are is decided by the
//! other's claims, once for each, and for all that are known by one look through the records.

use std::sync::{Mutex, PoisonError};

use hashbrown::{HashMap, HashSet};

use super::Survey;
use crate::claims::ClaimIndex;
use crate::model::Wanted;
use crate::text::{Text, path};

/// What is decided so far: by holder and number the settled record that another manager claims, or `None`
/// where nobody else does.
#[derive(Default)]
pub(super) struct Yielded(Mutex<HashMap<(u16, u32), Option<Text>>>);

/// Packages in doubt, each with its settled record.
type Doubts = Vec<((u16, u32), Text)>;

impl Survey<'_> {
    /// The claims that decide about these settled paths.
    #[must_use]
    pub fn claims<'p>(&self, paths: impl Iterator<Item = &'p [u8]>) -> ClaimIndex {
        // Managers that know their own places are asked about the folders first. The packages which they
        // have there, and which may be another's, are decided by the same look through the records.
        let (mut folders, mut names) = (HashSet::new(), HashSet::new());
        for path in paths {
            names.insert(path::name(path));
            if folders.insert(path::folder(path)) {
                self.claims_of_places(path::folder(path));
            }
        }
        let doubts = self.undecided();
        let of_doubts = doubts.iter().map(|(_, record)| path::name(record));
        let index = self.index(&Wanted::names(of_doubts.chain(names)));
        self.decide(doubts, &index);
        index
    }

    fn undecided(&self) -> Doubts {
        let decided = self.yielded.0.lock().unwrap_or_else(PoisonError::into_inner);
        let all = (0..).zip(self.holdings()).flat_map(|(holder, held)| {
            held.yields().into_iter().map(move |(number, record)| ((holder, number), record))
        });
        let open = all.filter(|(package, _)| !decided.contains_key(package));
        open.map(|(package, record)| (package, self.root().settle(&record))).collect()
    }

    fn decide(&self, doubts: Doubts, index: &ClaimIndex) {
        let answers = doubts.into_iter().map(|(package, record)| {
            let is_claimed = !index.on(self.root(), &record).is_empty();
            (package, is_claimed.then_some(record))
        });
        let answers: Vec<_> = answers.collect();
        self.yielded.0.lock().unwrap_or_else(PoisonError::into_inner).extend(answers);
    }

    fn decide_all(&self) {
        let doubts = self.undecided();
        if !doubts.is_empty() {
            let index = self.index(&Wanted::names(doubts.iter().map(|(_, record)| path::name(record))));
            self.decide(doubts, &index);
        }
    }

    /// Whether another manager put this package where it is.
    pub(crate) fn is_yielded(&self, holder: u16, number: u32) -> bool {
        if !self.holdings()[usize::from(holder)].may_yield(number) {
            return false;
        }
        let known = |survey: &Self| {
            let decided = survey.yielded.0.lock().unwrap_or_else(PoisonError::into_inner);
            decided.get(&(holder, number)).map(Option::is_some)
        };
        known(self).unwrap_or_else(|| {
            self.decide_all();
            known(self).unwrap_or(false)
        })
    }

    /// The records of this holder's packages that are another manager's.
    pub(super) fn yielded_of(&self, holder: u16) -> Vec<Text> {
        if self.holdings()[usize::from(holder)].yields().is_empty() {
            return Vec::new();
        }
        self.decide_all();
        let decided = self.yielded.0.lock().unwrap_or_else(PoisonError::into_inner);
        let of_holder = decided.iter().filter(|((other, _), _)| *other == holder);
        of_holder.filter_map(|(_, record)| record.clone()).collect()
    }
}
