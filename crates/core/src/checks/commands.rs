//! Programs under one name: what hides what, in which contexts, and what a shell takes a name for.

use hashbrown::HashMap;

use super::CheckContext;
use crate::bytes::{ByteString, path};
use crate::findings::words;
use crate::model::{Finding, FindingKind, Remedy, Severity};
use crate::queries::shadows::{Shadow, shadows};
use crate::queries::{Located, across as across_contexts, advice};
use crate::resolve::words::TakenFor;
use crate::resolve::{Context, SearchPath};
use crate::survey::Survey;

/// `shadowed-command`: one for each name and winner, with the contexts in which it is so.
pub fn shadowed(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    // Contexts that search the same directories find the same.
    let mut alike: Vec<(&SearchPath, Vec<Context>)> = Vec::new();
    for search in cx.searches() {
        let dirs = |search: &SearchPath| search.entries.iter().map(|entry| entry.canonical.clone()).collect::<Vec<_>>();
        match alike.iter_mut().find(|(known, _)| dirs(known) == dirs(search)) {
            Some((_, contexts)) => contexts.push(search.context),
            None => alike.push((search, vec![search.context])),
        }
    }
    let mut told: Vec<(Shadow, Vec<Context>)> = Vec::new();
    let mut places: HashMap<(ByteString, ByteString), Vec<usize>> = HashMap::new();
    for (search, contexts) in alike {
        for shadow in shadows(cx.survey, search, &[]).0.shadows {
            let at = places.entry((shadow.name.clone(), shadow.winner.path.clone())).or_default();
            match at.iter().find(|place| told[**place].0.hidden == shadow.hidden) {
                Some(place) => told[*place].1.extend(&contexts),
                None => {
                    at.push(told.len());
                    told.push((shadow, contexts.clone()));
                }
            }
        }
    }
    let told = told.into_iter().map(|(shadow, contexts)| finding(cx.survey, &shadow, &contexts, cx.searches().len()));
    gathered(cx.survey, told.collect())
}

/// Names of which the same is to be said, since the same packages bring them and the same directories decide, are told
/// together: under the shortest, with the others behind it.
fn gathered(survey: &Survey<'_>, findings: Vec<Finding>) -> Vec<Finding> {
    let dirs = |finding: &Finding| -> Vec<ByteString> {
        finding.paths.iter().map(|file| ByteString::from(path::parent(file))).collect()
    };
    let key = |finding: &Finding| {
        let consequence = finding.consequence.replace(&finding.subject.to_string(), "");
        (finding.kind, finding.severity, finding.packages.clone(), dirs(finding), consequence)
    };
    let mut groups: Vec<Vec<Finding>> = Vec::new();
    let mut places: HashMap<_, usize> = HashMap::new();
    for finding in findings {
        let key = key(&finding);
        // Without a package there is nothing that keeps them together.
        let place = if finding.packages.is_empty() { None } else { places.get(&key).copied() };
        match place {
            Some(place) => groups[place].push(finding),
            None => {
                places.insert(key, groups.len());
                groups.push(vec![finding]);
            }
        }
    }
    let told = groups.into_iter().map(|mut group| {
        group.sort_by_key(|finding| (finding.subject.len(), finding.subject.clone()));
        let mut first = group.remove(0);
        if !group.is_empty() {
            let others: Vec<String> = group.iter().map(|finding| finding.subject.to_string()).collect();
            first.summary += &format!(" (and likewise {})", others.join(", "));
            first.remedies = together(survey, &first, &group).into_iter().collect();
            first.paths.extend(group.into_iter().flat_map(|finding| finding.paths));
        }
        first
    });
    told.collect()
}

/// The most names that one command is advised for.
const MAX_TOGETHER: usize = 6;

/// One remedy for names that are told together: what removes the package removes all of them; files that are moved are
/// all moved, for half of a build is worse than all of it.
fn together(survey: &Survey<'_>, first: &Finding, others: &[Finding]) -> Option<Remedy> {
    let remedy = first.remedies.first()?.clone();
    let same = |other: &Finding| other.remedies.first().is_some_and(|way| way.command == remedy.command);
    if others.iter().all(same) {
        return Some(remedy);
    }
    if others.len() >= MAX_TOGETHER {
        return None;
    }
    let (mut line, mut undo) = (remedy.line.clone(), remedy.undo.clone()?);
    for other in others {
        let way = other.remedies.first().filter(|way| (way.kind, &way.actor) == (remedy.kind, &remedy.actor))?;
        line = line.and_then(way.line.clone());
        undo = undo.and_then(way.undo.clone()?);
    }
    Some(survey.typed(Remedy { line, undo: Some(undo), ..remedy }))
}

fn sorted(contexts: &[Context]) -> Vec<Context> {
    let mut contexts = contexts.to_vec();
    contexts.sort();
    contexts
}

fn finding(survey: &Survey<'_>, shadow: &Shadow, contexts: &[Context], of: usize) -> Finding {
    let whose = |copy: &Located| {
        let version = copy.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        match &copy.owner {
            Some(owner) => format!("{} ({} · {}{version})", copy.path, owner.manager, owner.name),
            None => format!("{} (unowned{version})", copy.path),
        }
    };
    let hidden: Vec<String> = shadow.hidden.iter().map(whose).collect();
    let summary = format!("{} hides {}: {}", whose(&shadow.winner), hidden.join(" and "), shadow.meaning);
    let places = match contexts.len() {
        all if all == of && of > 1 => "in every context".to_owned(),
        _ => format!("in {}", sorted(contexts).iter().map(|context| context.word()).collect::<Vec<_>>().join(", ")),
    };
    let consequence = format!("{} starts the first of them {places}; the other copies are not used", shadow.name);
    let copies = || std::iter::once(&shadow.winner).chain(&shadow.hidden);
    let remedies = match shadow.severity > Severity::Note {
        true => advice::leave_one(survey, &shadow.winner, &shadow.hidden),
        false => Vec::new(),
    };
    Finding {
        packages: copies().filter_map(|copy| copy.owner.as_ref()).map(|owner| owner.id.clone()).collect(),
        paths: copies().map(|copy| copy.path.clone()).collect(),
        remedies,
        evidence: shadow.because.clone(),
        ..Finding::new(FindingKind::ShadowedCommand, shadow.severity, shadow.name.clone(), summary, consequence)
    }
}

/// `context-dependent-command`.
pub fn across(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    if cx.searches().len() < 2 {
        return Vec::new();
    }
    gathered(cx.survey, across_contexts::across(cx.survey, cx.searches(), &[]).findings)
}

/// `alias-hides-command`, `function-hides-command`: names that a shell which is typed into has for itself. What every
/// shell has built in is no finding of the machine's.
pub fn taken(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let mut found: Vec<Finding> = Vec::new();
    let typed = cx.searches().iter().filter(|search| matches!(search.context, Context::Login | Context::Terminal));
    for search in typed {
        let Some(shell) = &search.words else { continue };
        for name in shell.names() {
            let Some(taken) = shell.take(name) else { continue };
            if !matches!(taken.how, TakenFor::Alias | TakenFor::Function) {
                continue;
            }
            let Some(copy) = search.reach(cx.survey.root(), name).copies.into_iter().next() else { continue };
            let hides = words::hides(&name.into(), &copy.path, &taken, search.context);
            // The first context that has it stands for the others.
            found.extend(hides.filter(|one| !found.iter().any(|known| known.subject == one.subject)));
        }
    }
    found
}
