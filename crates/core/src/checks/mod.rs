//! Every finding of every family.
//!
//! One file per family; `FAMILIES` is the registry. A family looks at one side of the machine and tells
//! what is wrong there; it knows no other family.

mod associations;
pub mod catalogue;
mod commands;
mod companions;
mod doomed;
mod files;
mod groups;
mod held;
mod idle;
mod jobs;
mod launchers;
pub mod leftovers;
mod libraries;
mod modules;
mod programs;
mod protection;
mod reach;
mod recorded;
mod records;
mod release;
pub mod requirements;
mod search_path;
mod settings;
mod sources;
mod unmet;
mod unowned;
mod unused;
mod users;
mod versions;

use std::sync::atomic::{AtomicUsize, Ordering};

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::ByteString;
use crate::model::{CauseKind, Finding, FindingKind, Group, Severity};
pub use crate::queries::CheckContext;
use crate::survey::Survey;
use crate::threads;

pub use recorded::recorded;
pub use settings::{Accepted, Expected, Settings};

/// One side of the machine.
type Find = fn(&CheckContext<'_, '_>) -> Vec<Finding>;

/// A family of findings.
#[derive(Clone, Copy)]
enum Family {
    /// About the machine as a whole.
    Machine(Find),
    /// About what one user's sessions start and show: asked for every user.
    PerUser(Find),
}

use Family::{Machine, PerUser};

/// Every family.
const FAMILIES: &[Family] = &[
    PerUser(commands::shadowed),
    PerUser(commands::across),
    PerUser(commands::taken),
    PerUser(launchers::findings),
    PerUser(jobs::autostart),
    Machine(jobs::findings),
    PerUser(modules::findings),
    PerUser(libraries::findings),
    PerUser(libraries::manuals),
    Machine(search_path::findings),
    Machine(programs::findings),
    Machine(unowned::findings),
    Machine(files::missing),
    Machine(files::shared),
    Machine(requirements::findings),
    Machine(unmet::findings),
    Machine(protection::findings),
    PerUser(versions::findings),
    Machine(records::diagnostics),
    Machine(records::states),
    Machine(records::sandbox_data),
    Machine(records::not_programs),
    Machine(held::findings),
    Machine(sources::nobody),
    Machine(unused::findings),
    Machine(reach::findings),
    Machine(doomed::findings),
    PerUser(associations::findings),
];

/// The answer.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Check {
    /// The selected findings, most severe first.
    pub findings: Vec<Finding>,
    /// The findings that are not accepted by their causes, worst first.
    pub groups: Vec<Group>,
    /// How many there are of those that were asked about, at whatever level.
    pub counts: Counts,
    /// Whether a user is told every finding, and where it stands.
    #[serde(skip)]
    pub is_in_full: bool,
    /// The names that were asked about; every one where there is none.
    #[serde(skip)]
    pub names: Vec<ByteString>,
    /// Accepted findings of the settings that match nothing.
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
pub fn check(cx: &CheckContext<'_, '_>, settings: &Settings, wanted: &FindingFilter) -> Check {
    let mut findings = ask(cx, FAMILIES);
    findings.extend(users::merged(of_each_user(cx, |cx| settings.unmet(cx))));
    findings.extend(release::ended(cx, settings.now));
    findings.extend(sources::findings(cx, settings.now));
    findings.sort_by(Finding::by_importance);
    let idle = settings.mark(&mut findings).into_iter().cloned().collect();
    wanted.select(cx.survey, &mut findings);
    let counts = Counts::of(&findings);
    findings.retain(|finding| wanted.is_serious(finding));
    let groups = groups::grouped(cx.survey, &findings);
    Check { findings, groups, counts, is_in_full: false, names: wanted.names.clone(), idle }
}

/// What `conflicts` tells.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Conflicts {
    /// The findings, most severe first.
    pub findings: Vec<Finding>,
    /// The findings by their causes, worst first.
    pub groups: Vec<Group>,
}

/// The families that find what is in conflict.
const CONFLICT_FAMILIES: &[Family] = &[
    PerUser(versions::findings),
    Machine(files::missing),
    Machine(files::shared),
    Machine(requirements::findings),
    Machine(unmet::findings),
    Machine(protection::findings),
    Machine(programs::findings),
];

/// Where versions, files and environments are in conflict; about these names, or all.
#[must_use]
pub fn conflicts(cx: &CheckContext<'_, '_>, names: &[ByteString]) -> Conflicts {
    let wanted = FindingFilter { names: names.to_vec(), ..FindingFilter::default() };
    let mut findings = ask(cx, CONFLICT_FAMILIES);
    // A link that leads nowhere is nobody's quarrel.
    findings.retain(|finding| finding.kind != FindingKind::DanglingLink);
    wanted.select(cx.survey, &mut findings);
    let groups = groups::grouped(cx.survey, &findings);
    Conflicts { findings, groups }
}

/// The findings of each user, with the user's name.
fn of_each_user(
    cx: &CheckContext<'_, '_>,
    find: impl Fn(&CheckContext<'_, '_>) -> Vec<Finding>,
) -> Vec<(Option<ByteString>, Vec<Finding>)> {
    cx.each().map(|cx| (cx.user().map(|user| user.name.clone()), find(&cx))).collect()
}

/// Asks these families.
fn ask(cx: &CheckContext<'_, '_>, families: &[Family]) -> Vec<Finding> {
    // What all of them need is read before they part, so that none waits for another to do it.
    cx.survey.titled();
    let next = AtomicUsize::new(0);
    let work = || {
        let mut found: Vec<Finding> = Vec::new();
        while let Some(family) = families.get(next.fetch_add(1, Ordering::Relaxed)) {
            found.extend(match family {
                Machine(find) => find(cx),
                PerUser(find) => users::merged(of_each_user(cx, find)),
            });
        }
        found
    };
    // Threads of their own: one of the pool, while it waits for a part of its own family, would be given another
    // family, and could come to wait for itself.
    let threads = threads::count().min(families.len());
    let mut findings: Vec<Finding> = std::thread::scope(|scope| {
        // Where the system gives no more threads, those that there are do the work.
        let spawn = |_| std::thread::Builder::new().spawn_scoped(scope, work).ok();
        let others: Vec<_> = (1..threads).filter_map(spawn).collect();
        let mut found = work();
        found.extend(
            others.into_iter().flat_map(|other| other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))),
        );
        found
    });
    findings.iter_mut().for_each(|finding| users::name_owners(cx.survey.host, finding));
    findings.sort_by(Finding::by_importance);
    findings.dedup();
    findings
}

/// Which findings are shown.
#[derive(Debug, Clone, Default)]
pub struct FindingFilter {
    /// None below it.
    pub level: Option<Severity>,
    /// These kinds only; every kind where there is none.
    pub kinds: Vec<FindingKind>,
    /// About these subjects or packages only; about every one where there is none.
    pub names: Vec<ByteString>,
}

impl FindingFilter {
    /// Whether a finding matters enough.
    fn is_serious(&self, finding: &Finding) -> bool {
        self.level.is_none_or(|level| finding.severity >= level)
    }

    /// Keeps what is asked about; of a name also what has one cause with it.
    fn select(&self, survey: &Survey<'_>, findings: &mut Vec<Finding>) {
        let mut kept: Vec<bool> = findings.iter().map(|finding| self.is_about(finding)).collect();
        if !self.names.is_empty() {
            // That two packages have no source does not make the one a matter of the other.
            let groups = groups::grouped(survey, findings).into_iter();
            for group in groups.filter(|group| group.cause != CauseKind::SourceGone) {
                if group.findings.iter().any(|at| kept[*at]) {
                    group.findings.iter().for_each(|at| kept[*at] = self.is_of_kind(&findings[*at]));
                }
            }
        }
        let mut kept = kept.into_iter();
        findings.retain(|_| kept.next().unwrap_or(false));
    }

    fn is_of_kind(&self, finding: &Finding) -> bool {
        self.kinds.is_empty() || self.kinds.contains(&finding.kind)
    }

    /// Whether a finding is about what is asked.
    fn is_about(&self, finding: &Finding) -> bool {
        let is_about = |name: &ByteString| {
            finding.subject == *name
                || finding.packages.iter().any(|id| id == name || crate::bytes::path::name(id) == &**name)
                || finding.paths.iter().any(|path| crate::bytes::path::name(path) == &**name)
        };
        self.is_of_kind(finding) && (self.names.is_empty() || self.names.iter().any(is_about))
    }
}
