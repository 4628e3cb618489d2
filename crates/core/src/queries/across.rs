//! Which names mean different programs in different contexts.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use schemars::JsonSchema;
use serde::Serialize;

use super::shadows::Shadow;
use super::{Located, locate};
use crate::bytes::ByteString;
use crate::fs::Kind;
use crate::managers::keeps_versions;
use crate::model::{Evidence, Finding, FindingKind, Owner, Scope, Severity};
use crate::resolve::words::Taken;
use crate::resolve::{Context, Copy, Resolution, SearchPath};
use crate::survey::Survey;

/// What one name is in one context.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Meaning {
    /// The program that runs; none where no directory has one.
    pub winner: Option<Located>,
    /// What the shell takes the name for before it searches.
    pub taken: Option<Taken>,
}

/// One name, and what it is in each context.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// The name.
    pub name: ByteString,
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
    /// The comparison as a table: one row per name.
    #[serde(skip)]
    pub rows: Vec<Row>,
    /// Whose contexts they are; empty for search paths that were given.
    #[serde(skip)]
    pub users: Vec<ByteString>,
}

/// The lookup of a name on one search path, before any record is read.
struct Lookup {
    /// The program that it reaches first.
    copy: Option<Copy>,
    /// Why that is the first.
    because: Vec<Evidence>,
    taken: Option<Taken>,
    /// The resolution of the program; computed only where it may differ.
    resolution: Option<Resolution>,
}

/// Compares what names reach on each search path; all names, or these.
#[must_use]
pub fn across(survey: &Survey<'_>, searches: &[SearchPath], names: &[ByteString]) -> Across {
    let root = survey.root();
    let candidates: Vec<ByteString> = if names.is_empty() { in_several_dirs(survey, searches) } else { names.to_vec() };
    // The file that wins in each context, before any record is read.
    let mut found: Vec<(ByteString, Vec<Lookup>)> = Vec::new();
    for name in candidates {
        let lookups = searches.iter().map(|search| {
            let reached = search.reach(root, &name);
            Lookup {
                because: search.because(&reached),
                copy: reached.copies.into_iter().next(),
                taken: taken(search, &name),
                resolution: None,
            }
        });
        let mut lookups: Vec<Lookup> = lookups.collect();
        let identities: BTreeSet<_> =
            lookups.iter().filter_map(|lookup| Some(lookup.copy.as_ref()?.meta.identity)).collect();
        let is_hidden = lookups.iter().any(|lookup| lookup.taken.is_some());
        if identities.len() > 1 || (is_hidden && !identities.is_empty()) || !names.is_empty() {
            for (lookup, search) in lookups.iter_mut().zip(searches) {
                lookup.resolution = lookup.copy.as_ref().map(|copy| survey.resolution(search, &copy.path));
            }
            found.push((name, lookups));
        }
    }
    let resolutions =
        || found.iter().flat_map(|(_, lookups)| lookups.iter().filter_map(|lookup| lookup.resolution.as_ref()));
    let index = survey.claims(resolutions().flat_map(Resolution::paths).map(|path| &**path));
    let (mut rows, mut shadows, mut findings) = (Vec::new(), Vec::new(), Vec::new());
    for (name, lookups) in &found {
        let mut known: Vec<(&ByteString, Located)> = Vec::new();
        let meanings = lookups.iter().map(|lookup| {
            let winner = lookup.copy.as_ref().zip(lookup.resolution.as_ref()).map(|(copy, resolution)| {
                let path = &copy.path;
                let known_one = known.iter().find(|(known, _)| *known == path).map(|(_, located)| located.clone());
                known_one.unwrap_or_else(|| {
                    let located = locate(survey, &index, path, resolution);
                    known.push((path, located.clone()));
                    located
                })
            });
            Meaning { winner, taken: lookup.taken.clone() }
        });
        let meanings: Vec<Meaning> = meanings.collect();
        let lasts: BTreeSet<&ByteString> =
            lookups.iter().filter_map(|lookup| Some(lookup.resolution.as_ref()?.last())).collect();
        let differs = lasts.len() > 1 || meanings.iter().any(|meaning| meaning.taken.is_some());
        if !differs && names.is_empty() {
            continue;
        }
        let severity = weigh(&meanings);
        for ((meaning, search), lookup) in meanings.iter().zip(searches).zip(lookups) {
            if let Some(winner) = &meaning.winner {
                shadows.push(Shadow {
                    kind: "command".to_owned(),
                    name: name.clone(),
                    context: search.context,
                    users: search.user.iter().cloned().collect(),
                    winner: winner.clone(),
                    hidden: Vec::new(),
                    because: lookup.because.clone(),
                    severity,
                    meaning: says(meaning),
                });
            }
        }
        if differs {
            findings.push(finding(name, severity, &meanings, searches, lookups));
        }
        rows.push(Row { name: name.clone(), severity, meanings });
    }
    rows.sort_by(|a, b| b.severity.cmp(&a.severity).then_with(|| a.name.cmp(&b.name)));
    findings.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
    let contexts = searches.iter().map(|search| search.context).collect();
    let users = searches.iter().find_map(|search| search.user.clone()).into_iter().collect();
    Across { shadows, findings, contexts, rows, users }
}

/// What the shell takes a name for, builtins aside: those are the same in every shell that is typed into.
fn taken(search: &SearchPath, name: &[u8]) -> Option<Taken> {
    use crate::resolve::words::{TakenFor, is_same_program};
    let taken = search.words.as_ref()?.take(name)?;
    let is_named = matches!(taken.how, TakenFor::Alias | TakenFor::Function);
    let is_same = taken.value.as_ref().is_some_and(|value| is_same_program(name, value));
    (is_named && !is_same).then_some(taken)
}

/// Names that stand in more than one of the directories that any context searches, and names of shells.
fn in_several_dirs(survey: &Survey<'_>, searches: &[SearchPath]) -> Vec<ByteString> {
    let root = survey.root();
    let mut dirs: BTreeMap<&ByteString, &ByteString> = BTreeMap::new();
    for entry in searches.iter().flat_map(|search| &search.entries) {
        dirs.entry(&entry.canonical).or_insert(&entry.dir);
    }
    let mut counts: hashbrown::HashMap<ByteString, u32> = hashbrown::HashMap::new();
    for dir in dirs.values() {
        let names = root.names_in(dir);
        for (name, _) in names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link)) {
            *counts.entry(name).or_default() += 1;
        }
    }
    let of_shells: BTreeSet<&[u8]> =
        searches.iter().filter_map(|search| search.words.as_ref()).flat_map(|words| words.names()).collect();
    let mut names: Vec<ByteString> = counts
        .into_iter()
        .filter(|(name, count)| *count > 1 || of_shells.contains(&**name))
        .map(|(name, _)| name)
        .collect();
    names.sort();
    names
}

/// The severity: another program or version matters; versions kept on purpose do not.
fn weigh(meanings: &[Meaning]) -> Severity {
    let winners: Vec<&Located> = meanings.iter().filter_map(|meaning| meaning.winner.as_ref()).collect();
    let owners: BTreeSet<Option<&ByteString>> =
        winners.iter().map(|winner| winner.owner.as_ref().map(|owner| &owner.id)).collect();
    // What lies in an environment of its own is reached only where somebody switched it on.
    let kept = |winner: &&Located| {
        let is_apart = |owner: &Owner| keeps_versions(owner.manager) || matches!(owner.scope, Scope::Environment(_));
        winner.owner.as_ref().is_some_and(is_apart)
    };
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

/// The findings about a name, each with the contexts in which it holds, in their original order.
#[derive(Debug, Default)]
pub(crate) struct Told(pub(crate) Vec<(String, Vec<&'static str>)>);

impl Told {
    /// Adds what is so in one context.
    pub(crate) fn add(&mut self, says: String, context: Context) {
        match self.0.iter_mut().find(|(known, _)| *known == says) {
            Some((_, contexts)) => contexts.push(context.word()),
            None => self.0.push((says, vec![context.word()])),
        }
    }
}

impl fmt::Display for Told {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, (says, contexts)) in self.0.iter().enumerate() {
            let between = if place > 0 { "; " } else { "" };
            write!(f, "{between}{says} in {}", contexts.join(", "))?;
        }
        Ok(())
    }
}

fn finding(
    name: &ByteString,
    severity: Severity,
    meanings: &[Meaning],
    searches: &[SearchPath],
    lookups: &[Lookup],
) -> Finding {
    let mut told = Told::default();
    for (meaning, search) in meanings.iter().zip(searches) {
        let says = match &meaning.winner {
            Some(winner) if meaning.taken.is_none() && winner.owner.is_none() => {
                format!("an unowned program ({})", winner.path)
            }
            Some(winner) if meaning.taken.is_none() => format!("{} ({})", says(meaning), winner.path),
            _ => says(meaning),
        };
        told.add(says, search.context);
    }
    let winners = || meanings.iter().filter_map(|meaning| meaning.winner.as_ref());
    let packages: BTreeSet<ByteString> =
        winners().filter_map(|winner| winner.owner.as_ref()).map(|owner| owner.id.clone()).collect();
    let paths: BTreeSet<ByteString> = winners().map(|winner| winner.path.clone()).collect();
    let mut evidence: Vec<Evidence> = Vec::new();
    for one in lookups.iter().filter_map(|lookup| lookup.because.first()) {
        if !evidence.contains(one) {
            evidence.push(one.clone());
        }
    }
    let summary = format!("{name} is {told}");
    let consequence = "what works in one context runs a different program or version in another";
    Finding {
        packages: packages.into_iter().collect(),
        paths: paths.into_iter().collect(),
        evidence,
        ..Finding::new(FindingKind::ContextDependentCommand, severity, name.clone(), summary, consequence)
    }
}
