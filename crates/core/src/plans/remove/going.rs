//! Which packages of an installation can go.

use hashbrown::HashSet;

use super::Key;
use crate::backend::Installation;
use crate::bytes::ByteString;
use crate::plans::build::Builder;
use crate::queries::CheckContext;
use crate::queries::impact::lost_by;
use crate::queries::space::freed_with;

/// Packages of one installation that go.
#[derive(Debug, Default)]
pub(super) struct Going {
    /// Those that are meant, and what cannot do without them where that is meant as well.
    pub(super) meant: Vec<u32>,
    /// What nothing needs then.
    pub(super) freed: Vec<u32>,
}

/// Names that are told of several before the others are only counted.
const MAX_NAMED: usize = 5;

impl Going {
    /// Of these packages those that can go; the plan says why of the others.
    pub(super) fn of(
        cx: &CheckContext<'_, '_>,
        plan: &mut Builder<'_, '_>,
        holder: u16,
        numbers: Vec<u32>,
        with_dependents: bool,
    ) -> Self {
        let survey = cx.survey;
        let held = &*survey.installations()[usize::from(holder)];
        let Some(relations) = held.relations() else { return Going { meant: numbers, freed: Vec::new() } };
        let dependents = if with_dependents { Dependents::Go } else { Dependents::MayGo };
        let mut meant = unbound(cx, plan, holder, numbers, dependents);
        if with_dependents {
            let along = relations.dependents(&meant).unwrap_or_default();
            meant.extend(along.into_iter().map(|(number, _)| number));
        }
        let freed = if meant.is_empty() { Vec::new() } else { freed(cx, plan, holder, &meant) };
        Going { meant, freed }
    }

    /// All of them.
    pub(super) fn keys(&self, holder: u16) -> impl Iterator<Item = Key> {
        self.meant.iter().chain(&self.freed).map(move |number| (holder, *number))
    }
}

/// What becomes of what cannot do without a package that is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Dependents {
    /// It goes as well.
    Go,
    /// It keeps the package, but the question could ask otherwise.
    MayGo,
    /// It keeps the package.
    Stay,
}

/// Of packages of one installation those that can go; the plan says why of the others.
pub(super) fn unbound(
    cx: &CheckContext<'_, '_>,
    plan: &mut Builder<'_, '_>,
    holder: u16,
    mut meant: Vec<u32>,
    dependents: Dependents,
) -> Vec<u32> {
    let held = &*cx.survey.installations()[usize::from(holder)];
    // What stays can need others of them, in turn.
    while let Some((number, says)) = meant.iter().find_map(|number| {
        let says = bound(cx, holder, *number, &meant, dependents)?;
        Some((*number, says))
    }) {
        plan.leave_open(held.owner(number).id, says);
        meant.retain(|other| *other != number);
    }
    meant
}

/// Why a package cannot go together with the others, if so.
fn bound(
    cx: &CheckContext<'_, '_>,
    holder: u16,
    number: u32,
    meant: &[u32],
    what_needs_it: Dependents,
) -> Option<String> {
    let survey = cx.survey;
    let held = &*survey.installations()[usize::from(holder)];
    let relations = held.relations()?;
    if let Some(evidence) = relations.protection(number) {
        return Some(format!("stays: {}", evidence.says));
    }
    if let Some((other, one)) = survey.dependents_elsewhere(holder, &[number]).first() {
        let owner = survey.installations()[usize::from(*other)].owner(one.package);
        return Some(format!("stays: {} needs it", owner.id));
    }
    let dependents = relations.dependents(&[number])?;
    let others: Vec<u32> = dependents.iter().map(|(other, _)| *other).filter(|other| !meant.contains(other)).collect();
    if others.is_empty() {
        return None;
    }
    if let Some(protected) = others.iter().find(|other| relations.protection(**other).is_some()) {
        return Some(format!("stays: {} needs it, and is not to be removed", held.owner(*protected).full_name()));
    }
    let verb = if others.len() == 1 { "needs" } else { "need" };
    let says = format!("stays: {} {verb} it", named(held, &others));
    match what_needs_it {
        Dependents::Go => None,
        Dependents::MayGo => Some(format!("{says} (--with-dependents removes what needs it)")),
        Dependents::Stay => Some(says),
    }
}

fn named(held: &dyn Installation, numbers: &[u32]) -> String {
    let mut names: Vec<String> =
        numbers.iter().take(MAX_NAMED).map(|number| held.owner(*number).full_name().to_string()).collect();
    if numbers.len() > MAX_NAMED {
        names.push(format!("{} more", numbers.len() - MAX_NAMED));
    }
    names.join(", ")
}

/// What nothing needs once these are gone, unless programs need it that no package records.
fn freed(cx: &CheckContext<'_, '_>, plan: &mut Builder<'_, '_>, holder: u16, meant: &[u32]) -> Vec<u32> {
    let survey = cx.survey;
    let held = &*survey.installations()[usize::from(holder)];
    let all: HashSet<u32> = meant.iter().copied().collect();
    let freed = freed_with(survey, holder, meant).unwrap_or_default();
    let mut freed: Vec<u32> = freed.into_iter().filter(|number| !all.contains(number)).collect();
    freed.sort_unstable();
    if freed.is_empty() {
        return freed;
    }
    let lost = |keys: &[Key]| {
        let own: HashSet<ByteString> = keys.iter().map(|(_, number)| held.owner(*number).id).collect();
        let lost = lost_by(cx, keys).into_iter();
        lost.filter(|one| one.owner.as_ref().is_none_or(|owner| !own.contains(&owner.id))).count()
    };
    let keys = |numbers: &[u32]| -> Vec<Key> { numbers.iter().map(|number| (holder, *number)).collect() };
    let together: Vec<u32> = meant.iter().chain(&freed).copied().collect();
    if lost(&keys(&together)) > lost(&keys(meant)) {
        let says = "came along with it, and stays: programs that no package records use it";
        plan.leave_open(named(held, &freed).as_str(), says);
        return Vec::new();
    }
    freed
}
