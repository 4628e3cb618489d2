//! `plan fix`: the remedies of the check, each once, in an order in which they work.

use super::build::Builder;
use super::{Foretold, Plan};
use crate::bytes::ByteString;
use crate::checks::catalogue::explain;
use crate::checks::{FindingFilter, Settings, check};
use crate::model::{Group, Remedy, RemedyKind};
use crate::queries::CheckContext;

/// The plan that applies the first remedy of every cause.
#[must_use]
pub fn fix(cx: &CheckContext<'_, '_>, settings: &Settings, wanted: &FindingFilter) -> Plan {
    let answer = check(cx, settings, wanted);
    let mut plan = Builder::new(cx.survey);
    let (mut mended, open): (Vec<&Group>, Vec<&Group>) =
        answer.groups.iter().partition(|group| group.first_remedy.is_some());
    mended.sort_by_key(|group| group.first_remedy.as_ref().map(|remedy| rank(remedy.kind)));
    let removing = |remedy: &&Remedy| matches!(remedy.kind, RemedyKind::Remove | RemedyKind::Purge);
    let remedies = answer.groups.iter().filter_map(|group| group.first_remedy.as_ref());
    let removed: Vec<&Remedy> = remedies.filter(removing).collect();
    for group in mended {
        let Some(remedy) = &group.first_remedy else { continue };
        // What another step removes is not repaired before.
        if !removing(&remedy) && removed.iter().any(|other| is_about_same(other, remedy)) {
            let says = format!("{}: another step removes it", group.summary);
            plan.leave_open(group.subject.clone(), says);
            continue;
        }
        plan.add(remedy, format!("{}: {}", remedy.purpose, group.summary), &[]);
    }
    for group in open {
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
    plan.finish(goal, Foretold::default())
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
