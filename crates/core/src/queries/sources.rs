//! Where packages come from: repositories, remotes, channels, taps, indexes.

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use crate::backend::{Catalogue, Installation};
use crate::bytes::ByteString;
use crate::model::{ManagerId, Offer, Package, Source, Status};
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
}

/// All sources, or those that a word of `names` is part of the name or address of, or whose manager it is.
#[must_use]
pub fn sources(survey: &Survey<'_>, names: &[ByteString]) -> Sources {
    let is_meant = |source: &&Source| {
        names.is_empty()
            || names.iter().any(|name| {
                let name = name.to_ascii_lowercase();
                let has = |text: &[u8]| memchr::memmem::find(&text.to_ascii_lowercase(), &name).is_some();
                source.manager.0.as_bytes() == name
                    || has(&source.name)
                    || source.url.as_ref().is_some_and(|url| has(url))
            })
    };
    Sources { sources: used(survey, survey.sources().iter().filter(is_meant), true) }
}

/// Every source with what came from it; `with_orphans` also with what only it offers.
pub(crate) fn in_use(survey: &Survey<'_>, with_orphans: bool) -> Vec<SourceInUse> {
    used(survey, survey.sources().iter(), with_orphans)
}

fn used<'s>(survey: &Survey<'_>, all: impl Iterator<Item = &'s Source>, with_orphans: bool) -> Vec<SourceInUse> {
    let mut all = all.peekable();
    if all.peek().is_none() {
        return Vec::new();
    }
    let packages = survey.recorded();
    let others = with_orphans.then(|| Offering::of_all(survey));
    let in_use = |source: &Source| {
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
            .filter(|package| others.as_ref().is_some_and(|others| others.is_only_in(package, source)))
            .map(|package| package.id.clone());
        // Of several indexes none is named by what came from them.
        let tells = tells && !(source.origins.is_empty() && source.origin_kind.is_none() && source.kind == "index");
        SourceInUse {
            installed: tells.then_some(of_it.len()),
            orphans_without_it: if source.enabled { orphans.collect() } else { Vec::new() },
            packages: of_it.iter().map(|package| package.id.clone()).collect(),
            source: source.clone(),
        }
    };
    all.map(in_use).collect()
}

/// Which sources have packages, by manager and name. A manager of which no catalogue was fetched has no entry.
pub(crate) struct Offering {
    of: HashMap<ManagerId, HashMap<ByteString, Vec<ByteString>>>,
}

impl Offering {
    /// The sources of all that is installed.
    pub(crate) fn of_all(survey: &Survey<'_>) -> Self {
        let having = survey.offered().iter().map(|offers| offers.iter().filter_map(Offer::listed_in).collect());
        Self::with(survey, having)
    }

    /// Those of these managers that have packages with these names.
    pub(crate) fn of(survey: &Survey<'_>, managers: &[ManagerId], names: &[ByteString]) -> Self {
        let having = |held: &dyn Installation| {
            let catalogue = held.catalogue().filter(|_| managers.contains(&held.location().manager));
            catalogue.filter(|held| held.is_fetched()).map_or_else(Vec::new, |catalogue| catalogue.having(names))
        };
        Self::with(survey, survey.installations().iter().map(|held| having(&**held)))
    }

    /// With each installation's names and the sources that have them.
    fn with(survey: &Survey<'_>, having: impl Iterator<Item = Vec<(ByteString, ByteString)>>) -> Self {
        let mut of: HashMap<ManagerId, HashMap<ByteString, Vec<ByteString>>> = HashMap::new();
        for (held, having) in survey.installations().iter().zip(having) {
            if !held.catalogue().is_some_and(Catalogue::is_fetched) {
                continue;
            }
            let of_manager = of.entry(held.location().manager).or_default();
            for (name, source) in having {
                let sources = of_manager.entry(name).or_default();
                if !sources.contains(&source) {
                    sources.push(source);
                }
            }
        }
        Offering { of }
    }

    /// The sources that have a package; `None` where no catalogue of its manager was fetched.
    pub(crate) fn sources(&self, manager: ManagerId, name: &ByteString) -> Option<&[ByteString]> {
        Some(self.of.get(&manager)?.get(name).map_or(&[], Vec::as_slice))
    }

    /// Whether no source but this one offers a package. One that is in no catalogue is only where it came from.
    fn is_only_in(&self, package: &Package, source: &Source) -> bool {
        let offering = self.sources(package.manager, &package.name).unwrap_or_default();
        offering.iter().all(|name| source.origins.contains(name) || *name == source.name)
    }
}
