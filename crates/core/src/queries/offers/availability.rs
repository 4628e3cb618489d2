//! Which managers were asked about a name, and which names are like it.

use schemars::JsonSchema;
use serde::Serialize;

use crate::backend::Catalogue;
use crate::bytes::ByteString;
use crate::managers;
use crate::model::{ManagerId, ManagerKind, Offer, OfferQuery, Search, SearchScope};
use crate::survey::Survey;

/// Which managers were asked about a name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Availability {
    /// The name.
    pub name: ByteString,
    /// Managers whose catalogues were read and do not have it.
    pub not_offered_by: Vec<ManagerId>,
    /// Managers of which no catalogue is on this machine: whether they have it is unknown.
    pub unknown: Vec<ManagerId>,
    /// Names that are offered and have this one in them, where nothing is offered under it.
    pub similar: Vec<ByteString>,
}

/// The most similar names that are told.
const MAX_SIMILAR: usize = 8;

/// Which managers were asked about a name, and which names are like it.
pub(super) fn of(survey: &Survey<'_>, name: &ByteString, found: &[&Offer]) -> Availability {
    let of_name = || found.iter();
    let (mut not_offered_by, mut unknown): (Vec<ManagerId>, Vec<ManagerId>) = (Vec::new(), Vec::new());
    for held in survey.installations().iter().filter(|held| !held.coverage().is_empty()) {
        let manager = held.location().manager;
        let kind = managers::profile(manager).kind;
        let has_sources =
            kind != ManagerKind::Versions && (held.catalogue().is_some() || kind == ManagerKind::Language);
        let has_it = of_name().any(|one| one.manager == manager && one.source.is_some());
        if !has_sources || has_it || not_offered_by.contains(&manager) || unknown.contains(&manager) {
            continue;
        }
        match held.catalogue().is_some_and(Catalogue::is_fetched) {
            true => not_offered_by.push(manager),
            false => unknown.push(manager),
        }
    }
    unknown.retain(|manager| !not_offered_by.contains(manager));
    let mut similar: Vec<ByteString> = Vec::new();
    if of_name().next().is_none() {
        let search = OfferQuery::Search(Search::new(std::slice::from_ref(name), &[], SearchScope::Names));
        let catalogues = survey.installations().iter().filter_map(|held| held.catalogue());
        similar = catalogues.flat_map(|catalogue| catalogue.offers(&search)).map(|offer| offer.name).collect();
        similar.sort_by(|a, b| (a.len(), a).cmp(&(b.len(), b)));
        similar.dedup();
        similar.truncate(MAX_SIMILAR);
    }
    Availability { name: name.clone(), not_offered_by, unknown, similar }
}
