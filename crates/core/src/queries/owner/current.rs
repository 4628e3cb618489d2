//! Who keeps the owners current.

use super::Answer;
use crate::bytes::ByteString;
use crate::model::{ManagerId, Owner};
use crate::queries::keeping::Keeping;
use crate::survey::Survey;

/// What the sources of some owners offer.
pub(super) struct Offered<'k, 's> {
    keeping: Keeping<'k, 's>,
    managers: Vec<ManagerId>,
    names: Vec<ByteString>,
}

impl<'k, 's> Offered<'k, 's> {
    /// Reads it, where there is an owner at all.
    pub(super) fn of<'o>(survey: &'k Survey<'s>, owners: impl IntoIterator<Item = &'o Owner>) -> Option<Self> {
        let (managers, mut names): (Vec<ManagerId>, Vec<ByteString>) =
            owners.into_iter().map(|owner| (owner.manager, owner.name.clone())).unzip();
        names.sort_unstable();
        names.dedup();
        if names.is_empty() {
            return None;
        }
        Some(Offered { keeping: Keeping::of(survey, &managers, &names), managers, names })
    }

    /// Whether it tells of this owner.
    fn covers(&self, owner: &Owner) -> bool {
        self.managers.contains(&owner.manager) && self.names.binary_search(&owner.name).is_ok()
    }
}

/// Adds who keeps the owners current, by what was read before where that tells of all of them.
pub(super) fn add<'s>(survey: &Survey<'s>, answers: &mut [Vec<Answer>], before: Option<Offered<'_, 's>>) {
    let owned = || answers.iter().flatten().filter_map(|answer| answer.owner.as_ref());
    let before = before.filter(|offered| owned().all(|owner| offered.covers(owner)));
    let Some(offered) = before.or_else(|| Offered::of(survey, owned())) else { return };
    for answer in answers.iter_mut().flatten() {
        answer.upkeep = answer.owner.as_ref().and_then(|owner| offered.keeping.of_owner(owner));
    }
}
