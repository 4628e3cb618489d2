//! What software costs on the disk: its own files, what it shares with other packages, and what removing it would free.

mod caches;
mod measure;
mod reclaim;
mod shared;

use std::cmp::Reverse;

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use crate::backend::Detail;
use crate::bytes::ByteString;
pub use crate::digests::Progress;
use crate::model::{Evidence, ManagerId, Package, Scope, Status};
use crate::survey::Survey;
pub use caches::{Cache, caches_of, tree_size};
use measure::{Key, Measured, measure};
use reclaim::Reclaiming;

/// How a size is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Counted {
    /// By its manager's record: the files are not known one by one, or could not be looked at.
    Recorded,
    /// By what the files take on the disk.
    Measured,
}

impl Counted {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Counted::Recorded => "recorded",
            Counted::Measured => "measured",
        }
    }
}

/// What packages take.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Cost {
    /// The packages.
    pub packages: Vec<ByteString>,
    /// Bytes of files that no other package has; `null` where neither files nor a record tell of each package.
    pub own: Option<u64>,
    /// Bytes of files that other packages have as well; `null` where that is not known of each package.
    pub shared: Option<u64>,
    /// Bytes that removing all of it would free, with what only it needs: 0 where others need it, `null` where that is
    /// not known of each package.
    pub reclaimable: Option<u64>,
    /// How its size is known; `recorded` where that is so of any package.
    pub counted: Counted,
    /// Where sizes that were not measured stand.
    pub evidence: Vec<Evidence>,
}

impl Cost {
    /// Bytes on the disk, as far as they are known.
    #[must_use]
    pub fn total(&self) -> u64 {
        self.own.unwrap_or(0).saturating_add(self.shared.unwrap_or(0))
    }

    /// Several together: a size is known where each is.
    fn sum<'c>(costs: impl Iterator<Item = &'c Cost> + Clone) -> Self {
        let sum = |of: fn(&Cost) -> Option<u64>| costs.clone().map(of).sum::<Option<u64>>();
        let is_measured = costs.clone().all(|one| one.counted == Counted::Measured);
        Cost {
            own: sum(|one| one.own),
            shared: sum(|one| one.shared),
            reclaimable: sum(|one| one.reclaimable),
            counted: if is_measured { Counted::Measured } else { Counted::Recorded },
            packages: costs.clone().flat_map(|one| one.packages.clone()).collect(),
            evidence: costs.flat_map(|one| one.evidence.clone()).collect(),
        }
    }
}

/// What a title takes in one installation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Part {
    /// Whose installation it is.
    pub manager: ManagerId,
    /// For whom.
    pub scope: Scope,
    /// Where it lies.
    pub location: ByteString,
    /// What it takes.
    #[serde(flatten)]
    pub cost: Cost,
}

/// What one piece of software takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct TitleSpace {
    /// The software.
    pub title: ByteString,
    /// What all its packages take.
    #[serde(flatten)]
    pub cost: Cost,
    /// The same for each installation, the most expensive first.
    pub installations: Vec<Part>,
}

/// Everything together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, JsonSchema)]
pub struct SpaceTotals {
    /// Packages.
    pub packages: usize,
    /// Packages of which no size is known.
    pub unknown: usize,
    /// Bytes on the disk of all packages whose files are known, every file once.
    pub measured: u64,
    /// Bytes of all other packages, by their managers' records.
    pub recorded: u64,
    /// Bytes in caches.
    pub caches: u64,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Space {
    /// The titles, the most expensive first.
    pub titles: Vec<TitleSpace>,
    /// What managers keep of what they fetched, the largest first; only where no name was given.
    pub caches: Vec<Cache>,
    /// Everything together, whatever was asked about.
    pub totals: SpaceTotals,
}

/// The space that titles take: all, or those with a package among `wanted` (holder and number). Every file that is looked
/// at is told; it is not known before how many there are.
#[must_use]
pub fn space(survey: &Survey<'_>, wanted: Option<&[(u16, u32)]>, progress: &dyn Progress) -> Space {
    let titled = survey.titled_in(Detail { programs: true, evidence: true, ..Detail::default() });
    let measured = measure(survey, None, progress);
    let mut totals = SpaceTotals::default();
    let mut titles: HashMap<ByteString, Vec<(Key, &Package)>> = HashMap::new();
    let numbered = titled.keys.iter().copied().zip(&titled.packages);
    for (key, package) in numbered.filter(|(_, package)| package.status != Status::ConfigRemains) {
        totals.packages += 1;
        match (measured.sizes.contains_key(&key), package.size) {
            (true, _) => {}
            (false, Some(size)) => totals.recorded += size,
            (false, None) => totals.unknown += 1,
        }
        titles.entry(package.title.clone().unwrap_or_else(|| package.name.clone())).or_default().push((key, package));
    }
    totals.measured = measured.sizes.values().map(|size| size.own).sum::<u64>()
        + measured.sharing.values().map(|sharing| sharing.bytes).sum::<u64>();
    let mut reclaiming = Reclaiming::new(survey, &measured);
    let is_wanted = |packages: &Vec<(Key, &Package)>| {
        wanted.is_none_or(|wanted| packages.iter().any(|(key, _)| wanted.contains(key)))
    };
    let mut found: Vec<TitleSpace> = titles
        .into_iter()
        .filter(|(_, packages)| is_wanted(packages))
        .map(|(title, packages)| of_title(title, packages, &measured, &mut reclaiming))
        .collect();
    found.sort_by(|a, b| (b.cost.total(), &a.title).cmp(&(a.cost.total(), &b.title)));
    let caches = if wanted.is_none() { caches::caches(survey, &measured, progress) } else { Vec::new() };
    totals.caches = caches.iter().filter_map(|cache| cache.bytes).sum();
    Space { titles: found, caches, totals }
}

/// The packages of one installation that go when these are removed: they, and what nothing needs then; none where
/// something else needs them. `None` where that is not known.
pub(crate) fn freed_with(survey: &Survey<'_>, holder: u16, numbers: &[u32]) -> Option<Vec<u32>> {
    Reclaiming::new(survey, &Measured::default()).going(holder, numbers)
}

/// Bytes that removing the packages (holder and number) of each of these sets would free. `None` where that is not
/// known.
pub(crate) fn reclaimable(survey: &Survey<'_>, sets: &[&[(u16, u32)]]) -> Vec<Option<u64>> {
    let is_nothing = sets.iter().all(|packages| packages.is_empty());
    let measured = if is_nothing { Measured::default() } else { measure(survey, None, &()) };
    let mut reclaiming = Reclaiming::new(survey, &measured);
    sets.iter().map(|packages| reclaiming.bytes(packages)).collect()
}

/// Bytes that the files of these packages (by id) take on the disk, where they are known.
#[must_use]
pub fn package_sizes(survey: &Survey<'_>, ids: &[ByteString]) -> HashMap<ByteString, u64> {
    let mut keys: HashMap<Key, &ByteString> = HashMap::new();
    for id in ids {
        keys.extend(survey.by_name_or_id(id).into_iter().map(|key| (key, id)));
    }
    if keys.is_empty() {
        return HashMap::new();
    }
    let measured = measure(survey, Some(&keys.keys().copied().collect()), &());
    let whole = measured.sizes.iter().filter(|(_, size)| !size.is_partial);
    whole.filter_map(|(key, size)| Some(((*keys.get(key)?).clone(), size.own + size.shared))).collect()
}

fn of_title(
    title: ByteString,
    mut packages: Vec<(Key, &Package)>,
    measured: &Measured,
    reclaiming: &mut Reclaiming<'_, '_>,
) -> TitleSpace {
    packages.sort_by_key(|(key, _)| *key);
    let together = |a: &(Key, &Package), b: &(Key, &Package)| {
        (a.0.0, &a.1.scope, &a.1.location) == (b.0.0, &b.1.scope, &b.1.location)
    };
    let mut parts: Vec<Part> =
        packages.chunk_by(together).map(|some| of_installation(some, measured, reclaiming)).collect();
    let cost = Cost::sum(parts.iter().map(|part| &part.cost));
    parts.sort_by_key(|part| Reverse(part.cost.total()));
    TitleSpace { title, cost, installations: parts }
}

fn of_installation(packages: &[(Key, &Package)], measured: &Measured, reclaiming: &mut Reclaiming<'_, '_>) -> Part {
    let (_, first) = packages[0];
    let size = |key: &Key| measured.sizes.get(key).filter(|size| !size.is_partial);
    let is_measured = packages.iter().all(|(key, _)| size(key).is_some());
    let own = |(key, package): &(Key, &Package)| size(key).map_or(package.size, |size| Some(size.own));
    let shared = |(key, _): &(Key, &Package)| size(key).map(|size| size.shared);
    let by_record = packages.iter().filter(|(key, package)| size(key).is_none() && package.size.is_some());
    let keys: Vec<Key> = packages.iter().map(|(key, _)| *key).collect();
    Part {
        manager: first.manager,
        scope: first.scope.clone(),
        location: first.location.clone(),
        cost: Cost {
            packages: packages.iter().map(|(_, package)| package.id.clone()).collect(),
            own: packages.iter().map(own).sum(),
            shared: packages.iter().map(shared).sum(),
            reclaimable: if is_measured { reclaiming.bytes(&keys) } else { None },
            counted: if is_measured { Counted::Measured } else { Counted::Recorded },
            evidence: by_record.filter_map(|(_, package)| package.evidence.first().cloned()).collect(),
        },
    }
}
