//! Packages that are removed because that mends something: one by one, and nothing along with them.

use hashbrown::HashSet;

use super::going::{Dependents, unbound};
use super::{Command, Key, commands, dependents_first, in_order};
use crate::model::{Remedy, RemedyKind};
use crate::plans::build::Builder;
use crate::queries::CheckContext;
use crate::queries::take_out::{is_among_distributions, take_out};
use crate::survey::Survey;

/// What a remedy removes, and with which commands.
pub(in crate::plans) struct Mending<'a> {
    /// Its parts in their order, each with the package that it removes, if that is what it does.
    parts: Vec<(&'a Remedy, Option<Key>)>,
}

impl<'a> Mending<'a> {
    /// What a remedy does with these packages.
    pub(in crate::plans) fn of(survey: &Survey<'_>, remedy: &'a Remedy, packages: &[Key]) -> Self {
        let whole = removes(survey, remedy, packages);
        let parts = match (&remedy.parts[..], whole) {
            (parts @ [_, ..], None) => parts.iter().map(|part| (part, removes(survey, part, packages))).collect(),
            _ => vec![(remedy, whole)],
        };
        Mending { parts }
    }

    /// The packages that go.
    pub(in crate::plans) fn removed(&self) -> impl Iterator<Item = Key> {
        self.parts.iter().filter_map(|(_, key)| *key)
    }

    /// Adds its steps: a removal with what tells beforehand whether it removes this package and no other.
    pub(in crate::plans) fn add(
        &self,
        cx: &CheckContext<'_, '_>,
        plan: &mut Builder<'_, '_>,
        why: &str,
        going: &HashSet<Key>,
    ) {
        for (part, key) in &self.parts {
            let exact = key.and_then(|(holder, number)| {
                let held = &*cx.survey.installations()[usize::from(holder)];
                commands(cx, held, &[number], false, going)
            });
            for Command { remedy, rehearsal, .. } in exact.iter().flatten() {
                let remedy = Remedy { loses: part.loses.clone(), ..remedy.clone() };
                plan.add(&remedy, why, &rehearsal.iter().collect::<Vec<_>>());
            }
            if exact.is_none() {
                plan.add(part, why, &[]);
            }
        }
    }
}

/// Which of these packages a remedy removes: the one whose removal is this command.
fn removes(survey: &Survey<'_>, remedy: &Remedy, packages: &[Key]) -> Option<Key> {
    // What purges is about a package that is gone already.
    let is_removal = |way: &Remedy| way.kind == RemedyKind::Remove;
    if !is_removal(remedy) {
        return None;
    }
    packages.iter().copied().find(|(holder, number)| {
        let held = &*survey.installations()[usize::from(*holder)];
        let ways = match is_among_distributions(held, *number) {
            true => take_out(survey, held, &[*number]).into_iter().collect(),
            false => survey.remedies_within(held, *number),
        };
        ways.iter().any(|way| is_removal(way) && (&way.line, &way.actor) == (&remedy.line, &remedy.actor))
    })
}

/// Of packages whose removal mends something those that can go, in an order in which they can; the plan says why of the
/// others.
pub(in crate::plans) fn mended_by_removal(
    cx: &CheckContext<'_, '_>,
    plan: &mut Builder<'_, '_>,
    packages: impl Iterator<Item = Key>,
) -> Vec<Key> {
    let mut going = Vec::new();
    for (holder, mut numbers) in in_order(cx.survey, packages) {
        numbers.sort_unstable();
        numbers.dedup();
        let numbers = unbound(cx, plan, holder, numbers, Dependents::Stay);
        going.extend(
            dependents_first(&*cx.survey.installations()[usize::from(holder)], &numbers)
                .into_iter()
                .map(|number| (holder, number)),
        );
    }
    going
}
