//! What would happen if packages were removed: what runs instead, and what stops working.

mod breaks;
mod commands;
mod gone;

use hashbrown::HashSet;
use schemars::JsonSchema;
use serde::Serialize;

use super::left_behind::{LeftBehind, left_behind};
use super::space::reclaimable;
use super::{CheckContext, Located, by_holder};
use crate::bytes::ByteString;
use crate::model::{Evidence, Owner};
use crate::resolve::Context;
use crate::survey::Survey;
use gone::Gone;

/// A command in one context, before and after the removal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Lost {
    /// The command's name.
    pub name: ByteString,
    /// The contexts in which it is so.
    pub contexts: Vec<Context>,
    /// The users for whom it is so; empty for a search path that was given.
    pub users: Vec<ByteString>,
    /// The copy that would go.
    pub path: ByteString,
    /// What would run instead; `null` where nothing would.
    pub instead: Option<Located>,
}

/// How something stops working.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// Its manager knows that it depends on what would go.
    Dependency,
    /// A script loses its interpreter.
    Interpreter,
    /// An environment loses its base interpreter.
    Base,
    /// A program loses a shared library.
    Library,
    /// A launcher starts nothing.
    Launcher,
    /// A link points to a missing file.
    Link,
}

impl How {
    /// What it is, in a few words.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            How::Dependency => "depends on it",
            How::Interpreter => "loses its interpreter",
            How::Base => "loses its base interpreter",
            How::Library => "loses a library",
            How::Launcher => "starts nothing",
            How::Link => "points to a missing file",
        }
    }
}

/// Something that stops working.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Broken {
    /// How.
    pub how: How,
    /// The file, directory or launcher; of a package that depends on what would go, `null`.
    pub path: Option<ByteString>,
    /// Whose it is.
    pub owner: Option<Owner>,
    /// What it loses.
    pub loses: ByteString,
    /// Whether the manager of what is removed knows: then it asks, or removes it as well.
    pub noticed: bool,
    /// Where that stands.
    pub evidence: Vec<Evidence>,
}

/// The answer.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Impact {
    /// The packages that would go.
    pub packages: Vec<Owner>,
    /// What becomes of their commands.
    pub commands: Vec<Lost>,
    /// What stops working.
    pub broken: Vec<Broken>,
    /// Bytes on the disk that removing them frees, with what only they need; 0 where something else needs them, `null`
    /// where that is not known.
    pub frees: Option<u64>,
    /// What would be left: settings files, and what users keep of the software.
    pub left: Vec<LeftBehind>,
    /// Managers whose declared dependencies are not read: what they would notice is not known.
    pub unknown: Vec<String>,
    /// Why a manager does not remove a package without being forced to.
    pub protected: Vec<Evidence>,
    /// The other packages of the names that were asked for, each by itself.
    pub others: Vec<Impact>,
}

/// The environments, scripts and compiled programs that need files of these packages (holder and number), whoever
/// they belong to.
#[must_use]
pub fn lost_by(cx: &CheckContext<'_, '_>, packages: &[(u16, u32)]) -> Vec<Broken> {
    let gone = Gone::of(cx.survey, packages);
    let mut lost = breaks::environments(cx, &gone);
    lost.extend(breaks::programs(cx, &gone));
    lost
}

/// The files and directories that go with packages: the files that only they record, and what is theirs with everything
/// in it.
pub(crate) fn deleted_with(survey: &Survey<'_>, packages: &[(u16, u32)]) -> Vec<ByteString> {
    let mut deleted = Gone::of(survey, packages).into_files();
    for (holder, numbers) in by_holder(packages.iter().copied()) {
        let trees = survey.installations()[usize::from(holder)].trees().into_iter();
        deleted.extend(trees.filter(|(number, _)| numbers.contains(number)).map(|(_, tree)| tree));
    }
    deleted.retain(|path| survey.root().entry(path).is_ok());
    deleted
}

/// What would happen if the packages (holder and number) of each of these sets were removed. The disk is measured once.
#[must_use]
pub fn impacts(cx: &CheckContext<'_, '_>, sets: &[&[(u16, u32)]]) -> Vec<Impact> {
    let freed = reclaimable(cx.survey, sets);
    sets.iter().zip(freed).map(|(packages, frees)| Impact { frees, ..impact(cx, packages) }).collect()
}

fn impact(cx: &CheckContext<'_, '_>, packages: &[(u16, u32)]) -> Impact {
    let survey = cx.survey;
    let mut answer = Impact::default();
    if packages.is_empty() {
        return answer;
    }
    let mut dependents = Vec::new();
    for (holder, of_holder) in by_holder(packages.iter().copied()) {
        let held = &survey.installations()[usize::from(holder)];
        let relations = held.relations();
        answer.packages.extend(of_holder.iter().map(|number| held.owner(*number)));
        let protections = of_holder.iter().filter_map(|number| relations?.protection(*number));
        answer.protected.extend(protections);
        match relations.and_then(|relations| relations.dependents(&of_holder)) {
            Some(lost) => dependents.extend(lost.into_iter().map(|(number, evidence)| (holder, number, evidence))),
            None => answer.unknown.push(held.location().manager.to_string()),
        }
    }
    // What the manager takes along is gone as well, and everything that breaks because of that breaks too.
    let taken = dependents.iter().map(|(holder, number, _)| (*holder, *number));
    let all: Vec<(u16, u32)> = packages.iter().copied().chain(taken).collect();
    let mut across: Vec<Broken> = Vec::new();
    for (holder, numbers) in by_holder(all.iter().copied()) {
        let held = &survey.installations()[usize::from(holder)];
        for (other, one) in survey.dependents_elsewhere(holder, &numbers) {
            if dependents.iter().any(|(of, number, _)| (*of, *number) == (other, one.package)) {
                continue;
            }
            across.push(Broken {
                how: How::Dependency,
                path: None,
                owner: Some(survey.installations()[usize::from(other)].owner(one.package)),
                loses: held.owner(one.needs).full_name(),
                noticed: false,
                evidence: vec![one.evidence],
            });
        }
    }
    answer.unknown.dedup();
    let gone = Gone::of(survey, &all);
    let noticed: HashSet<ByteString> = dependents
        .iter()
        .map(|(holder, number, _)| survey.installations()[usize::from(*holder)].owner(*number).id)
        .collect();
    let names: Vec<String> = answer.packages.iter().map(|owner| owner.full_name().to_string()).collect();
    let whole = ByteString::from(names.join(", "));
    answer.broken.extend(dependents.into_iter().map(|(holder, number, evidence)| Broken {
        how: How::Dependency,
        path: None,
        owner: Some(survey.installations()[usize::from(holder)].owner(number)),
        loses: whole.clone(),
        noticed: true,
        evidence: vec![evidence],
    }));
    answer.broken.append(&mut across);
    answer.commands = commands::commands(cx, &gone);
    answer.left = left_behind(survey, packages);
    answer.broken.extend(breaks::programs(cx, &gone));
    answer.broken.extend(breaks::environments(cx, &gone));
    for cx in cx.each() {
        answer.broken.extend(breaks::of_launchers(&cx, &gone));
    }
    for one in &mut answer.broken {
        one.noticed |= one.owner.as_ref().is_some_and(|owner| noticed.contains(&owner.id));
    }
    answer.broken.sort_by(|a, b| (a.noticed, a.how, &a.path).cmp(&(b.noticed, b.how, &b.path)));
    answer.broken.dedup();
    answer
}
