//! Where packages come from: repositories, remotes, channels, taps, indexes.

use crate::backend::Catalogue;
use crate::backend::index_settings::without_credentials;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::ByteString;
use crate::model::{Loss, ManagerId, Package, Source, Status};
use crate::survey::Survey;

/// A source with what came from it.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct SourceInUse {
    /// The source.
    #[serde(flatten)]
    pub source: Source,
    /// How many installed packages came from it; `null` where the manager does not record where packages came from.
    pub installed: Option<usize>,
    /// Their ids.
    pub packages: Vec<ByteString>,
    /// The ids of those that no other source in use offers: without it they would get no more upgrades.
    pub orphans_without_it: Vec<ByteString>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Sources {
    /// The sources, by manager and in the order in which they are configured.
    pub sources: Vec<SourceInUse>,
    /// What could not be read of settings that belong to no installation.
    #[serde(skip)]
    pub notes: Vec<Loss>,
}

/// All sources, or those that a word of `names` is part of the name or address of, or whose manager it is.
#[must_use]
pub fn sources(survey: &Survey<'_>, names: &[ByteString]) -> Sources {
    let (mut all, notes) = configured(survey);
    let is_meant = |source: &Source| {
        names.iter().any(|name| {
            let name = name.to_ascii_lowercase();
            let has = |text: &[u8]| memchr::memmem::find(&text.to_ascii_lowercase(), &name).is_some();
            source.manager.0.as_bytes() == name || has(&source.name) || source.url.as_ref().is_some_and(|url| has(url))
        })
    };
    if !names.is_empty() {
        all.retain(is_meant);
    }
    Sources { sources: used(survey, all, true), notes }
}

/// Every source with what came from it; `with_orphans` also with what only it offers.
pub(crate) fn in_use(survey: &Survey<'_>, with_orphans: bool) -> Vec<SourceInUse> {
    used(survey, configured(survey).0, with_orphans)
}

fn used(survey: &Survey<'_>, all: Vec<Source>, with_orphans: bool) -> Vec<SourceInUse> {
    if all.is_empty() {
        return Vec::new();
    }
    let packages = survey.recorded();
    let others = with_orphans.then(|| Offering::of(survey));
    let in_use = |source: Source| {
        let is_of_it = |package: &&Package| {
            package.manager == source.manager
                && (package.scope == source.scope || source.kind == "index" || source.kind == "tap")
                && package.status != Status::ConfigRemains
                && package.origin.as_ref().is_some_and(|origin| source.gave(origin))
        };
        let of_it: Vec<&Package> = packages.iter().filter(is_of_it).collect();
        let of_manager = || packages.iter().filter(|package| package.manager == source.manager);
        let tells = of_manager().next().is_none() || of_manager().any(|package| package.origin.is_some());
        let orphans = of_it
            .iter()
            .filter(|package| others.as_ref().is_some_and(|others| others.is_only_in(package, &source)))
            .map(|package| package.id.clone());
        // Of several indexes none is named by what came from them.
        let tells = tells && !(source.origins.is_empty() && source.origin_kind.is_none() && source.kind == "index");
        SourceInUse {
            installed: tells.then_some(of_it.len()),
            orphans_without_it: if source.enabled { orphans.collect() } else { Vec::new() },
            packages: of_it.iter().map(|package| package.id.clone()).collect(),
            source,
        }
    };
    all.into_iter().map(in_use).collect()
}

/// Every source that is configured, by manager, and what could not be read.
pub(crate) fn configured(survey: &Survey<'_>) -> (Vec<Source>, Vec<Loss>) {
    let mut notes = Vec::new();
    let mut all: Vec<Source> = survey
        .installations()
        .par_iter()
        .flat_map_iter(|held| held.catalogue().map_or_else(Vec::new, Catalogue::sources))
        .collect();
    for manager in crate::managers::ALL {
        all.extend(manager.indexes(survey.host, &mut notes));
    }
    for source in &mut all {
        source.url = source.url.take().map(|url| without_credentials(&url));
    }
    // Several installations of a manager can have their sources from one file.
    let mut seen = HashSet::new();
    all.retain(|source| {
        let place = source.evidence.first().map(|at| (at.file.clone(), at.at.to_string()));
        seen.insert((source.manager, source.scope.to_string(), source.name.clone(), place))
    });
    let order = |id: ManagerId| crate::managers::ALL.iter().position(|manager| manager.id() == id);
    all.sort_by_key(|source| order(source.manager));
    (all, notes)
}

/// Which sources offer each installed package.
struct Offering {
    of: HashMap<(ManagerId, ByteString), HashSet<ByteString>>,
}

impl Offering {
    fn of(survey: &Survey<'_>) -> Self {
        let mut of: HashMap<(ManagerId, ByteString), HashSet<ByteString>> = HashMap::new();
        for offer in survey.offered().iter().flatten() {
            // What is installed and in no catalogue is offered by nobody.
            if let Some(source) = offer.source.as_ref().filter(|_| offer.catalogued_at.is_some()) {
                of.entry((offer.manager, offer.name.clone())).or_default().insert(source.name.clone());
            }
        }
        Offering { of }
    }

    /// Whether no source but this one offers a package. One that is in no catalogue is only where it came from.
    fn is_only_in(&self, package: &Package, source: &Source) -> bool {
        let offering = self.of.get(&(package.manager, package.name.clone()));
        offering.is_none_or(|names| names.iter().all(|name| source.origins.contains(name) || *name == source.name))
    }
}
