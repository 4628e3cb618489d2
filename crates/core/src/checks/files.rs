//! Files that two managers claim, and files that are not there any more.

use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use super::CheckContext;
use crate::backend::Installation;
use crate::bytes::{ByteString, path};
use crate::digests::Content;
use crate::fs::Kind;
use crate::index::FoundClaim;
use crate::model::{Claimant, Depth, Evidence, FileRecord, Finding, FindingKind, NameFilter, Scope, Severity};
use crate::queries::advice;
use crate::queries::verify::{Question, verify};
use crate::survey::Survey;

/// `missing-file`: what is recorded and not there. Contents are not read; that is what `verify` is for.
pub fn missing(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let question = Question { packages: None, managers: &[], depth: Depth::Presence };
    verify(cx.survey, question, &()).findings
}

/// Who claims a file, and whose it is by what is in it.
struct Shared {
    path: ByteString,
    claims: Vec<FoundClaim>,
    /// The claim whose digest fits what is there.
    fits: Option<usize>,
    /// Claims with a digest that does not.
    differ: Vec<usize>,
}

/// `two-owners` and `overwritten-file`: one for each set of packages that share files.
pub fn shared(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let survey = cx.survey;
    let paths = worth_comparing(survey);
    let index = survey.claims(paths.iter().map(|path| &**path));
    let shared: Vec<Shared> = paths.par_iter().filter_map(|path| shared_at(survey, &index, path)).collect();
    let mut groups: Vec<Vec<Shared>> = Vec::new();
    let mut places: HashMap<Vec<(u16, Claimant)>, usize> = HashMap::new();
    for one in shared {
        let key: Vec<(u16, Claimant)> = one.claims.iter().map(|claim| (claim.holder, claim.claimant)).collect();
        match places.get(&key) {
            Some(place) => groups[*place].push(one),
            None => {
                places.insert(key, groups.len());
                groups.push(vec![one]);
            }
        }
    }
    groups.iter().flat_map(|group| findings_of(survey, group)).collect()
}

/// The canonical paths among which is every file with two owners: those that are recorded by any manager but the one with
/// the most packages, and of that one's those that it records through a link. It does not see that they are the
/// files of another package which records them without (`/bin/x` and `/usr/bin/x`); all else it keeps apart itself. What
/// lies in an environment of its own is out of the others' reach.
fn worth_comparing(survey: &Survey<'_>) -> Vec<ByteString> {
    let most = (0_u16..)
        .zip(survey.installations())
        .max_by_key(|(_, held)| held.coverage().iter().filter_map(|part| part.packages).sum::<usize>());
    let most = most.map(|(holder, _)| holder);
    let lesser: Vec<u16> =
        (0..).zip(survey.installations()).map(|(holder, _)| holder).filter(|holder| Some(*holder) != most).collect();
    let read = |holder: &u16| {
        let held = &survey.installations()[usize::from(*holder)];
        let mut own: HashMap<u32, bool> = HashMap::new();
        let mut is_own = |number: u32| {
            *own.entry(number).or_insert_with(|| matches!(held.owner(number).scope, Scope::Environment(_)))
        };
        let mut paths = Vec::new();
        if let Some(records) = held.file_records() {
            records.each_batch(None, Depth::Presence, &mut |batch: Vec<FileRecord>| {
                paths.extend(batch.into_iter().filter(|one| !is_own(one.package)).map(|one| one.path));
            });
        }
        paths
    };
    let mut all: Vec<ByteString> = lesser.par_iter().flat_map_iter(read).collect();
    all.extend(
        most.into_iter().flat_map(|holder| through_links(survey, &*survey.installations()[usize::from(holder)])),
    );
    let canonical: Vec<ByteString> = all.par_iter().map(|path| survey.root().canonicalize(path)).collect();
    let mut seen = HashSet::new();
    canonical.into_iter().filter(|path| seen.insert(path.clone())).collect()
}

/// The files that an installation records in directories which are links.
fn through_links(survey: &Survey<'_>, held: &dyn Installation) -> Vec<ByteString> {
    let root = survey.root();
    let (mut dir, mut is_link) = (ByteString::default(), false);
    let mut found = Vec::new();
    let Some(files) = held.file_index() else { return found };
    files.claims(&NameFilter::All, &mut |claim| {
        // The files of a directory stand together.
        if path::parent(claim.path) != &*dir {
            dir = path::parent(claim.path).into();
            is_link = root.canonicalize_dir(&dir) != dir;
        }
        if is_link && matches!(claim.claimant, Claimant::Package(_)) {
            found.push(claim.path.into());
        }
    });
    found
}

fn shared_at(survey: &Survey<'_>, index: &crate::index::ClaimIndex, canonical: &ByteString) -> Option<Shared> {
    let mut claims = survey.ownership(index, canonical).packages;
    let owner = |claim: &FoundClaim| survey.owner(claim);
    // Instances of one package share files on purpose, and so do versions that are kept side by side.
    let mut names: Vec<_> = claims.iter().filter_map(owner).map(|owner| (owner.manager, owner.name)).collect();
    names.sort();
    names.dedup();
    if names.len() < 2 || survey.root().entry(canonical).ok()?.kind == Kind::Dir {
        return None;
    }
    claims.dedup_by_key(|claim| owner(claim).map(|owner| (owner.manager, owner.name)));
    let mut content = Content::of(survey.root(), canonical, u64::MAX);
    let (mut fits, mut differ) = (None, Vec::new());
    for (place, claim) in claims.iter().enumerate() {
        let Claimant::Package(number) = claim.claimant else { continue };
        match survey.recorded_digest(claim, number, canonical).and_then(|digest| content.fits(&digest)) {
            Some(true) => fits = fits.or(Some(place)),
            Some(false) => differ.push(place),
            // What it says of the file, or what is in the file, is not known.
            None => {}
        }
    }
    Some(Shared { path: canonical.clone(), claims, fits, differ })
}

fn findings_of(survey: &Survey<'_>, group: &[Shared]) -> Vec<Finding> {
    let claims = &group[0].claims;
    let owners: Vec<_> = claims.iter().filter_map(|claim| survey.owner(claim)).collect();
    let whose = |place: usize| format!("{} · {}", owners[place].manager, owners[place].full_name());
    let evidence = |files: &[&Shared]| -> Vec<Evidence> {
        files.iter().take(1).flat_map(|one| &one.claims).flat_map(|claim| survey.claim_evidence(claim)).collect()
    };
    let listed = |files: &[&Shared]| {
        let first = &files[0].path;
        match files.len() {
            1 => first.to_string(),
            many => format!("{first} and {} more", many - 1),
        }
    };
    let ids = || owners.iter().map(|owner| owner.id.clone()).collect::<Vec<_>>();
    // The files that lie there are one package's, and another's record says that they are not its own.
    let mut found = Vec::new();
    for (place, owner) in owners.iter().enumerate() {
        let lost: Vec<&Shared> = group.iter().filter(|one| one.differ.contains(&place)).collect();
        let by = lost
            .iter()
            .find_map(|one| one.fits.filter(|by| *by != place))
            .or_else(|| (0..owners.len()).find(|by| *by != place));
        let (Some(by), false) = (by, lost.is_empty()) else { continue };
        let summary = format!("{} of {} was replaced by {}", listed(&lost), whose(place), whose(by));
        let consequence = format!(
            "{} does not know this: {} {} runs with files of another version, its next upgrade overwrites them, and removing either package breaks the other",
            owner.manager,
            owner.name,
            owner.version.clone().unwrap_or_default()
        );
        let remedies =
            advice::put_back(survey, Some(&owners[by]), survey.restore(&claims[place])).into_iter().collect();
        found.push(Finding {
            packages: ids(),
            paths: lost.iter().map(|one| one.path.clone()).collect(),
            remedies,
            evidence: evidence(&lost),
            ..Finding::new(FindingKind::OverwrittenFile, Severity::Warning, owner.full_name(), summary, consequence)
        });
    }
    let all: Vec<&Shared> = group.iter().collect();
    let names: Vec<String> = (0..owners.len()).map(whose).collect();
    let summary = format!("{} is claimed by {}", listed(&all), names.join(" and "));
    let consequence = "the file belongs to whichever package was upgraded last, and removing either package deletes it";
    found.push(Finding {
        packages: ids(),
        paths: group.iter().map(|one| one.path.clone()).collect(),
        evidence: evidence(&all),
        ..Finding::new(FindingKind::TwoOwners, Severity::Warning, owners[0].full_name(), summary, consequence)
    });
    found
}
