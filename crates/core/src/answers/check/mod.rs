//! Every finding of every family.
//!
//! One file per family; `FAMILIES` is the registry. A family looks at one side of the machine and tells
//! what is wrong there; it knows no other family.

mod commands;
mod files;
mod folders;
mod held;
mod launchers;
mod libraries;
mod modules;
mod programs;
mod protection;
mod records;
pub mod requirements;
mod settings;
mod unowned;
mod versions;

use std::sync::atomic::{AtomicUsize, Ordering};

use schemars::JsonSchema;
use serde::Serialize;

use crate::model::{Finding, FindingKind, Severity};
use crate::search::{Context, SearchPath, Situation};
use crate::survey::Survey;
use crate::text::Text;

pub use settings::{Accepted, Expected, Settings};

/// What the families look at.
pub struct Look<'a, 's> {
    /// The machine.
    pub survey: &'a Survey<'s>,
    /// The search path of each context of the person whose log-in stands for all.
    pub searches: &'a [SearchPath],
    /// What these contexts start with, in the same order; fewer where a search path was given.
    pub usual: &'a [Situation],
    /// The contexts of everyone.
    pub situations: &'a [Situation],
}

impl Look<'_, '_> {
    /// The search path that a person at this machine types into: that of a terminal, else of a log-in, else the first.
    pub(super) fn typed(&self) -> &SearchPath {
        let of = |context| self.searches.iter().find(|search| search.context == context);
        of(Context::Terminal).or_else(|| of(Context::Login)).unwrap_or(&self.searches[0])
    }

    /// Every folder in which programs lie that any context searches, or that a manager fills, each once.
    pub(super) fn program_folders(&self) -> Vec<Text> {
        let mut folders: Vec<Text> = self.survey.program_folders();
        folders.extend(self.searches.iter().flat_map(|search| &search.entries).map(|entry| entry.settled.clone()));
        let mut seen = hashbrown::HashSet::new();
        folders.retain(|folder| folder.starts_with(b"/") && seen.insert(self.survey.root().settle_folder(folder)));
        folders
    }

    /// What that context starts with.
    fn typed_situation(&self) -> Option<&Situation> {
        self.usual.iter().find(|one| one.context == self.typed().context)
    }
}

/// One side of the machine.
type Family = fn(&Look<'_, '_>) -> Vec<Finding>;

/// Every family.
const FAMILIES: &[Family] = &[
    commands::shadowed,
    commands::across,
    commands::taken,
    launchers::findings,
    modules::findings,
    libraries::findings,
    libraries::manuals,
    folders::findings,
    programs::findings,
    unowned::findings,
    files::missing,
    files::shared,
    requirements::findings,
    protection::findings,
    versions::findings,
    records::peculiar,
    records::states,
    records::not_programs,
    held::findings,
];

/// The answer.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Check {
    /// What was found and asked for; what matters most comes first.
    pub findings: Vec<Finding>,
    /// How many there are of those that were asked about, at whatever level.
    pub counts: Counts,
    /// Whether a person is told where each stands.
    #[serde(skip)]
    pub with_evidence: bool,
    /// What the settings accept and nothing of which was found.
    #[serde(skip)]
    pub idle: Vec<Accepted>,
}

/// How many findings there are.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Counts {
    /// Broken or unsafe now.
    pub error: usize,
    /// Will surprise or break.
    pub warning: usize,
    /// Worth knowing.
    pub note: usize,
    /// Accepted by the settings, and not among the others.
    pub accepted: usize,
}

impl Counts {
    /// Counts.
    #[must_use]
    pub fn of(findings: &[Finding]) -> Self {
        let mut counts = Counts::default();
        for finding in findings {
            let count = match (&finding.accepted, finding.severity) {
                (Some(_), _) => &mut counts.accepted,
                (None, Severity::Error) => &mut counts.error,
                (None, Severity::Warning) => &mut counts.warning,
                (None, Severity::Note) => &mut counts.note,
            };
            *count += 1;
        }
        counts
    }
}

/// Asks every family.
#[must_use]
pub fn check(look: &Look<'_, '_>, settings: &Settings, wanted: &Wanted) -> Check {
    let mut findings = ask(look, FAMILIES);
    findings.extend(settings.unmet(look));
    findings.sort_by(order);
    findings.retain(|finding| wanted.is_about(finding));
    let idle = settings.mark(&mut findings).into_iter().cloned().collect();
    let counts = Counts::of(&findings);
    findings.retain(|finding| wanted.is_serious(finding));
    Check { findings, counts, with_evidence: false, idle }
}

/// What `conflicts` tells.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Conflicts {
    /// What was found; what matters most comes first.
    pub findings: Vec<Finding>,
}

/// The families that find what is at odds.
const AT_ODDS: &[Family] = &[
    versions::findings,
    files::missing,
    files::shared,
    requirements::findings,
    protection::findings,
    programs::findings,
];

/// Where versions, files and environments are at odds; about these names, or all.
#[must_use]
pub fn conflicts(look: &Look<'_, '_>, names: &[Text]) -> Conflicts {
    let wanted = Wanted { names: names.to_vec(), ..Wanted::default() };
    let mut findings = ask(look, AT_ODDS);
    // A link that leads nowhere is nobody's quarrel.
    findings.retain(|finding| finding.kind != FindingKind::DanglingLink && wanted.is_about(finding));
    Conflicts { findings }
}

/// Asks these families.
fn ask(look: &Look<'_, '_>, families: &[Family]) -> Vec<Finding> {
    // What all of them need is read before they part, so that none waits for another to do it.
    look.survey.titled();
    let next = AtomicUsize::new(0);
    let work = || {
        let mut found: Vec<Finding> = Vec::new();
        while let Some(family) = families.get(next.fetch_add(1, Ordering::Relaxed)) {
            found.extend(family(look));
        }
        found
    };
    // Threads of their own: one of the pool, while it waits for a part of its own family, would be given another
    // family, and could come to wait for itself.
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(families.len());
    let mut findings: Vec<Finding> = std::thread::scope(|scope| {
        let others: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
        let mut found = work();
        found.extend(
            others.into_iter().flat_map(|other| other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))),
        );
        found
    });
    findings.sort_by(order);
    findings.dedup();
    findings
}

/// What matters most first; then by subject, so that what is said of one thing stands together.
pub(super) fn order(a: &Finding, b: &Finding) -> std::cmp::Ordering {
    let key = |finding: &Finding| (std::cmp::Reverse(finding.severity), finding.subject.clone(), finding.kind);
    key(a).cmp(&key(b)).then_with(|| a.summary.cmp(&b.summary))
}

/// Which findings are shown.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// None below it.
    pub level: Option<Severity>,
    /// These kinds only; every kind where there is none.
    pub kinds: Vec<FindingKind>,
    /// About these subjects or packages only; about every one where there is none.
    pub names: Vec<Text>,
}

impl Wanted {
    /// Whether a finding matters enough.
    fn is_serious(&self, finding: &Finding) -> bool {
        self.level.is_none_or(|level| finding.severity >= level)
    }

    /// Whether a finding is about what is asked.
    fn is_about(&self, finding: &Finding) -> bool {
        let is_about = |name: &Text| {
            finding.subject == *name
                || finding.packages.iter().any(|id| id == name || crate::text::path::name(id) == &**name)
                || finding.paths.iter().any(|path| crate::text::path::name(path) == &**name)
        };
        (self.kinds.is_empty() || self.kinds.contains(&finding.kind))
            && (self.names.is_empty() || self.names.iter().any(is_about))
    }
}
