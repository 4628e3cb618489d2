//! What is kept and used by nothing: runtimes, dependencies, old revisions, old states.

use super::CheckContext;
use crate::backend::{Detail, Installation, Relations};
use crate::model::{Cause, Finding, FindingKind, Package, Reason, RemedyKind, Severity, State, Status};

/// `unused-runtime`, `unneeded-dependency`, `disabled-revision` and `old-generation`.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let packages = cx.survey.recorded();
    let mut found: Vec<Finding> = packages.iter().filter_map(|package| disabled(cx, packages, package)).collect();
    for (holder, held) in (0..).zip(cx.survey.installations()) {
        found.extend(unused_runtimes(cx, holder, packages));
        found.extend(unneeded_dependencies(cx, &**held, packages));
        found.extend(old_generations(cx, &**held));
    }
    found
}

fn about(package: &Package, kind: FindingKind, summary: String, consequence: &str) -> Finding {
    Finding {
        packages: vec![package.id.clone()],
        evidence: package.evidence.clone(),
        ..Finding::new(kind, Severity::Note, package.full_name(), summary, consequence)
    }
}

/// A revision that is switched off, while another one of the same package is in force.
fn disabled(cx: &CheckContext<'_, '_>, packages: &[Package], package: &Package) -> Option<Finding> {
    // A bundle without the right to be executed is no revision.
    if package.status != Status::Disabled || package.active || package.revision.is_none() {
        return None;
    }
    let is_same = |other: &&Package| {
        (other.manager, &other.name, &other.scope) == (package.manager, &package.name, &package.scope)
    };
    let now = packages.iter().filter(is_same).find(|other| other.active && other.status == Status::Installed)?;
    let (old, new) = (package.version.clone().unwrap_or_default(), now.version.clone().unwrap_or_default());
    let revision = package.revision.as_ref().map(|revision| format!(" (revision {revision})")).unwrap_or_default();
    let summary = format!("{} keeps {} {old}{revision}, and {new} is in use", package.manager, package.full_name());
    let consequence = "it uses disk space; it is the way back to the earlier version";
    let mut found = about(package, FindingKind::DisabledRevision, summary, consequence);
    let ways = cx.survey.remedies_by_id(&package.name, &package.id).into_iter();
    let purpose = format!("remove {old}{revision}");
    let removal = ways.filter(|way| way.kind == RemedyKind::Remove).map(|way| way.to(purpose.clone()));
    found.remedies = removal.map(|way| way.losing("the way back to it")).collect();
    Some(found)
}

/// Runtimes that nobody asked for and that no package of any installation of the manager needs.
fn unused_runtimes(cx: &CheckContext<'_, '_>, holder: u16, packages: &[Package]) -> Vec<Finding> {
    let held = &*cx.survey.installations()[usize::from(holder)];
    let Some(relations) = held.relations() else { return Vec::new() };
    let of_runtime = |(number, one): (u32, Package)| {
        if one.kind != "runtime" || one.reason == Reason::Explicit {
            return None;
        }
        let owner = held.owner(number);
        let is_needed = !relations.dependents(&[number])?.is_empty()
            || !cx.survey.dependents_elsewhere(holder, &[number]).is_empty();
        let package = packages.iter().find(|package| package.id == owner.id).filter(|_| !is_needed)?;
        let summary = format!("no installed application needs the runtime {}", package.full_name());
        let mut found =
            about(package, FindingKind::UnusedRuntime, summary, "it uses disk space, and is upgraded for nothing");
        let ways = cx.survey.remedies_within(held, number).into_iter();
        found.remedies = ways.filter(|way| way.kind == RemedyKind::Remove).map(|way| way.to("remove it")).collect();
        Some(found)
    };
    held.numbered(Detail::default()).into_iter().filter_map(of_runtime).collect()
}

/// Packages that came along with others which are gone.
fn unneeded_dependencies(cx: &CheckContext<'_, '_>, held: &dyn Installation, packages: &[Package]) -> Vec<Finding> {
    let Some(found) = held.relations().and_then(Relations::unneeded) else { return Vec::new() };
    let remedy = found.remedy.and_then(|remedy| cx.survey.remedy_within(held, remedy));
    let told = found.packages.into_iter().filter_map(|(number, evidence)| {
        let id = held.owner(number).id;
        let package = packages.iter().find(|package| package.id == id)?;
        let name = package.full_name();
        let summary = format!("{name} was installed as a dependency, and nothing needs it any more");
        let consequence = format!("it uses disk space; {} keeps it until it is told otherwise", package.manager);
        Some(Finding {
            remedies: remedy.iter().cloned().collect(),
            evidence: vec![evidence],
            causes: vec![Cause::Unneeded(held.location().dir.clone())],
            ..about(package, FindingKind::UnneededDependency, summary, &consequence)
        })
    });
    told.collect()
}

/// The states of one holder that are not in force.
fn old_generations(cx: &CheckContext<'_, '_>, held: &dyn Installation) -> Vec<Finding> {
    let Some(history) = held.history() else { return Vec::new() };
    let Some(forget) = history.forget() else { return Vec::new() };
    let states = history.states();
    let old: Vec<&State> = states.iter().filter(|state| !state.current).collect();
    let Some(first) = old.first() else { return Vec::new() };
    let numbers: Vec<String> = old.iter().map(|state| state.number.to_string()).collect();
    let count = if old.len() == 1 { "one generation".to_owned() } else { format!("{} generations", old.len()) };
    let summary = format!(
        "{} keeps {count} that {} not in use: {}",
        first.holder,
        if old.len() == 1 { "is" } else { "are" },
        numbers.join(", ")
    );
    let consequence = "what only they hold is not collected; they are the way back to an earlier state";
    let finding = Finding {
        paths: vec![first.holder.clone()],
        remedies: cx.survey.remedy_within(held, forget).into_iter().collect(),
        size: history.frees(&old),
        evidence: old.iter().flat_map(|state| state.evidence.iter().take(1).cloned()).collect(),
        ..Finding::new(FindingKind::OldGeneration, Severity::Note, first.holder.clone(), summary, consequence)
    };
    vec![finding]
}
