//! Files that are not as their manager recorded them, and who changed them.

mod compare;

use hashbrown::HashMap;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

use crate::backend::{Detail, SharedDirs};
use crate::bytes::ByteString;
use crate::digests;
use crate::fs::Kind;
use crate::index::FoundClaim;
use crate::model::{Claimant, Depth, Evidence, FileRecord, Finding, FindingKind, ManagerId, Owner, Severity};
use crate::queries::advice;
use crate::survey::Survey;

use compare::{Attribute, Compared, Difference, compare};

/// What was looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, JsonSchema)]
pub struct Extent {
    /// Packages whose manager records its files.
    pub packages: usize,
    /// Files, directories and links in their records.
    pub files: usize,
    /// Files whose content was read.
    pub read: usize,
}

/// The answer.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Verified {
    /// One for each package, kind and hand that changed it.
    pub findings: Vec<Finding>,
    /// What was looked at.
    pub extent: Extent,
    /// Files that could not be read.
    pub unread: Vec<String>,
    /// Managers with packages of which no record of files is kept, or read: nothing is known of theirs.
    pub unrecorded: Vec<ManagerId>,
}

/// What is told of the work while it goes on.
pub trait Progress: Sync {
    /// So many files will be read.
    fn begin(&self, files: usize);
    /// One more was.
    fn done(&self);
}

/// Nobody is told.
impl Progress for () {
    fn begin(&self, _: usize) {}
    fn done(&self) {}
}

/// What is compared.
#[derive(Debug, Clone, Copy)]
pub struct Question<'a> {
    /// These packages, each by holder and number; all where there is none.
    pub packages: Option<&'a [(u16, u32)]>,
    /// Those of these managers; of all where there is none.
    pub managers: &'a [ManagerId],
    /// How thoroughly.
    pub depth: Depth,
}

/// Compares every file of the packages that are asked about.
#[must_use]
pub fn verify(survey: &Survey<'_>, question: Question<'_>, progress: &dyn Progress) -> Verified {
    let of_holder = |holder: u16| -> Option<Vec<u32>> {
        Some(question.packages?.iter().filter(|(of, _)| *of == holder).map(|(_, number)| *number).collect())
    };
    let holders: Vec<u16> = (0..).zip(survey.installations()).map(|(holder, _)| holder).collect();
    let read = |holder: &u16| {
        let wanted = of_holder(*holder);
        let held = &survey.installations()[usize::from(*holder)];
        let of_manager = question.managers.is_empty() || question.managers.contains(&held.location().manager);
        let is_wanted = of_manager && wanted.as_ref().is_none_or(|wanted| !wanted.is_empty());
        let files = match held.file_records().filter(|_| is_wanted) {
            Some(records) => records.file_records(wanted.as_deref(), question.depth),
            None => Vec::new(),
        };
        files.into_iter().map(|one| (*holder, one)).collect::<Vec<_>>()
    };
    let mut files: Vec<(u16, FileRecord)> = holders.par_iter().flat_map_iter(read).collect();
    // What a distribution's manager put into a language's directories is verified by that manager's own record.
    files.retain(|(holder, one)| !survey.is_foreign(*holder, one.package));
    let mut numbers: Vec<(u16, u32)> = files.iter().map(|(holder, one)| (*holder, one.package)).collect();
    numbers.dedup();
    let unrecorded = unrecorded(survey, &question, &numbers);
    let counted = std::sync::atomic::AtomicUsize::new(0);
    let begin = |count| {
        counted.store(count, std::sync::atomic::Ordering::Relaxed);
        progress.begin(count);
    };
    let Compared { differences, unread } = compare(survey.root(), &files, question.depth, &begin, &|| progress.done());
    let extent = Extent { packages: numbers.len(), files: files.len(), read: counted.into_inner() };
    let lost = "it is unknown whether it is altered";
    unread.iter().for_each(|one| survey.root().note_gap(&one.file, format!("{}: {lost}", one.reason)));
    let unread = unread.into_iter().map(|one| format!("{}: {}: {lost}", one.file, one.reason)).collect();
    Verified { findings: tell(survey, differences), extent, unread, unrecorded }
}

/// The managers that were asked and had nothing to compare with.
fn unrecorded(survey: &Survey<'_>, question: &Question<'_>, numbers: &[(u16, u32)]) -> Vec<ManagerId> {
    let manager = |holder: u16| survey.installations()[usize::from(holder)].location().manager;
    let known: Vec<ManagerId> = numbers.iter().map(|(holder, _)| manager(*holder)).collect();
    let mut asked: Vec<ManagerId> = match question.packages {
        Some(packages) => packages.iter().map(|(holder, _)| manager(*holder)).collect(),
        None => survey.packages(Detail::default()).iter().map(|package| package.manager).collect(),
    };
    asked.sort();
    asked.dedup();
    asked.retain(|one| !known.contains(one) && (question.managers.is_empty() || question.managers.contains(one)));
    asked
}

/// Differences that are told together: of one package, of one kind, by one hand, as much to be heeded.
type Key = (u16, u32, FindingKind, Option<ByteString>, Severity);

fn tell(survey: &Survey<'_>, differences: Vec<Difference<'_>>) -> Vec<Finding> {
    let root = survey.root();
    // Only what has another content can be another's: a directory that three thousand packages miss is asked of none.
    let is_content = |one: &Difference<'_>| one.what.iter().any(|(what, _)| what.is_content());
    let may_be_others = |one: &Difference<'_>| is_content(one) && one.what[0].0 != Attribute::Missing;
    let canonical: Vec<ByteString> = differences.iter().map(|one| root.canonicalize(&one.recorded.path)).collect();
    let asked = differences.iter().zip(&canonical).filter(|(one, _)| may_be_others(one));
    let index = survey.claims(asked.map(|(_, path)| &**path));
    let moved_in = moved_in(survey, &differences);
    let mut groups: Vec<(Key, Option<Owner>, Vec<Difference<'_>>)> = Vec::new();
    let mut places: HashMap<Key, usize> = HashMap::new();
    for (one, canonical) in differences.into_iter().zip(canonical) {
        let is_missing = one.what[0].0 == Attribute::Missing;
        let others: Vec<FoundClaim> = match may_be_others(&one) {
            true => survey.ownership(&index, &canonical).packages,
            false => Vec::new(),
        };
        let is_other = |claim: &&FoundClaim| {
            (claim.holder, claim.claimant) != (one.holder, Claimant::Package(one.recorded.package))
        };
        let content = is_content(&one);
        let by = others.iter().filter(is_other).find(|claim| fits(survey, claim, &canonical));
        let around =
            || moved_in.iter().find(|(tree, _)| crate::bytes::path::within(&canonical, tree)).map(|(_, by)| by.clone());
        let by = by.and_then(|claim| survey.owner(claim)).or_else(|| if content { around() } else { None });
        let kind = match (is_missing, one.recorded.is_settings, &by) {
            (true, ..) => FindingKind::MissingFile,
            (false, true, None) => FindingKind::AlteredSettings,
            (false, _, Some(_)) => FindingKind::OverwrittenFile,
            (false, false, None) => FindingKind::AlteredFile,
        };
        let key = (one.holder, one.recorded.package, kind, by.as_ref().map(|by| by.id.clone()), one.severity);
        let place = *places.entry(key.clone()).or_insert_with(|| {
            groups.push((key, by, Vec::new()));
            groups.len() - 1
        });
        groups[place].2.push(one);
    }
    let mut findings: Vec<Finding> = groups
        .into_iter()
        .map(|((.., kind, _, severity), by, group)| finding(survey, kind, severity, by.as_ref(), &group))
        .collect();
    findings.sort_by(Finding::by_importance);
    findings
}

/// Packages whose own record stands in a place that another manager filled and is not any more as that one left it:
/// they have moved in. Each with its tree.
fn moved_in(survey: &Survey<'_>, differences: &[Difference<'_>]) -> Vec<(ByteString, Owner)> {
    let yielding = survey.installations().iter().flat_map(|held| {
        held.shared_dirs()
            .map(SharedDirs::foreign_packages)
            .unwrap_or_default()
            .into_iter()
            .map(move |(number, record)| (held, number, record))
    });
    let yielding: HashMap<ByteString, Owner> =
        yielding.map(|(held, number, record)| (record, held.owner(number))).collect();
    let changed = differences.iter().filter(|one| one.what.iter().any(|(what, _)| what.is_content()));
    let found = changed.filter_map(|one| {
        let canonical = survey.root().canonicalize(&one.recorded.path);
        let owner = yielding.get(&canonical)?;
        Some((crate::bytes::path::parent(&canonical).into(), owner.clone()))
    });
    found.collect()
}

/// Whether what is there is the other package's: by its digest, or where it records none, by its claim.
fn fits(survey: &Survey<'_>, claim: &FoundClaim, canonical: &ByteString) -> bool {
    let Claimant::Package(number) = claim.claimant else { return false };
    match survey.recorded_digest(claim, number, canonical) {
        Some(digest) => digests::of_file(survey.root(), canonical, digest.algorithm).is_ok_and(|found| found == digest),
        None => survey.root().entry(canonical).is_ok_and(|meta| meta.kind == Kind::File),
    }
}

fn finding(
    survey: &Survey<'_>,
    kind: FindingKind,
    severity: Severity,
    by: Option<&Owner>,
    group: &[Difference<'_>],
) -> Finding {
    let held = &survey.installations()[usize::from(group[0].holder)];
    let number = group[0].recorded.package;
    let owner = held.owner(number);
    let name = owner.full_name();
    let paths: Vec<&ByteString> = group.iter().map(|one| &one.recorded.path).collect();
    let listed = compare::listed(&paths);
    let is_one = paths.len() == 1;
    let count = if is_one { "a file".to_owned() } else { format!("{} files", paths.len()) };
    let whose = format!("{} · {name}", owner.manager);
    let content = group.iter().any(|one| one.what.iter().any(|(what, _)| what.is_content()));
    let (summary, consequence) = match (kind, by) {
        (FindingKind::OverwrittenFile, Some(by)) => (
            format!("{count} of {whose} replaced by {} · {}: {listed}", by.manager, by.full_name()),
            format!(
                "{} does not know this: programs of {name} run with the files of {}, an upgrade of either overwrites the files of the other, and removing one breaks both",
                owner.manager, by.manager
            ),
        ),
        (FindingKind::MissingFile, _) => (
            format!("{count} of {whose} missing: {listed}"),
            match severity {
                Severity::Note => format!("nothing that runs needs {}", if is_one { "it" } else { "them" }),
                _ => format!(
                    "programs that need {} fail although {} has {name} as installed",
                    if is_one { "it" } else { "them" },
                    owner.manager
                ),
            },
        ),
        (FindingKind::AlteredSettings, _) => (
            format!("configuration files of {whose} changed: {listed}"),
            "none: an upgrade asks which version to keep, or keeps this one".to_owned(),
        ),
        _ if content => (
            format!("{count} of {whose} altered, and no record explains it: {listed}"),
            format!("{name} is not in the state that was packaged; the next upgrade overwrites the change"),
        ),
        _ => (
            format!("permissions, owner or date of {count} of {whose} changed: {listed}"),
            "the content is unchanged".to_owned(),
        ),
    };
    let mut remedies = Vec::new();
    if kind != FindingKind::AlteredSettings && severity > Severity::Note {
        let restore = held.file_records().and_then(|records| survey.remedy_within(&**held, records.restore(number)?));
        remedies.extend(advice::put_back(survey, by, restore));
    }
    let told = |one: &Difference<'_>| {
        let path = one.recorded.path.clone();
        one.what.iter().map(|(what, says)| Evidence::at(path.clone(), what.word(), says.clone())).collect::<Vec<_>>()
    };
    Finding {
        packages: std::iter::once(owner.id).chain(by.map(|by| by.id.clone())).collect(),
        paths: paths.into_iter().cloned().collect(),
        remedies,
        evidence: group.iter().flat_map(told).collect(),
        ..Finding::new(kind, severity, name, summary, consequence)
    }
}
