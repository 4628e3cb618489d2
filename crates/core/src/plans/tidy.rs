//! `plan tidy`: what is no longer needed, given up.

use hashbrown::HashMap;

use super::build::Builder;
use super::remove::deleted;
use super::{Foretold, Plan};
use crate::backend::{Detail, Rehearsal};
use crate::bytes::ByteString;
use crate::checks::leftovers::{Leftover, leftovers};
use crate::fs::Root;
use crate::model::{FindingKind, Package, State};
use crate::queries::{CheckContext, by_holder};
use crate::survey::Survey;

/// What is tidied up.
#[derive(Debug, Clone, Default)]
pub struct TidyOptions {
    /// Only what did not change since then, in seconds since 1970.
    pub before: Option<i64>,
    /// Settings and data of removed packages as well.
    pub with_data: bool,
    /// What managers can fetch again as well.
    pub with_caches: bool,
}

/// Kinds of leftovers, in the order in which they are given up: what frees others comes first.
const ORDER: [FindingKind; 16] = [
    FindingKind::UnneededDependency,
    FindingKind::UnusedRuntime,
    FindingKind::DisabledRevision,
    FindingKind::OldGeneration,
    FindingKind::UnreferencedStorePath,
    FindingKind::UnreferencedObject,
    FindingKind::BrokenJob,
    FindingKind::BrokenLauncher,
    FindingKind::DanglingLink,
    FindingKind::BrokenAssociation,
    FindingKind::MissingDirectory,
    FindingKind::SettingsLeft,
    FindingKind::DataLeft,
    FindingKind::UnreachedEnvironment,
    FindingKind::UnusedInterpreter,
    FindingKind::StrayCompanion,
];

/// The plan that gives up what is certain to be left.
#[must_use]
pub fn tidy(cx: &CheckContext<'_, '_>, options: &TidyOptions) -> Plan {
    let survey = cx.survey;
    let answer = leftovers(cx);
    let mut plan = Builder::new(survey);
    let mut foretold = Foretold { frees: Some(0), ..Foretold::default() };
    let dated = match options.before {
        Some(_) => survey.packages(Detail { dates: true, ..Detail::default() }),
        None => Vec::new(),
    };
    let dates: HashMap<&ByteString, &Package> = dated.iter().map(|package| (&package.id, package)).collect();
    let mut unneeded: Vec<&Leftover> = Vec::new();
    for kind in ORDER {
        for one in answer.findings.iter().filter(|one| one.finding.kind == kind) {
            let finding = &one.finding;
            let is_data = matches!(kind, FindingKind::SettingsLeft | FindingKind::DataLeft);
            if !one.certain {
                plan.leave_open(
                    finding.subject.clone(),
                    format!("{}: whether it is needed, only you know", finding.summary),
                );
                continue;
            }
            if is_data && !options.with_data {
                plan.leave_open(finding.subject.clone(), format!("{} (--with-data removes it)", finding.summary));
                continue;
            }
            match options.before.map(|before| is_older(survey, one, &dates, before)) {
                Some(Some(false)) => continue,
                Some(None) => {
                    plan.leave_open(
                        finding.subject.clone(),
                        format!("{}: how old it is, is not known", finding.summary),
                    );
                    continue;
                }
                Some(Some(true)) | None => {}
            }
            match kind {
                FindingKind::UnneededDependency => unneeded.push(one),
                FindingKind::OldGeneration => generations(survey, &mut plan, one, options.before),
                _ => match finding.remedies.first() {
                    Some(remedy) => {
                        plan.add(remedy, finding.summary.clone(), &[]);
                        count(&mut foretold, one);
                    }
                    None => plan.leave_open(finding.subject.clone(), finding.summary.clone()),
                },
            }
        }
        if kind == FindingKind::UnneededDependency {
            dependencies(survey, &mut plan, &unneeded, &mut foretold);
        }
    }
    if options.with_caches {
        for cache in &answer.caches {
            match cache.remedies.first() {
                Some(remedy) => {
                    plan.add(remedy, format!("empty {}: {}", cache.path, cache.what), &[]);
                    add(&mut foretold.frees, cache.bytes);
                }
                None => {
                    plan.leave_open(cache.path.clone(), format!("{} has no command that empties it", cache.manager));
                }
            }
        }
    }
    let goal = if plan.is_empty() { "tidy up: there is nothing to do" } else { "tidy up" };
    plan.finish(goal, foretold)
}

fn add(sum: &mut Option<u64>, bytes: Option<u64>) {
    *sum = sum.zip(bytes).map(|(sum, bytes)| sum + bytes);
}

/// Foretells what goes with a leftover.
fn count(foretold: &mut Foretold, one: &Leftover) {
    let finding = &one.finding;
    match finding.kind {
        // What is in a store is its manager's own.
        FindingKind::UnreferencedStorePath | FindingKind::UnreferencedObject => {}
        FindingKind::UnneededDependency | FindingKind::UnusedRuntime | FindingKind::DisabledRevision => {
            foretold.removed.extend(finding.packages.iter().cloned());
        }
        FindingKind::BrokenJob => foretold.deleted.extend(finding.paths.iter().cloned()),
        _ => foretold.deleted.extend(finding.paths.iter().take(1).cloned()),
    }
    add(&mut foretold.frees, one.bytes);
}

/// Removes exactly the dependencies that nothing needs, those of one installation together.
fn dependencies(survey: &Survey<'_>, plan: &mut Builder<'_, '_>, unneeded: &[&Leftover], foretold: &mut Foretold) {
    let keys = unneeded.iter().flat_map(|one| &one.finding.packages);
    let keys = keys.filter_map(|id| survey.by_name_or_id(id).into_iter().next());
    for (holder, numbers) in by_holder(keys) {
        let held = &*survey.installations()[usize::from(holder)];
        let manager = held.location().manager;
        let ids: Vec<ByteString> = numbers.iter().map(|number| held.owner(*number).id).collect();
        let why = format!("remove what came along with {manager}'s packages and nothing needs any more");
        let of_these: Vec<&&Leftover> =
            unneeded.iter().filter(|one| one.finding.packages.iter().any(|id| ids.contains(id))).collect();
        let removal = held.removal(&numbers, false);
        let exact = removal
            .as_ref()
            .and_then(|removal| Some((survey.remedy_within(held, removal.remedy.clone())?, Some(&removal.rehearsal))));
        let (remedy, rehearsal) = match exact {
            Some(exact) => exact,
            None => match of_these.first().and_then(|one| one.finding.remedies.first()) {
                Some(remedy) => (remedy.clone(), None),
                None => {
                    plan.leave_open(manager.to_string().as_str(), "no command removes what nothing needs");
                    continue;
                }
            },
        };
        let rehearsals: Vec<&Rehearsal> = rehearsal.into_iter().collect();
        plan.add(&remedy, why, &rehearsals);
        of_these.iter().for_each(|one| count(foretold, one));
        let keys: Vec<(u16, u32)> = numbers.iter().map(|number| (holder, *number)).collect();
        foretold.deleted.extend(deleted(survey, &keys, false));
    }
}

/// Gives up the generations of one holder that are not in force, or those that are older.
fn generations(survey: &Survey<'_>, plan: &mut Builder<'_, '_>, one: &Leftover, before: Option<i64>) {
    let holder = one.finding.paths.first();
    for held in survey.installations() {
        let Some(history) = held.history() else { continue };
        let states = history.states();
        if states.first().map(|state| &state.holder) != holder {
            continue;
        }
        let is_old = |state: &&State| {
            !state.current && before.is_none_or(|before| state.made_at.is_some_and(|made| made < before))
        };
        let old: Vec<&State> = states.iter().filter(is_old).collect();
        let remedy = history.forget_these(&old).filter(|_| !old.is_empty());
        let Some(remedy) = remedy.and_then(|remedy| survey.remedy_within(&**held, remedy)) else { continue };
        let numbers: Vec<String> = old.iter().map(|state| state.number.to_string()).collect();
        plan.add(&remedy, format!("give up generations {} of {}", numbers.join(", "), states[0].holder), &[]);
        // What only they hold is collected after them, even if nothing else is to be collected yet.
        if let Some(collect) = history.collect().and_then(|remedy| survey.remedy_within(&**held, remedy)) {
            plan.add_last(collect, "collect what only they held");
        }
    }
}

/// Whether a leftover did not change since then; `None` where that is not known.
fn is_older(
    survey: &Survey<'_>,
    one: &Leftover,
    packages: &HashMap<&ByteString, &Package>,
    before: i64,
) -> Option<bool> {
    let finding = &one.finding;
    match finding.kind {
        // Each generation has a date of its own.
        FindingKind::OldGeneration => Some(true),
        FindingKind::UnreferencedStorePath | FindingKind::UnreferencedObject => None,
        FindingKind::UnneededDependency
        | FindingKind::UnusedRuntime
        | FindingKind::DisabledRevision
        | FindingKind::SettingsLeft => {
            let dates = finding.packages.iter().map(|id| packages.get(id)?.installed_at);
            let newest: Option<Vec<i64>> = dates.collect();
            Some(newest?.into_iter().max()? < before)
        }
        _ => Some(newest_in(survey.root(), finding.paths.first()?)? < before),
    }
}

/// When a file, or anything in a directory, was last changed; `None` where a part could not be looked at.
fn newest_in(root: &Root, start: &ByteString) -> Option<i64> {
    let gaps = root.gaps().len();
    let newest = std::sync::atomic::AtomicI64::new(root.entry(start).ok()?.modified);
    root.each_entry(start, &|_, meta| {
        newest.fetch_max(meta.modified, std::sync::atomic::Ordering::Relaxed);
        true
    });
    (root.gaps().len() == gaps).then(|| newest.into_inner())
}
