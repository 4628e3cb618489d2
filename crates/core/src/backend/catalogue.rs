//! What a manager's sources offer.

use std::cmp::Ordering;

use hashbrown::HashMap;

use crate::bytes::ByteString;
use crate::model::{CommandLine, Offer, OfferQuery, PullsIn, Search, Source};

/// What a search does not reach.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unsearched {
    /// What it is, and why, as a part of a sentence: `the commands of packages: no list of files was fetched`.
    pub what: String,
    /// The command that fetches it.
    pub fetch: Option<CommandLine>,
}

impl Unsearched {
    /// What is not reached, and the command that fetches it.
    pub fn new(what: impl Into<String>, fetch: Option<CommandLine>) -> Self {
        Unsearched { what: what.into(), fetch }
    }

    /// Sources of which no list of packages was fetched: the first is named, the others are counted.
    pub(crate) fn not_fetched(sources: &[ByteString], fetch: Option<CommandLine>) -> Option<Self> {
        let first = sources.first()?;
        let more = if sources.len() > 1 { format!(" and {} more", sources.len() - 1) } else { String::new() };
        Some(Unsearched::new(format!("{first}{more}: no list of packages was fetched"), fetch))
    }
}

/// The capability of a manager whose catalogues are on this machine. Nothing is fetched.
pub trait Catalogue {
    /// The offers that match the query, as of the last fetch of each source.
    fn offers(&self, query: &OfferQuery) -> Vec<Offer>;

    /// Which sources have packages with these names: each name with the name of a source.
    fn having(&self, names: &[ByteString]) -> Vec<(ByteString, ByteString)> {
        self.offers(&OfferQuery::Names(names.to_vec())).iter().filter_map(Offer::listed_in).collect()
    }

    /// Whether a source has a package at this version.
    fn has_version(&self, name: &ByteString, version: &[u8]) -> bool {
        let offers = self.offers(&OfferQuery::Names(vec![name.to_ascii_lowercase().into()]));
        let is_it = |offer: &Offer| {
            offer.name == *name
                && offer.listed_in().is_some()
                && offer.version.as_deref().is_some_and(|of| *of == *version)
        };
        offers.iter().any(is_it)
    }

    /// What installing an offer would bring along that is not here yet; `None` where the catalogue does not tell.
    fn pulls_in(&self, offer: &Offer) -> Option<PullsIn> {
        let _ = offer;
        None
    }

    /// Whether a catalogue of any source was fetched.
    fn is_fetched(&self) -> bool {
        false
    }

    /// The sources that are configured, whether or not they are used.
    fn sources(&self) -> Vec<Source> {
        Vec::new()
    }

    /// What a search does not reach, because it was not fetched or is not kept on the machine; with the command that
    /// fetches it, if there is one.
    fn unsearched(&self, search: &Search) -> Vec<Unsearched> {
        let _ = search;
        Vec::new()
    }

    /// The command that installs an offer.
    fn install_command(&self, offer: &Offer) -> Option<CommandLine> {
        let _ = offer;
        None
    }

    /// The command that removes the hold of a package.
    fn unhold_command(&self, package: &[u8]) -> Option<CommandLine> {
        let _ = package;
        None
    }

    /// Findings about the sources themselves: configured twice, not verified.
    fn source_notes(&self) -> Vec<String> {
        Vec::new()
    }
}

/// Marks the candidates of a manager whose only policy is the newest version: of each package the newest offer that is
/// not held back, else what is installed.
pub(crate) fn mark_candidates(offers: &mut [Offer], order: &dyn Fn(&[u8], &[u8]) -> Ordering) {
    let marks: Vec<bool> = {
        let mut newest: HashMap<(&ByteString, Option<&ByteString>), &ByteString> = HashMap::new();
        for one in offers.iter() {
            let Some(version) = &one.version else { continue };
            let known = newest.entry((&one.name, one.arch.as_ref())).or_insert(version);
            if order(version, known) == Ordering::Greater {
                *known = version;
            }
        }
        let is_newest = |one: &Offer| match (&one.version, newest.get(&(&one.name, one.arch.as_ref()))) {
            (Some(version), Some(newest)) => order(newest, version) != Ordering::Greater,
            _ => true,
        };
        offers.iter().map(|one| if one.held { one.installed } else { is_newest(one) }).collect()
    };
    offers.iter_mut().zip(marks).for_each(|(one, mark)| one.candidate = mark);
}
