//! Findings by their causes: what is mended with one remedy is told once.

mod absent;

use std::cmp::Reverse;

use hashbrown::{HashMap, HashSet};

use crate::bytes::{ByteString, path};
use crate::managers;
use crate::model::FindingKind::{
    AliasHidesCommand, AlteredFile, AlteredSettings, BrokenAssociation, BrokenInterpreter, BrokenJob, BrokenLauncher,
    BrokenPackage, BuiltinHidesCommand, BypassedProtection, ContextDependentCommand, DanglingLink, DataLeft,
    DeadOrigin, DuplicateDirectory, DuplicateLauncher, DuplicateTitle, FunctionHidesCommand, HalfInstalled, HeldBack,
    InvisibleLauncher, LauncherRunsOther, MaskedLauncher, MaskedLibrary, MaskedModule, MismatchedManual,
    MissingDirectory, MissingFile, MissingLibrary, NoOrigin, NobodyUpdates, OverwrittenFile, RecordDisagrees,
    RelativeDirectory, RunsOtherCode, SettingsLeft, ShadowedCommand, StaleBase, TwoOwners, UnmetRequirement,
    UnneededDependency, UnreachableProgram, VersionSplit, WritableDirectory,
};
use crate::model::{Cause, CauseKind, Finding, Group, ManagerId, Severity};
use crate::survey::Survey;
use absent::Absent;

/// Names that a summary lists before it only counts.
const MAX_NAMED: usize = 3;

/// The groups of the findings that are not accepted: the worst first, then those that touch the most.
#[must_use]
pub fn grouped(survey: &Survey<'_>, findings: &[Finding]) -> Vec<Group> {
    let open: Vec<usize> = (0..findings.len()).filter(|at| findings[*at].accepted.is_none()).collect();
    let known = KnownCauses {
        survey,
        titles: titles_of(survey, open.iter().map(|at| &findings[*at])),
        absent: Absent::among(survey, open.iter().map(|at| &findings[*at])),
    };
    let mut of_cause: HashMap<Cause, usize> = HashMap::new();
    let mut sets = Sets((0..findings.len()).collect());
    for &at in &open {
        for cause in known.causes(&findings[at]) {
            let first = *of_cause.entry(cause).or_insert(at);
            sets.join(first, at);
        }
    }
    let mut members: Vec<Vec<usize>> = vec![Vec::new(); findings.len()];
    for &at in &open {
        members[sets.root(at)].push(at);
    }
    members.retain(|group| !group.is_empty());
    let mut groups: Vec<Group> = members.into_iter().map(|members| known.group(findings, members)).collect();
    let touched = |group: &Group| -> usize {
        let of = |at: &usize| findings[*at].paths.len().max(1) * findings[*at].users.len().max(1);
        group.findings.iter().map(of).sum()
    };
    groups.sort_by_cached_key(|group| (Reverse(group.severity), Reverse(touched(group)), group.subject.clone()));
    groups
}

/// Sets that are joined one by one.
struct Sets(Vec<usize>);

impl Sets {
    fn root(&mut self, at: usize) -> usize {
        let mut root = at;
        while self.0[root] != root {
            // Halves the way for whoever comes next.
            self.0[root] = self.0[self.0[root]];
            root = self.0[root];
        }
        root
    }

    fn join(&mut self, one: usize, two: usize) {
        let (one, two) = (self.root(one), self.root(two));
        self.0[one.max(two)] = one.min(two);
    }
}

type TitlesOf = HashMap<ByteString, ByteString>;

/// The titles of the packages that findings name.
fn titles_of<'f>(survey: &Survey<'_>, findings: impl Iterator<Item = &'f Finding>) -> TitlesOf {
    let wanted: HashSet<&ByteString> = findings.flat_map(|finding| &finding.packages).collect();
    if wanted.is_empty() {
        return TitlesOf::new();
    }
    let packages = survey.titled().packages.iter().filter(|package| wanted.contains(&package.id));
    packages.filter_map(|package| Some((package.id.clone(), package.title.clone()?))).collect()
}

/// What is known of the findings' causes.
struct KnownCauses<'a, 's> {
    survey: &'a Survey<'s>,
    titles: TitlesOf,
    absent: Absent<'a, 's>,
}

impl KnownCauses<'_, '_> {
    /// What a finding may share with others.
    fn causes(&self, finding: &Finding) -> Vec<Cause> {
        let survey = self.survey;
        let of_titles = || finding.packages.iter().filter_map(|id| self.titles.get(id)).cloned().map(Cause::Title);
        // The distribution's own package is where another one came in between; that one is the cause.
        let of_intruders = || {
            let is_foreign = |id: &&ByteString| !managers::is_system(manager_of(id));
            let foreign: Vec<&ByteString> = finding.packages.iter().filter(is_foreign).collect();
            let all = if foreign.is_empty() { finding.packages.iter().collect() } else { foreign };
            all.into_iter().cloned().map(Cause::Package)
        };
        let of_programs = || finding.paths.iter().map(|path| Cause::Program(plain(survey, path)));
        let mut causes: Vec<Cause> = finding.causes.iter().map(|cause| self.nearest(cause)).collect();
        match finding.kind {
            ShadowedCommand
            | ContextDependentCommand
            | AliasHidesCommand
            | FunctionHidesCommand
            | BuiltinHidesCommand => {
                causes.push(Cause::Command(finding.subject.clone()));
                causes.extend(of_titles().chain(of_programs()));
            }
            MismatchedManual | MaskedLibrary => causes.extend(of_titles().chain(of_programs())),
            VersionSplit | DuplicateTitle => causes.extend(of_titles().chain(of_intruders())),
            MaskedLauncher | DuplicateLauncher | LauncherRunsOther => causes.extend(of_titles()),
            OverwrittenFile | TwoOwners | BypassedProtection | MaskedModule | RunsOtherCode | UnmetRequirement => {
                causes.extend(of_intruders());
            }
            MissingFile => {
                let gone = self.absent.behind(finding);
                // One directory that many packages miss is no matter of any of them.
                if gone.as_ref().is_none_or(|gone| !self.absent.is_shared(gone)) {
                    causes.extend(finding.packages.iter().cloned().map(Cause::Record));
                }
                causes.extend(gone.map(Cause::Missing));
            }
            AlteredFile | AlteredSettings | HalfInstalled | BrokenPackage | BrokenInterpreter | StaleBase
            | DanglingLink | MissingLibrary | RecordDisagrees => {
                causes.extend(finding.packages.iter().cloned().map(Cause::Record));
            }
            NoOrigin => causes.extend(finding.packages.iter().map(|id| Cause::Source(installation_of(id)))),
            HeldBack => causes.extend(finding.packages.iter().cloned().map(Cause::Record)),
            SettingsLeft | DataLeft => causes.push(Cause::Remains(finding.subject.clone())),
            MissingDirectory | DuplicateDirectory | RelativeDirectory | WritableDirectory => {
                causes.extend(finding.paths.iter().map(|path| Cause::Directory(plain(survey, path))));
            }
            _ => {}
        }
        causes
    }

    /// A cause, and of what is missing the first part.
    fn nearest(&self, cause: &Cause) -> Cause {
        match cause {
            Cause::Missing(file) => Cause::Missing(self.absent.first_part(file)),
            other => other.clone(),
        }
    }

    /// One group. Its first finding is the worst that has a remedy, and of those the one that names the most packages.
    fn group(&self, findings: &[Finding], mut members: Vec<usize>) -> Group {
        let key = |at: &usize| {
            let finding = &findings[*at];
            // What a package misses is behind the links that lead there, and not they behind it.
            let is_behind = finding.kind != MissingFile;
            (Reverse(finding.severity), is_behind, finding.remedies.is_empty(), Reverse(finding.packages.len()), *at)
        };
        members.sort_by_key(key);
        let lead = &findings[members[0]];
        let severity = members.iter().map(|at| findings[*at].severity).max().unwrap_or(Severity::Note);
        // What mends another kind of finding may not mend this one.
        let alike = members.iter().map(|at| &findings[*at]).filter(|finding| finding.kind == lead.kind);
        let mut first_remedy = alike.clone().find_map(|finding| finding.remedies.first().cloned());
        // What many packages kept in one directory comes back with each of them; the directory itself, with any.
        if let Some(gone) = self.absent.behind(lead).filter(|gone| self.absent.is_shared(gone))
            && alike.clone().flat_map(|finding| &finding.paths).any(|file| *file != gone)
        {
            first_remedy = None;
        }
        let mut users: Vec<ByteString> = lead.users.clone();
        if members.iter().any(|at| findings[*at].users.is_empty()) {
            users.clear();
        } else {
            users.extend(members.iter().flat_map(|at| findings[*at].users.iter().cloned()));
            users.sort();
            users.dedup();
        }
        let (subject, summary) = self.told(findings, &members);
        Group { subject, cause: sort_of(lead), severity, summary, first_remedy, users, findings: members }
    }

    /// What a group is about, and its sentence.
    fn told(&self, findings: &[Finding], members: &[usize]) -> (ByteString, String) {
        let lead = &findings[members[0]];
        let alike = members.iter().map(|at| &findings[*at]).filter(|finding| finding.kind == lead.kind);
        let mut seen: HashSet<&ByteString> = HashSet::new();
        let subjects: Vec<&ByteString> =
            alike.clone().map(|finding| &finding.subject).filter(|subject| seen.insert(*subject)).collect();
        if subjects.len() < 2 {
            return (lead.subject.clone(), lead.summary.clone());
        }
        let (count, list) = (subjects.len(), listed(&subjects));
        let missing = lead.causes.iter().find_map(|cause| match self.nearest(cause) {
            Cause::Missing(file) => Some(file),
            _ => None,
        });
        let missing = missing.or_else(|| self.absent.behind(lead));
        match (lead.kind, missing) {
            (BrokenInterpreter, Some(file)) => {
                let summary = format!("{file} does not exist, and {count} scripts cannot start without it: {list}");
                (file, summary)
            }
            (MissingFile, Some(gone)) if alike.clone().all(|one| self.absent.behind(one).as_ref() == Some(&gone)) => {
                let summary =
                    format!("{gone} does not exist, and {count} packages record it or what was in it: {list}");
                (gone, summary)
            }
            (DanglingLink, Some(file)) => {
                let is_one = members.iter().flat_map(|at| &findings[*at].causes).all(|cause| {
                    !matches!(cause, Cause::Missing(_)) || self.nearest(cause) == Cause::Missing(file.clone())
                });
                // Links of one package may lead to different things.
                let subject = if is_one { file } else { lead.subject.clone() };
                (subject, format!("{count} links lead to what does not exist: {list}"))
            }
            (NoOrigin | NobodyUpdates, _) => {
                let installation = lead.packages.first().map_or_else(ByteString::default, |id| installation_of(id));
                let manager = manager_of(&installation);
                (manager.0.into(), format!("{count} packages of {manager} are in no source of this machine: {list}"))
            }
            (UnreachableProgram, _) => {
                let dir = lead.paths.first().map_or(&b""[..], |file| path::parent(file));
                let dir = ByteString::from(dir);
                let summary =
                    format!("{dir} is in no search path, and {count} packages have their programs there: {list}");
                (dir, summary)
            }
            (UnneededDependency, _) => {
                let manager = lead.packages.first().map_or(ManagerId("unknown"), |id| manager_of(id));
                (
                    manager.0.into(),
                    format!("nothing needs {count} packages of {manager} that came along with others: {list}"),
                )
            }
            (UnmetRequirement, _) if lead.causes.iter().any(|cause| matches!(cause, Cause::Unmet(_))) => {
                let manager = lead.packages.first().map_or(ManagerId("unknown"), |id| manager_of(id));
                (manager.0.into(), format!("{count} packages of {manager} depend on what is not installed: {list}"))
            }
            (InvisibleLauncher, _) => {
                (lead.subject.clone(), format!("{count} launchers are in no directory that is searched: {list}"))
            }
            _ => {
                let others = listed(&subjects[1..]);
                (lead.subject.clone(), format!("{} (and likewise {others})", lead.summary))
            }
        }
    }
}

/// A path with the links of its directory followed: `/bin/x` and `/usr/bin/x` are one file.
fn plain(survey: &Survey<'_>, file: &ByteString) -> ByteString {
    path::join(&survey.root().canonicalize_dir(path::parent(file)), path::name(file))
}

/// The manager of an id, which begins with it.
fn manager_of(id: &[u8]) -> ManagerId {
    let name = id.split(|byte| *byte == b'/').next().unwrap_or_default();
    managers::named(name).unwrap_or(ManagerId("unknown"))
}

/// `MANAGER/SCOPE` of an id.
fn installation_of(id: &[u8]) -> ByteString {
    let parts: Vec<&[u8]> = id.splitn(3, |byte| *byte == b'/').take(2).collect();
    parts.join(&b'/').into()
}

/// A few names, and how many more there are.
fn listed(names: &[&ByteString]) -> String {
    let first: Vec<String> = names.iter().take(MAX_NAMED).map(ToString::to_string).collect();
    match names.len() {
        count if count > MAX_NAMED => format!("{} and {} more", first.join(", "), count - MAX_NAMED),
        _ => first.join(", "),
    }
}

fn sort_of(lead: &Finding) -> CauseKind {
    match lead.kind {
        ShadowedCommand | ContextDependentCommand if lead.packages.len() < lead.paths.len() => CauseKind::MaskingFile,
        ShadowedCommand
        | ContextDependentCommand
        | VersionSplit
        | DuplicateTitle
        | DuplicateLauncher
        | MaskedLauncher => CauseKind::SeveralCopies,
        AliasHidesCommand | FunctionHidesCommand | BuiltinHidesCommand => CauseKind::MaskingFile,
        // Nothing is in its place.
        UnmetRequirement if lead.packages.len() < 2 => CauseKind::PackageState,
        OverwrittenFile | TwoOwners | BypassedProtection | MaskedModule | RunsOtherCode | UnmetRequirement => {
            CauseKind::OverwritingPackage
        }
        UnreachableProgram => CauseKind::ManagerNotSetUp,
        DeadOrigin => CauseKind::SourceGone,
        BrokenInterpreter | StaleBase => CauseKind::MissingInterpreter,
        DanglingLink | BrokenLauncher | BrokenJob | BrokenAssociation => CauseKind::MissingTarget,
        MissingDirectory | DuplicateDirectory | RelativeDirectory | WritableDirectory => CauseKind::SearchPathDirectory,
        InvisibleLauncher => CauseKind::ManagerNotSetUp,
        NoOrigin | NobodyUpdates => CauseKind::SourceGone,
        AlteredFile | AlteredSettings | MissingFile | HalfInstalled | BrokenPackage | RecordDisagrees => {
            CauseKind::PackageState
        }
        SettingsLeft | DataLeft | UnneededDependency => CauseKind::Remains,
        _ => CauseKind::Itself,
    }
}
