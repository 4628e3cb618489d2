//! What is no longer needed, or no longer installed, and still there.

use std::cmp::Reverse;

use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;

use super::{CheckContext, records, unused, users};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::User;
use crate::model::{Action, Event, Evidence, Finding, FindingKind, package_id};
use crate::queries::left_behind::{PLACES, below_home};
use crate::queries::space::{Cache, Space, caches_of, package_sizes, tree_size};
use crate::queries::timeline::{Span, timeline};

/// One leftover.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Leftover {
    /// What it is, and what to type.
    #[serde(flatten)]
    pub finding: Finding,
    /// Bytes that it takes on the disk; `null` where that is not known.
    pub bytes: Option<u64>,
    /// Whether a record says so; else it is told by names.
    pub certain: bool,
    /// The id of the package that left it, where that is known.
    pub left_by: Option<ByteString>,
}

/// The answer.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Leftovers {
    /// The leftovers, the largest first.
    pub findings: Vec<Leftover>,
    /// What managers keep of what they fetched, the largest first.
    pub caches: Vec<Cache>,
}

/// What software costs on the disk, with what is kept in vain.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct SpaceAnswer {
    /// What it costs.
    #[serde(flatten)]
    pub space: Space,
    /// What managers keep of what they installed although nothing uses it, the largest first; only where no name was
    /// given.
    pub unneeded: Vec<Leftover>,
}

/// The kinds that belong here.
const KINDS: [FindingKind; 13] = [
    FindingKind::SettingsLeft,
    FindingKind::DataLeft,
    FindingKind::UnusedRuntime,
    FindingKind::DisabledRevision,
    FindingKind::OldGeneration,
    FindingKind::UnneededDependency,
    FindingKind::UnreferencedStorePath,
    FindingKind::UnreferencedObject,
    FindingKind::BrokenLauncher,
    FindingKind::DanglingLink,
    FindingKind::BrokenJob,
    FindingKind::BrokenAssociation,
    FindingKind::MissingDirectory,
];

/// Everything that is left.
#[must_use]
pub fn leftovers(cx: &CheckContext<'_, '_>) -> Leftovers {
    let mut findings = records::states(cx);
    findings.extend(records::diagnostics(cx));
    findings.extend(cx.survey.storage_diagnostics());
    findings.extend(unused::findings(cx));
    findings.extend(super::programs::findings(cx));
    findings.extend(super::jobs::findings(cx));
    findings.extend(start_up_lines(cx));
    for find in [super::launchers::findings, super::jobs::autostart, super::associations::findings] {
        findings.extend(users::merged(super::of_each_user(cx, find)));
    }
    // A link or a launcher of a package that is here is put right, not removed.
    let is_of_package = |finding: &Finding| {
        matches!(finding.kind, FindingKind::BrokenLauncher | FindingKind::DanglingLink) && !finding.packages.is_empty()
    };
    findings.retain(|finding| KINDS.contains(&finding.kind) && !is_of_package(finding));
    let mut idle = super::idle::findings(cx);
    idle.extend(super::companions::findings(cx));
    let sizes = sizes_of(cx, findings.iter().chain(&idle));
    let leftover = |(finding, certain): (Finding, bool)| leftover(cx, finding, certain, &sizes);
    // Where a manager itself keeps the data of its packages, the name proves whose they are.
    let proven = records::sandbox_data(cx).into_iter().map(|finding| (finding, true));
    let (by_name, recorded): (Vec<_>, Vec<_>) =
        findings.into_iter().partition(|finding| finding.kind == FindingKind::DataLeft);
    let recorded = recorded.into_iter().map(|finding| (finding, true));
    let by_name = by_name.into_iter().chain(idle).map(|finding| (finding, false));
    let mut all: Vec<Leftover> = recorded.chain(proven).chain(by_name).map(leftover).collect();
    let known: HashSet<ByteString> = all.iter().flat_map(|one| one.finding.paths.iter().cloned()).collect();
    all.extend(of_removed(cx).into_iter().filter(|one| !one.finding.paths.iter().any(|path| known.contains(path))));
    sort(&mut all);
    Leftovers { findings: all, caches: caches_of(cx.survey) }
}

/// What managers keep of what they installed although nothing uses it: runtimes, dependencies, revisions and states that
/// are not in force, store paths and objects that nothing refers to.
#[must_use]
pub fn kept_in_vain(cx: &CheckContext<'_, '_>) -> Vec<Leftover> {
    let mut findings = unused::findings(cx);
    let dead = records::diagnostics(cx).into_iter();
    findings.extend(dead.filter(|finding| finding.kind == FindingKind::UnreferencedStorePath));
    findings.extend(cx.survey.storage_diagnostics());
    let sizes = sizes_of(cx, findings.iter());
    let mut all: Vec<Leftover> = findings.into_iter().map(|finding| leftover(cx, finding, true, &sizes)).collect();
    sort(&mut all);
    all
}

/// What the packages that are left as a whole take on the disk.
fn sizes_of<'f>(cx: &CheckContext<'_, '_>, findings: impl Iterator<Item = &'f Finding>) -> HashMap<ByteString, u64> {
    let whole = findings.filter(|finding| is_whole_package(finding.kind)).flat_map(|finding| &finding.packages);
    package_sizes(cx.survey, &whole.cloned().collect::<Vec<_>>())
}

fn leftover(cx: &CheckContext<'_, '_>, finding: Finding, certain: bool, sizes: &HashMap<ByteString, u64>) -> Leftover {
    let left_by = finding.packages.first().cloned().filter(|_| finding.kind == FindingKind::SettingsLeft);
    Leftover { bytes: bytes(cx, &finding, sizes), certain, left_by, finding }
}

/// Lines of users' own start-up files that search a directory which is gone.
fn start_up_lines(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let host = cx.survey.host;
    let mut found = crate::findings::search_path::findings(host, cx.resolved);
    found.retain(|one| {
        let is_own = |evidence: &Evidence| host.home_owner(&evidence.file).is_some() && evidence.at.line().is_some();
        one.kind == FindingKind::MissingDirectory && one.evidence.iter().any(is_own)
    });
    found
}

/// What is certain comes first; then what frees the most, what one command removes together.
fn sort(all: &mut [Leftover]) {
    let command = |one: &Leftover| one.finding.remedies.first().map(|remedy| remedy.command.clone());
    let mut totals: HashMap<(FindingKind, Option<String>), u64> = HashMap::new();
    for one in all.iter() {
        *totals.entry((one.finding.kind, command(one))).or_default() += one.bytes.unwrap_or(0);
    }
    all.sort_by_cached_key(|one| {
        let together = (one.finding.kind, command(one));
        let total = totals.get(&together).copied().unwrap_or(0);
        (!one.certain, Reverse(total), together, Reverse(one.bytes), one.finding.subject.clone())
    });
}

/// Whether what is left is a package with all its files.
fn is_whole_package(kind: FindingKind) -> bool {
    matches!(
        kind,
        FindingKind::UnusedRuntime
            | FindingKind::DisabledRevision
            | FindingKind::UnneededDependency
            | FindingKind::UnusedInterpreter
    )
}

fn bytes(cx: &CheckContext<'_, '_>, finding: &Finding, sizes: &HashMap<ByteString, u64>) -> Option<u64> {
    match finding.kind {
        kind if is_whole_package(kind) => finding.packages.iter().map(|id| sizes.get(id).copied()).sum(),
        FindingKind::SettingsLeft => {
            let files = settings_of(cx, &finding.packages)?;
            Some(files.iter().map(|file| tree_size(cx.survey.root(), file).unwrap_or(0)).sum())
        }
        // A line of a table frees nothing.
        FindingKind::BrokenJob if finding.remedies.is_empty() => None,
        FindingKind::DataLeft
        | FindingKind::BrokenLauncher
        | FindingKind::DanglingLink
        | FindingKind::UnreachedEnvironment
        | FindingKind::BrokenJob => finding.paths.iter().take(1).map(|path| tree_size(cx.survey.root(), path)).sum(),
        FindingKind::StrayCompanion => finding.paths.iter().map(|path| tree_size(cx.survey.root(), path)).sum(),
        _ => finding.size,
    }
}

/// The settings files that are left of packages; `None` where their manager does not record them.
fn settings_of(cx: &CheckContext<'_, '_>, ids: &[ByteString]) -> Option<Vec<ByteString>> {
    let mut found = Vec::new();
    for id in ids {
        let (holder, number) = cx.survey.by_name_or_id(id).into_iter().next()?;
        found.extend(cx.survey.installations()[usize::from(holder)].settings_files(number)?);
    }
    Some(found)
}

/// Directories in users' homes that have the name of software which a log tells was removed, and which nothing here is
/// called any more. This is told by the name alone.
fn of_removed(cx: &CheckContext<'_, '_>) -> Vec<Leftover> {
    let survey = cx.survey;
    let mut last: HashMap<ByteString, Event> = HashMap::new();
    for event in timeline(survey, &Span::default()).events {
        last.insert(event.name.to_ascii_lowercase().into(), event);
    }
    last.retain(|_, event| event.action == Action::Remove || event.action == Action::Configure);
    // Whatever is called so in any way may still use it.
    let titled = survey.titled();
    for package in &titled.packages {
        last.remove(&ByteString::from(package.name.to_ascii_lowercase()));
        if let Some(title) = &package.title {
            last.remove(&ByteString::from(title.to_ascii_lowercase()));
        }
        for command in &package.commands {
            last.remove(&ByteString::from(path::name(command).to_ascii_lowercase()));
        }
    }
    for search in cx.all_searches() {
        last.retain(|name, _| search.reach(survey.root(), name).copies.is_empty());
    }
    let mut found = Vec::new();
    for user in &survey.host.users {
        for (dir, prefix) in PLACES {
            let below = below_home(user, dir);
            let names = survey.root().names_in(&below);
            for (name, _) in names.into_iter().filter(|(_, kind)| *kind == Kind::Dir) {
                let Some(bare) = name.strip_prefix(prefix) else { continue };
                if let Some(event) = last.get(&ByteString::from(bare.to_ascii_lowercase())) {
                    found.push(probable(cx, user, &path::join(&below, &name), event));
                }
            }
        }
    }
    found
}

fn probable(cx: &CheckContext<'_, '_>, user: &User, dir: &ByteString, event: &Event) -> Leftover {
    let gone = format!("{}, which {} removed", event.name, event.manager);
    let mut finding =
        records::left(cx, dir.clone(), &event.name, &gone, "package", "has the name of the package".to_owned());
    finding.summary = format!("{dir} is probably left of {gone}");
    finding.evidence.extend(event.evidence.iter().take(1).cloned());
    finding.users = vec![user.name.clone()];
    let bytes = tree_size(cx.survey.root(), dir);
    Leftover { finding, bytes, certain: false, left_by: Some(package_id(event.manager, &event.scope, &event.name)) }
}
