//! Which names mean different programs in different contexts.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::Serialize;

use super::shadows::Shadow;
use super::{Located, locate};
use crate::managers::keeps_versions;
use crate::model::{Evidence, Finding, Severity};
use crate::root::Kind;
use crate::search::words::Taken;
use crate::search::{Context, SearchPath, Trail};
use crate::survey::Survey;
use crate::text::Text;

/// What one name is in one context.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Meaning {
    /// The program that runs; none where no folder has one.
    pub winner: Option<Located>,
    /// What the shell takes the name for before it searches.
    pub taken: Option<Taken>,
}

/// One name, and what it is in each context.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// The name.
    pub name: Text,
    /// How much it matters.
    pub severity: Severity,
    /// One for each context, in the order of the answer's.
    pub meanings: Vec<Meaning>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Across {
    /// One per name and context that reaches it.
    pub shadows: Vec<Shadow>,
    /// `context-dependent-command`, one per name.
    pub findings: Vec<Finding>,
    /// The contexts that were compared.
    #[serde(skip)]
    pub contexts: Vec<Context>,
    /// The same as a table: one row a name.
    #[serde(skip)]
    pub rows: Vec<Row>,
    /// Whose log-in it is.
    #[serde(skip)]
    pub person: Option<Text>,
}

/// The path under which a program is found, and the trail behind it.
type Reaches = (Text, Trail);

/// Compares what names reach on each search path; all names, or these.
#[must_use]
pub fn across(survey: &Survey<'_>, searches: &[SearchPath], names: &[Text]) -> Across {
    let root = survey.root();
    let candidates: Vec<Text> = if names.is_empty() { in_several_folders(survey, searches) } else { names.to_vec() };
    // The file that wins in each context, before any record is read.
    let mut found: Vec<(Text, Vec<Option<Reaches>>)> = Vec::new();
    for name in candidates {
        let reached: Vec<_> =
            searches.iter().map(|search| search.reach(root, &name).copies.into_iter().next()).collect();
        let identities: BTreeSet<_> = reached.iter().flatten().map(|copy| copy.meta.identity).collect();
        let is_hidden = searches.iter().any(|search| is_taken(search, &name).is_some());
        let is_told = identities.len() > 1 || (is_hidden && !identities.is_empty()) || !names.is_empty();
        if is_told {
            let trails = reached.into_iter().zip(searches).map(|(copy, search)| {
                let path = copy?.path;
                let trail = survey.trail(search, &path);
                Some((path, trail))
            });
            found.push((name, trails.collect()));
        }
    }
    let paths = found.iter().flat_map(|(_, trails)| trails.iter().flatten()).flat_map(|(_, trail)| trail.paths());
    let index = survey.claims(paths.map(|path| &**path));
    let (mut rows, mut shadows, mut findings) = (Vec::new(), Vec::new(), Vec::new());
    for (name, trails) in &found {
        let mut known: Vec<(&Text, Located)> = Vec::new();
        let meanings: Vec<Meaning> = trails
            .iter()
            .zip(searches)
            .map(|(found, search)| {
                let winner = found.as_ref().map(|(path, trail)| match known.iter().find(|(known, _)| *known == path) {
                    Some((_, located)) => located.clone(),
                    None => {
                        let located = locate(survey, &index, path, trail);
                        known.push((path, located.clone()));
                        located
                    }
                });
                Meaning { winner, taken: is_taken(search, name) }
            })
            .collect();
        let lasts: BTreeSet<&Text> = trails.iter().flatten().map(|(_, trail)| trail.last()).collect();
        let differs = lasts.len() > 1 || meanings.iter().any(|meaning| meaning.taken.is_some());
        if !differs && names.is_empty() {
            continue;
        }
        let severity = weigh(&meanings);
        let because: Vec<Vec<Evidence>> =
            searches.iter().map(|search| search.because(&search.reach(root, name))).collect();
        for ((meaning, search), because) in meanings.iter().zip(searches).zip(&because) {
            if let Some(winner) = &meaning.winner {
                shadows.push(Shadow {
                    kind: "command".to_owned(),
                    name: name.clone(),
                    context: search.context,
                    winner: winner.clone(),
                    hidden: Vec::new(),
                    because: because.clone(),
                    severity,
                    meaning: says(meaning),
                });
            }
        }
        if differs {
            findings.push(finding(name, severity, &meanings, searches, &because));
        }
        rows.push(Row { name: name.clone(), severity, meanings });
    }
    rows.sort_by(|a, b| b.severity.cmp(&a.severity).then_with(|| a.name.cmp(&b.name)));
    findings.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
    let contexts = searches.iter().map(|search| search.context).collect();
    let person = searches.iter().find_map(|search| search.person.clone());
    Across { shadows, findings, contexts, rows, person }
}

/// What the shell takes a name for, builtins aside: those are the same in every shell that is typed into.
fn is_taken(search: &SearchPath, name: &[u8]) -> Option<Taken> {
    use crate::search::words::{TakenFor, is_same_program};
    let taken = search.words.as_ref()?.take(name)?;
    let is_named = matches!(taken.how, TakenFor::Alias | TakenFor::Function);
    let is_same = taken.value.as_ref().is_some_and(|value| is_same_program(name, value));
    (is_named && !is_same).then_some(taken)
}

/// Names that stand in more than one of the folders that any context searches, and names of shells.
fn in_several_folders(survey: &Survey<'_>, searches: &[SearchPath]) -> Vec<Text> {
    let root = survey.root();
    let mut folders: BTreeMap<&Text, &Text> = BTreeMap::new();
    for entry in searches.iter().flat_map(|search| &search.entries) {
        folders.entry(&entry.settled).or_insert(&entry.folder);
    }
    let mut counts: hashbrown::HashMap<Text, u32> = hashbrown::HashMap::new();
    for folder in folders.values() {
        let names = root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
        for (name, _) in names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link)) {
            *counts.entry(name).or_default() += 1;
        }
    }
    let of_shells: BTreeSet<&[u8]> =
        searches.iter().filter_map(|search| search.words.as_ref()).flat_map(|words| words.names()).collect();
    let mut names: Vec<Text> = counts
        .into_iter()
        .filter(|(name, count)| *count > 1 || of_shells.contains(&**name))
        .map(|(name, _)| name)
        .collect();
    names.sort();
    names
}

/// What is at stake: another program or version matters; versions that are kept on purpose do not.
fn weigh(meanings: &[Meaning]) -> Severity {
    let winners: Vec<&Located> = meanings.iter().filter_map(|meaning| meaning.winner.as_ref()).collect();
    let owners: BTreeSet<Option<&Text>> =
        winners.iter().map(|winner| winner.owner.as_ref().map(|owner| &owner.id)).collect();
    let kept = |winner: &&Located| winner.owner.as_ref().is_some_and(|owner| keeps_versions(owner.manager));
    let is_one_package = owners.len() == 1 && !owners.contains(&None);
    if is_one_package || winners.iter().any(kept) { Severity::Note } else { Severity::Warning }
}

fn says(meaning: &Meaning) -> String {
    match (&meaning.taken, &meaning.winner) {
        (Some(taken), _) => format!("{} of the shell", taken.how.word()),
        (None, Some(Located { owner: Some(owner), version, .. })) => {
            let version = version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
            format!("{} · {}{version}", owner.manager, owner.name)
        }
        (None, Some(_)) => "no manager claims it".to_owned(),
        (None, None) => "not reached".to_owned(),
    }
}

fn finding(
    name: &Text,
    severity: Severity,
    meanings: &[Meaning],
    searches: &[SearchPath],
    because: &[Vec<Evidence>],
) -> Finding {
    let mut told: Vec<(String, Vec<&str>)> = Vec::new();
    for (meaning, search) in meanings.iter().zip(searches) {
        let says = match &meaning.winner {
            Some(winner) if meaning.taken.is_none() => format!("{} ({})", says(meaning), winner.path),
            _ => says(meaning),
        };
        match told.iter_mut().find(|(known, _)| *known == says) {
            Some((_, contexts)) => contexts.push(search.context.word()),
            None => told.push((says, vec![search.context.word()])),
        }
    }
    let told: Vec<String> =
        told.into_iter().map(|(says, contexts)| format!("{says} in {}", contexts.join(", "))).collect();
    let winners = || meanings.iter().filter_map(|meaning| meaning.winner.as_ref());
    let packages: BTreeSet<Text> =
        winners().filter_map(|winner| winner.owner.as_ref()).map(|owner| owner.id.clone()).collect();
    let paths: BTreeSet<Text> = winners().map(|winner| winner.path.clone()).collect();
    let mut evidence: Vec<Evidence> = Vec::new();
    for one in because.iter().filter_map(|because| because.first()) {
        if !evidence.contains(one) {
            evidence.push(one.clone());
        }
    }
    Finding {
        kind: "context-dependent-command".to_owned(),
        severity,
        subject: name.clone(),
        summary: format!("{name} is {}", told.join("; ")),
        packages: packages.into_iter().collect(),
        paths: paths.into_iter().collect(),
        consequence: "what works in one place runs another program, or another version of it, in the next".to_owned(),
        remedies: Vec::new(),
        evidence,
        accepted: None,
    }
}
