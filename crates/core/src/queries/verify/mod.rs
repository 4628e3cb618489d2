//! Files that are not as their manager recorded them, and who changed them.

mod compare;

use std::sync::{Mutex, PoisonError};

use hashbrown::HashMap;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

use crate::backend::{Detail, SharedDirs};
use crate::bytes::ByteString;
use crate::digests;
use crate::fs::Kind;
use crate::index::FoundClaim;
use crate::model::{Claimant, Depth, Evidence, Finding, FindingKind, ManagerId, Owner, Severity};
use crate::queries::{advice, by_holder};
use crate::survey::Survey;

pub use crate::digests::Progress;
use compare::{Compared, Difference, Unread, compare};

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
    /// Whether it was ended before every file was compared: the rest of the answer is then of what was read so far.
    #[serde(rename = "stopped")]
    pub is_stopped: bool,
    /// What was looked at.
    pub extent: Extent,
    /// Files that could not be read.
    pub unread: Vec<String>,
    /// Managers with packages of which no record of files is kept, or read: nothing is known of theirs.
    pub unrecorded: Vec<ManagerId>,
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
    let held = |holder: u16| &survey.installations()[usize::from(holder)];
    let named = question.packages.map(|packages| by_holder(packages.iter().copied()));
    let mut asked: Vec<(u16, Option<Vec<u32>>)> = Vec::new();
    for (holder, held) in (0..).zip(survey.installations()) {
        let is_of = question.managers.is_empty() || question.managers.contains(&held.location().manager);
        let wanted = named.as_ref().map(|named| named.get(&holder).cloned().unwrap_or_default());
        if is_of && wanted.as_ref().is_none_or(|wanted| !wanted.is_empty()) {
            asked.push((holder, wanted));
        }
    }
    let count = |(holder, wanted): &(u16, Option<Vec<u32>>)| match wanted {
        Some(wanted) => wanted.len(),
        None => held(*holder).coverage().iter().filter_map(|part| part.packages).sum(),
    };
    let all = asked.iter().map(count).sum();
    let expected = Mutex::new(Expected { packages: all, ..Expected::default() });
    let of_installation = |(holder, wanted): &(u16, Option<Vec<u32>>)| {
        let mut part = Part::default();
        let Some(records) = held(*holder).file_records() else { return part };
        records.each_batch(wanted.as_deref(), question.depth, &mut |mut batch| {
            if progress.is_stopped() {
                return;
            }
            // What a distribution's manager put into a language's directories is verified by that manager's own record.
            batch.retain(|one| !survey.is_foreign(*holder, one.package));
            let before = part.numbers.len();
            for one in &batch {
                if part.numbers.last() != Some(&(*holder, one.package)) {
                    part.numbers.push((*holder, one.package));
                }
            }
            part.files += batch.len();
            let packages = part.numbers.len() - before;
            let expect = &mut |files, bytes| {
                let mut expected = expected.lock().unwrap_or_else(PoisonError::into_inner);
                let (files, bytes) = expected.with(packages, files, bytes);
                progress.expect(files, bytes);
            };
            part.add(compare(survey.root(), *holder, batch, question.depth, expect, progress));
        });
        part
    };
    // Contents are read by all threads at once; records of different managers, one thread each.
    let parts: Vec<Part> = match question.depth {
        Depth::Content => asked.iter().map(of_installation).collect(),
        _ => asked.par_iter().map(of_installation).collect(),
    };
    let mut whole = Part::default();
    for part in parts {
        whole.numbers.extend(part.numbers);
        whole.files += part.files;
        whole.differences.extend(part.differences);
        whole.unread.extend(part.unread);
        whole.read += part.read;
    }
    // Where the work was stopped, managers that were not reached yet have said nothing of their records.
    let unrecorded = match progress.is_stopped() {
        true => Vec::new(),
        false => unrecorded(survey, &question, &whole.numbers),
    };
    let Part { numbers, files, differences, unread, read } = whole;
    let extent = Extent { packages: numbers.len(), files, read };
    let lost = "it is unknown whether it is altered";
    unread.iter().for_each(|one| survey.root().note_gap(&one.file, format!("{}: {lost}", one.reason)));
    let unread = unread.into_iter().map(|one| format!("{}: {}: {lost}", one.file, one.reason)).collect();
    Verified { findings: tell(survey, differences), is_stopped: progress.is_stopped(), extent, unread, unrecorded }
}

/// The comparison of one installation's packages, as far as it has come.
#[derive(Default)]
struct Part {
    /// Packages with records of files.
    numbers: Vec<(u16, u32)>,
    files: usize,
    /// The differences batch by batch: each is given back as soon as it has been told.
    differences: Vec<Vec<Difference>>,
    unread: Vec<Unread>,
    read: usize,
}

impl Part {
    fn add(&mut self, batch: Compared) {
        self.differences.push(batch.differences);
        self.unread.extend(batch.unread);
        self.read += batch.read;
    }
}

/// An estimate of how much there is to read, by the packages whose records have been read.
#[derive(Default)]
struct Expected {
    packages: usize,
    known_packages: usize,
    files: usize,
    bytes: u64,
}

impl Expected {
    /// The files and bytes of all packages, with some more of them known.
    fn with(&mut self, packages: usize, files: usize, bytes: u64) -> (usize, u64) {
        self.known_packages += packages;
        self.files += files;
        self.bytes = self.bytes.saturating_add(bytes);
        let (known, left) = (self.known_packages.max(1), self.packages.saturating_sub(self.known_packages));
        let share = left as f64 / known as f64;
        (self.files + (self.files as f64 * share) as usize, self.bytes + (self.bytes as f64 * share) as u64)
    }
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

/// Differences of a package that are told together: of one kind, by one hand, as much to be heeded.
type Key = (FindingKind, Option<ByteString>, Severity);

/// The files of a finding that are evidenced one by one; its paths name them all.
const MAX_EVIDENCED: usize = 20;

fn tell(survey: &Survey<'_>, differences: Vec<Vec<Difference>>) -> Vec<Finding> {
    // Only what has another content can be another's: a directory that three thousand packages miss is asked of none.
    let of_content = differences.iter().flatten().filter(|one| one.is_content());
    let canonical: Vec<ByteString> = of_content.map(|one| survey.root().canonicalize(&one.path)).collect();
    let index = survey.claims(canonical.iter().map(|path| &**path));
    let moved_in = moved_in(survey, canonical.iter());
    let changed_by = |one: &Difference, canonical: ByteString| {
        let others = survey.ownership(&index, &canonical).packages;
        let is_other =
            |claim: &&FoundClaim| (claim.holder, claim.claimant) != (one.package.0, Claimant::Package(one.package.1));
        let claim = others.iter().filter(is_other).find(|claim| fits(survey, claim, &canonical));
        let around = || moved_in.iter().find(|(tree, _)| crate::bytes::path::within(&canonical, tree));
        claim.and_then(|claim| survey.owner(claim)).or_else(|| around().map(|(_, by)| by.clone()))
    };
    let mut findings = Vec::new();
    // The files of a package come one after the other, and its few groups are told before the next one's.
    let (mut rest, mut canonical) = (differences.into_iter().flatten().peekable(), canonical.into_iter());
    while let Some(package) = rest.peek().map(|one| one.package) {
        let mut groups: Vec<(Key, Option<Owner>, Vec<Difference>)> = Vec::new();
        while let Some(one) = rest.next_if(|one| one.package == package) {
            let of_content = if one.is_content() { canonical.next() } else { None };
            let by = of_content.and_then(|canonical| changed_by(&one, canonical));
            let kind = match (one.is_missing(), one.is_settings, &by) {
                (true, ..) => FindingKind::MissingFile,
                (false, true, None) => FindingKind::AlteredSettings,
                (false, _, Some(_)) => FindingKind::OverwrittenFile,
                (false, false, None) => FindingKind::AlteredFile,
            };
            let key = (kind, by.as_ref().map(|by| by.id.clone()), one.severity);
            match groups.iter_mut().find(|(known, ..)| *known == key) {
                Some((.., group)) => group.push(one),
                None => groups.push((key, by, vec![one])),
            }
        }
        let told = groups
            .into_iter()
            .map(|((kind, _, severity), by, group)| finding(survey, kind, severity, by.as_ref(), group));
        findings.extend(told);
    }
    findings.sort_by(Finding::by_importance);
    findings
}

/// Packages whose own record is among the changed files (canonical), in a place that another manager filled: they have
/// moved in. Each with its tree.
fn moved_in<'p>(survey: &Survey<'_>, changed: impl Iterator<Item = &'p ByteString>) -> Vec<(ByteString, Owner)> {
    let yielding = survey.installations().iter().flat_map(|held| {
        held.shared_dirs()
            .map(SharedDirs::foreign_packages)
            .unwrap_or_default()
            .into_iter()
            .map(move |(number, record)| (held, number, record))
    });
    let yielding: HashMap<ByteString, Owner> =
        yielding.map(|(held, number, record)| (record, held.owner(number))).collect();
    let moved =
        |canonical: &ByteString| Some((crate::bytes::path::parent(canonical).into(), yielding.get(canonical)?.clone()));
    changed.filter_map(moved).collect()
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
    mut group: Vec<Difference>,
) -> Finding {
    let (holder, number) = group[0].package;
    let held = &survey.installations()[usize::from(holder)];
    let owner = held.owner(number);
    let name = owner.full_name();
    let listed = listed(&group);
    let is_one = group.len() == 1;
    let count = if is_one { "a file".to_owned() } else { format!("{} files", group.len()) };
    let whose = format!("{} · {name}", owner.manager);
    let content = group.iter().any(Difference::is_content);
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
    let told = |one: &mut Difference| -> Vec<Evidence> {
        if one.is_missing() {
            return vec![Evidence::at(one.path.clone(), "missing", "recorded, but does not exist")];
        }
        let what = std::mem::take(&mut one.what);
        what.into_iter().map(|(what, says)| Evidence::at(one.path.clone(), what.word(), says)).collect()
    };
    let evidence = group.iter_mut().take(MAX_EVIDENCED).flat_map(told).collect();
    // A million paths are kept until the end, in no more room than they need.
    let mut paths: Vec<ByteString> = group.into_iter().map(|one| one.path).collect();
    paths.shrink_to_fit();
    Finding {
        packages: std::iter::once(owner.id).chain(by.map(|by| by.id.clone())).collect(),
        remedies,
        evidence,
        paths,
        ..Finding::new(kind, severity, name, summary, consequence)
    }
}

/// The first files of a group by name, and how many more there are.
fn listed(group: &[Difference]) -> String {
    let shown: Vec<String> = group.iter().take(3).map(|one| one.path.to_string()).collect();
    let more = if group.len() > 3 { format!(" and {} more", group.len() - 3) } else { String::new() };
    format!("{}{more}", shown.join(", "))
}
