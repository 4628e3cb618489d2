//! `plan remove`: everything that is one piece of software, by every manager that has it.

mod data;
mod going;
mod mending;

use std::cmp::Reverse;

use hashbrown::HashSet;

use super::build::Builder;
use super::{Foretold, Plan};
use crate::backend::{Installation, Rehearsal};
use crate::bytes::{ByteString, path};
use crate::index::FoundClaim;
use crate::managers;
use crate::model::{Claimant, CommandLine, ManagerId, ManagerKind, Package, Remedy, RemedyKind, Status};
use crate::queries::impact::{Broken, deleted_with, impacts};
use crate::queries::take_out::{is_among_distributions, take_out_but};
use crate::queries::{CheckContext, by_holder};
use crate::survey::Survey;
use going::Going;

pub(super) use mending::{Mending, mended_by_removal};

/// What is meant besides the names.
#[derive(Debug, Clone, Default)]
pub struct RemovalOptions {
    /// Only what this manager has.
    pub manager: Option<ManagerId>,
    /// Settings and data of users as well.
    pub with_data: bool,
    /// What cannot do without it as well.
    pub with_dependents: bool,
}

/// A package: holder and number.
pub(super) type Key = (u16, u32);

/// The plan that removes these packages. Those of one title are removed together: the title's other packages are added
/// to each, unless it is among `exact`.
#[must_use]
pub fn remove(cx: &CheckContext<'_, '_>, packages: &[Key], exact: &[Key], options: &RemovalOptions) -> Plan {
    let survey = cx.survey;
    let meant = meant(cx, packages, exact, options);
    let names = names_of(&meant);
    let mut plan = Builder::new(survey);
    let removed = steps(cx, &mut plan, &meant, options, &[]);
    let foretold = foretell(cx, &mut plan, &meant, &removed, options.with_data);
    leave_unowned(cx, &mut plan, &meant, &removed);
    let goal = if names.is_empty() { "remove: no such package".to_owned() } else { format!("remove {names}") };
    plan.finish(goal, foretold)
}

/// What packages are called together.
pub(super) fn names_of(packages: &[(Key, &Package)]) -> String {
    let mut names: Vec<String> = packages.iter().map(|(_, package)| package.full_name().to_string()).collect();
    names.sort();
    names.dedup();
    names.join(", ")
}

/// Adds the steps that remove packages; returns those that go. `first` is what must hold before the first of them.
pub(super) fn steps(
    cx: &CheckContext<'_, '_>,
    plan: &mut Builder<'_, '_>,
    meant: &[(Key, &Package)],
    options: &RemovalOptions,
    first: &[Rehearsal],
) -> Vec<Key> {
    let survey = cx.survey;
    let all: Vec<(u16, Going)> = in_order(survey, meant.iter().map(|(key, _)| *key))
        .into_iter()
        .map(|(holder, numbers)| (holder, Going::of(cx, plan, holder, numbers, options.with_dependents)))
        .collect();
    let intended: HashSet<Key> = all.iter().flat_map(|(holder, going)| going.keys(*holder)).collect();
    let mut removed: Vec<Key> = Vec::new();
    let mut is_first = true;
    for (holder, going) in &all {
        let held = &*survey.installations()[usize::from(*holder)];
        for (numbers, along) in [(&going.meant, false), (&going.freed, true)] {
            if numbers.is_empty() {
                continue;
            }
            match commands(cx, held, numbers, options.with_data, &intended) {
                Some(commands) => {
                    for command in commands {
                        let manager = held.location().manager;
                        let why = match along {
                            false => format!("remove {manager}'s {}", command.names),
                            true => format!("remove what only that needed of {manager}'s: {}", command.names),
                        };
                        // What must hold before the first step is not asked before each.
                        let first = if is_first { first } else { &[] };
                        is_first = false;
                        let rehearsals: Vec<&Rehearsal> = first.iter().chain(&command.rehearsal).collect();
                        plan.add(&command.remedy, why, &rehearsals);
                    }
                    removed.extend(numbers.iter().map(|number| (*holder, *number)));
                }
                None => {
                    let named: Vec<String> = numbers.iter().map(|number| held.owner(*number).id.to_string()).collect();
                    let is_sealed = managers::is_system(held.location().manager) && survey.host.is_image_based();
                    let says = match is_sealed {
                        true => "it is part of the system's image, which its manager's commands do not change",
                        false => "no command is known that removes it and nothing else",
                    };
                    plan.leave_open(named.join(", ").as_str(), says);
                }
            }
        }
    }
    removed
}

/// The packages that are meant, with those of the same titles.
pub(super) fn meant<'a>(
    cx: &'a CheckContext<'_, '_>,
    packages: &[Key],
    exact: &[Key],
    options: &RemovalOptions,
) -> Vec<(Key, &'a Package)> {
    let titled = cx.survey.titled();
    let title_of = |key: &Key| {
        let place = titled.keys.iter().position(|known| known == key)?;
        titled.packages[place].title.as_ref()
    };
    let titles: HashSet<&ByteString> =
        packages.iter().filter(|key| !exact.contains(key)).filter_map(title_of).collect();
    let numbered = titled.keys.iter().zip(&titled.packages);
    let mut found: Vec<(Key, &Package)> = numbered
        .filter(|(key, package)| {
            let is_of_title = || package.title.as_ref().is_some_and(|title| titles.contains(title));
            options.manager.is_none_or(|manager| package.manager == manager)
                && (package.status != Status::ConfigRemains || options.with_data)
                && (packages.contains(key) || is_of_title())
        })
        .map(|(key, package)| (*key, package))
        .collect();
    // A path in a store is collected once no profile has it, and is not removed itself.
    let is_in_store = |key: &Key| {
        let held = &cx.survey.installations()[usize::from(key.0)];
        managers::profile(held.location().manager).kind == ManagerKind::Store && held.remedies(key.1).is_empty()
    };
    let others: Vec<ManagerId> =
        found.iter().filter(|(key, _)| !is_in_store(key)).map(|(_, package)| package.manager).collect();
    found.retain(|(key, package)| !is_in_store(key) || !others.contains(&package.manager));
    found
}

/// Packages by their holders, in the order in which they go: what builds on others goes before them.
fn in_order(survey: &Survey<'_>, packages: impl Iterator<Item = Key>) -> Vec<(u16, Vec<u32>)> {
    let mut holders: Vec<(u16, Vec<u32>)> = by_holder(packages).into_iter().collect();
    holders.sort_by_key(|(holder, _)| Reverse(rank(survey.installations()[usize::from(*holder)].location().manager)));
    holders
}

/// The later, the more builds on it.
fn rank(manager: ManagerId) -> usize {
    match managers::profile(manager).kind {
        ManagerKind::Language => 5,
        ManagerKind::Sandbox => 4,
        ManagerKind::Versions => 3,
        ManagerKind::Prefix => 2,
        ManagerKind::Store => 1,
        ManagerKind::System => 0,
    }
}

/// One command, and what it removes.
struct Command {
    remedy: Remedy,
    names: String,
    rehearsal: Option<Rehearsal>,
}

/// The commands that remove packages of one installation. `None` where one of them has none.
fn commands(
    cx: &CheckContext<'_, '_>,
    held: &dyn Installation,
    numbers: &[u32],
    with_data: bool,
    going: &HashSet<Key>,
) -> Option<Vec<Command>> {
    let survey = cx.survey;
    let named = |numbers: &[u32]| {
        let names: Vec<String> = numbers.iter().map(|number| held.owner(*number).full_name().to_string()).collect();
        names.join(", ")
    };
    if numbers.iter().any(|number| is_among_distributions(held, *number)) {
        let is_going = |claim: &FoundClaim| match claim.claimant {
            Claimant::Package(number) => going.contains(&(claim.holder, number)),
            Claimant::Group(_) => false,
        };
        let remedy = take_out_but(survey, held, numbers, &is_going)?;
        let remedy = Remedy { loses: Vec::new(), ..remedy };
        return Some(vec![Command { remedy, names: named(numbers), rehearsal: None }]);
    }
    if let Some(removal) = held.removal(numbers, with_data) {
        let remedy = survey.remedy_within(held, removal.remedy)?;
        return Some(vec![Command { remedy, names: named(numbers), rehearsal: Some(removal.rehearsal) }]);
    }
    let mut found = Vec::new();
    for number in dependents_first(held, numbers) {
        let kinds = [RemedyKind::Remove, RemedyKind::Purge];
        let remedy = survey.remedies_within(held, number).into_iter().find(|way| kinds.contains(&way.kind))?;
        // What removes files by their paths is tried with these.
        let rehearsal = if remedy.line.runs("rm") { None } else { there(held, number) };
        found.push(Command { remedy, names: named(&[number]), rehearsal });
    }
    Some(found)
}

/// Whether a package is still where this plan found it.
fn there(held: &dyn Installation, number: u32) -> Option<Rehearsal> {
    let tree = held.trees().into_iter().find(|(of, _)| *of == number).map(|(_, tree)| tree);
    let place = tree.or_else(|| Some(held.package_evidence(number).first()?.file.clone()))?;
    place.starts_with(b"/").then(|| Rehearsal::succeeds(CommandLine::new("test -e").arg(place)))
}

/// Packages in an order in which each goes before what it needs.
fn dependents_first(held: &dyn Installation, numbers: &[u32]) -> Vec<u32> {
    let Some(relations) = held.relations().filter(|_| numbers.len() > 1) else { return numbers.to_vec() };
    let mut ordered = numbers.to_vec();
    // Whoever needs another has fewer that need it, in turn.
    ordered.sort_by_cached_key(|number| relations.dependents(&[*number]).map_or(0, |found| found.len()));
    ordered
}

/// What is so once these are gone; adds the steps for what users keep of them.
pub(super) fn foretell(
    cx: &CheckContext<'_, '_>,
    plan: &mut Builder<'_, '_>,
    meant: &[(Key, &Package)],
    removed: &[Key],
    with_data: bool,
) -> Foretold {
    let survey = cx.survey;
    let effect = impacts(cx, &[removed]).pop().unwrap_or_default();
    let mut deleted = deleted(survey, removed, with_data);
    deleted.extend_from_slice(plan.deleted_files());
    if with_data {
        deleted.extend(data::delete(cx, plan, meant, removed));
    }
    deleted.sort();
    deleted.dedup();
    let stays = |one: &Broken| {
        !one.noticed && one.path.as_ref().is_none_or(|at| !deleted.iter().any(|gone| path::within(at, gone)))
    };
    let broken = effect.broken.into_iter().filter(stays).collect();
    let id = |(holder, number): &Key| survey.installations()[usize::from(*holder)].owner(*number).id;
    Foretold {
        removed: removed.iter().map(id).collect(),
        added: Vec::new(),
        deleted,
        frees: effect.frees,
        commands: effect.commands,
        broken,
    }
}

/// What goes from the disk with packages, and with their settings files if these go as well.
pub(super) fn deleted(survey: &Survey<'_>, packages: &[Key], with_settings: bool) -> Vec<ByteString> {
    let mut deleted = deleted_with(survey, packages);
    if !with_settings {
        let settings = |(holder, number): &Key| survey.installations()[usize::from(*holder)].settings_files(*number);
        let kept: HashSet<ByteString> = packages.iter().filter_map(settings).flatten().collect();
        deleted.retain(|file| !kept.contains(file));
    }
    deleted
}

/// Says of copies of the commands that no manager has: they stay.
fn leave_unowned(cx: &CheckContext<'_, '_>, plan: &mut Builder<'_, '_>, meant: &[(Key, &Package)], removed: &[Key]) {
    let survey = cx.survey;
    let gone = meant.iter().filter(|(key, _)| removed.contains(key));
    let mut names: Vec<ByteString> =
        gone.flat_map(|(_, package)| &package.commands).map(|command| path::name(command).into()).collect();
    names.sort();
    names.dedup();
    for name in names {
        let copies = cx.all_searches().flat_map(|search| search.reach(survey.root(), &name).copies);
        let mut paths: Vec<ByteString> = copies.map(|copy| copy.path).collect();
        paths.sort();
        paths.dedup();
        let canonical: Vec<ByteString> = paths.iter().map(|path| survey.root().canonicalize(path)).collect();
        let index = survey.claims(canonical.iter().map(|path| &**path));
        for (path, canonical) in paths.iter().zip(&canonical) {
            let ownership = survey.ownership(&index, canonical);
            if ownership.packages.is_empty() && ownership.group.is_none() && survey.ownership_of(path).is_none() {
                plan.leave_open(path.clone(), "stays: no manager has it, so what belongs to it is not recorded");
            }
        }
    }
}
