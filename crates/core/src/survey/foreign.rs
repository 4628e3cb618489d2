//! Packages that stand in a directory which another manager fills too: whose they are is decided by the
//! other's claims, once for each, and for all that are known by one look through the records.

use std::sync::{Mutex, OnceLock, PoisonError};

use hashbrown::{HashMap, HashSet};

use super::Survey;
use crate::backend::SharedDirs;
use crate::bytes::{ByteString, path};
use crate::index::{ClaimIndex, FoundClaim};
use crate::model::{Claimant, NameFilter};

/// Decisions so far: by holder and number, the canonical record that another manager claims, or `None`
/// where nobody else does.
#[derive(Default)]
pub(super) struct ForeignPackages {
    decided: Mutex<HashMap<(u16, u32), Option<ByteString>>>,
    /// The installations that share directories at all.
    sharing: OnceLock<Vec<u16>>,
}

/// Packages uncertain, each with its canonical record.
type Undecided = Vec<((u16, u32), ByteString)>;

impl Survey<'_> {
    /// The claims that decide about these canonical paths.
    #[must_use]
    pub fn claims<'p>(&self, paths: impl Iterator<Item = &'p [u8]>) -> ClaimIndex {
        // Managers that know their own places are asked about the directories first. The packages which they
        // have there, and which may be another's, are decided by the same look through the records.
        let (mut dirs, mut names) = (HashSet::new(), HashSet::new());
        for path in paths {
            names.insert(path::name(path));
            if dirs.insert(path::parent(path)) {
                self.claims_of_places(path::parent(path));
            }
        }
        let unknowns = self.undecided();
        let of_undecided = unknowns.iter().map(|(_, record)| path::name(record));
        let index = self.index(&NameFilter::names(of_undecided.chain(names)));
        self.decide(unknowns, &index);
        index
    }

    fn undecided(&self) -> Undecided {
        let decided = self.foreign.decided.lock().unwrap_or_else(PoisonError::into_inner);
        let sharing = self.foreign.sharing.get_or_init(|| {
            let numbered = (0..).zip(self.installations());
            numbered.filter(|(_, held)| held.shared_dirs().is_some()).map(|(holder, _)| holder).collect()
        });
        let all = sharing.iter().flat_map(|&holder| {
            self.installations()[usize::from(holder)]
                .shared_dirs()
                .map(SharedDirs::foreign_packages)
                .unwrap_or_default()
                .into_iter()
                .map(move |(number, record)| ((holder, number), record))
        });
        let open = all.filter(|(package, _)| !decided.contains_key(package));
        open.map(|(package, record)| (package, self.root().canonicalize(&record))).collect()
    }

    fn decide(&self, unknowns: Undecided, index: &ClaimIndex) {
        let answers = unknowns.into_iter().map(|(package, record)| {
            let is_claimed = !index.on(self.root(), &record).is_empty() || self.has_same_tree(package, &record);
            (package, is_claimed.then_some(record))
        });
        let answers: Vec<_> = answers.collect();
        self.foreign.decided.lock().unwrap_or_else(PoisonError::into_inner).extend(answers);
    }

    /// Whether another manager has for its own exactly the tree of this package.
    fn has_same_tree(&self, (holder, number): (u16, u32), record: &[u8]) -> bool {
        let claims = self.claims_of_places(record);
        let is_own = |claim: &&FoundClaim| claim.holder == holder && claim.claimant == Claimant::Package(number);
        let own = claims.iter().find(is_own).filter(|claim| claim.on_tree);
        own.is_some_and(|own| claims.iter().any(|other| other.holder != holder && other.path == own.path))
    }

    fn decide_all(&self) {
        let unknowns = self.undecided();
        if !unknowns.is_empty() {
            let index = self.index(&NameFilter::names(unknowns.iter().map(|(_, record)| path::name(record))));
            self.decide(unknowns, &index);
        }
    }

    /// Whether another manager put this package where it is.
    pub(crate) fn is_foreign(&self, holder: u16, number: u32) -> bool {
        let shared = self.installations()[usize::from(holder)].shared_dirs();
        if !shared.is_some_and(|shared| shared.may_be_foreign(number)) {
            return false;
        }
        let known = |survey: &Self| {
            let decided = survey.foreign.decided.lock().unwrap_or_else(PoisonError::into_inner);
            decided.get(&(holder, number)).map(Option::is_some)
        };
        known(self).unwrap_or_else(|| {
            self.decide_all();
            known(self).unwrap_or(false)
        })
    }

    /// The records of this holder's packages that are another manager's.
    pub(super) fn foreign_of(&self, holder: u16) -> Vec<ByteString> {
        let shared = self.installations()[usize::from(holder)].shared_dirs();
        if shared.is_none_or(|shared| shared.foreign_packages().is_empty()) {
            return Vec::new();
        }
        self.decide_all();
        let decided = self.foreign.decided.lock().unwrap_or_else(PoisonError::into_inner);
        let of_holder = decided.iter().filter(|((other, _), _)| *other == holder);
        of_holder.filter_map(|(_, record)| record.clone()).collect()
    }
}
