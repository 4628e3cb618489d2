//! `plan fix`: the remedies of the check, each once, in an order in which they work.

use hashbrown::HashSet;

use super::Plan;
use super::build::Builder;
use super::remove::{Key, Mending, foretell, mended_by_removal};
use crate::bytes::ByteString;
use crate::checks::catalogue::explain;
use crate::checks::{Check, FindingFilter, Settings, check};
use crate::model::{Group, Remedy, RemedyKind};
use crate::queries::CheckContext;

/// A cause, and what mends it.
struct Mended<'a> {
    group: &'a Group,
    remedy: &'a Remedy,
    mending: Mending<'a>,
}

/// The plan that applies the first remedy of every cause.
#[must_use]
pub fn fix(cx: &CheckContext<'_, '_>, settings: &Settings, wanted: &FindingFilter) -> Plan {
    let answer = check(cx, settings, wanted);
    let mut plan = Builder::new(cx.survey);
    let mut mended: Vec<Mended<'_>> = answer.groups.iter().filter_map(|group| mended(cx, &answer, group)).collect();
    let going = mended_by_removal(cx, &mut plan, mended.iter().flat_map(|one| one.mending.removed()));
    let place = |key: Key| going.iter().position(|other| *other == key);
    mended.sort_by_key(|one| (rank(one.remedy.kind), one.mending.removed().filter_map(place).min()));
    let intended: HashSet<Key> = going.iter().copied().collect();
    let stays = |one: &Mended<'_>| one.mending.removed().any(|key| !intended.contains(&key));
    let removing = |remedy: &Remedy| matches!(remedy.kind, RemedyKind::Remove | RemedyKind::Purge);
    // Why what stays does so is told already.
    mended.retain(|one| !stays(one));
    let removals: Vec<&Remedy> = mended.iter().map(|one| one.remedy).filter(|remedy| removing(remedy)).collect();
    let mut removed: Vec<Key> = Vec::new();
    for Mended { group, remedy, mending } in &mended {
        // What another step removes is not repaired before.
        if !removing(remedy) && removals.iter().any(|other| is_about_same(other, remedy)) {
            let says = format!("{}: another step removes it", group.summary);
            plan.leave_open(group.subject.clone(), says);
            continue;
        }
        removed.extend(mending.removed());
        mending.add(cx, &mut plan, &format!("{}: {}", remedy.purpose, group.summary), &intended);
    }
    for group in answer.groups.iter().filter(|group| group.first_remedy.is_none()) {
        let kind = group.findings.first().and_then(|at| answer.findings.get(*at)).map(|finding| finding.kind);
        let remedy = kind.and_then(explain).map(|explained| explained.remedy).unwrap_or_default();
        plan.leave_open(group.subject.clone(), format!("{}. {remedy}", group.summary).trim_end_matches(['.', ' ']));
    }
    let names: Vec<String> = wanted.names.iter().map(ByteString::to_string).collect();
    let goal = match (plan.is_empty(), names.is_empty()) {
        (true, _) => "mend what the check finds: no command does".to_owned(),
        (false, true) => "mend what the check finds".to_owned(),
        (false, false) => format!("mend what the check finds about {}", names.join(", ")),
    };
    removed.sort_unstable();
    removed.dedup();
    let mut foretold = foretell(cx, &mut plan, &[], &removed, false);
    // What is fetched and restored takes room as well.
    if mended.iter().any(|one| !removing(one.remedy)) {
        foretold.frees = None;
    }
    plan.finish(goal, foretold)
}

/// What the first remedy of a cause does, if there is one.
fn mended<'a>(cx: &CheckContext<'_, '_>, answer: &Check, group: &'a Group) -> Option<Mended<'a>> {
    let remedy = group.first_remedy.as_ref()?;
    let findings = group.findings.iter().filter_map(|at| answer.findings.get(*at));
    let packages = findings.flat_map(|finding| &finding.packages).flat_map(|id| cx.survey.by_name_or_id(id));
    let mut packages: Vec<Key> = packages.collect();
    packages.sort_unstable();
    packages.dedup();
    Some(Mended { group, remedy, mending: Mending::of(cx.survey, remedy, &packages) })
}

/// What others build on comes first: sources, then managers that were interrupted, then what is missing; what removes
/// comes last.
fn rank(kind: RemedyKind) -> usize {
    match kind {
        RemedyKind::Configure => 0,
        RemedyKind::Fetch => 1,
        RemedyKind::Unhold => 2,
        RemedyKind::Repair => 3,
        RemedyKind::Install => 4,
        RemedyKind::Restore => 5,
        RemedyKind::Undo => 6,
        RemedyKind::Upgrade => 7,
        RemedyKind::Choose => 8,
        RemedyKind::Permissions => 9,
        RemedyKind::Move => 10,
        RemedyKind::Remove => 11,
        RemedyKind::Purge => 12,
    }
}

/// Whether two commands are about one package of one manager: the same program, and the same name at the end.
fn is_about_same(one: &Remedy, other: &Remedy) -> bool {
    let ends = |remedy: &Remedy| (remedy.line.words.first().cloned(), remedy.line.words.last().cloned());
    one.actor == other.actor && ends(one) == ends(other)
}
