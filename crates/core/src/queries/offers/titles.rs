//! Which offers are of one piece of software: a different program with the same name is another title.

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Offered, suggestion::Suggestion};
use crate::bytes::ByteString;
use crate::identity::{self, Known, key_of};
use crate::managers;
use crate::model::{ManagerId, Offer, Scope};
use crate::survey::Survey;

/// One piece of software, with the offers of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct OfferedTitle {
    /// What it is called, whoever packages it.
    pub title: ByteString,
    /// The name that was asked for.
    pub asked: ByteString,
    /// The offers, by their places in `offers`, counted from 0.
    pub offers: Vec<usize>,
    /// Which of them to take, by the settings.
    pub suggestion: Option<Suggestion>,
}

/// What one package of one manager and scope is called.
type Key = (ManagerId, Scope, ByteString);

/// What an offer is told by.
pub(crate) fn known_of(offer: &Offer) -> Known {
    Known {
        manager: offer.manager,
        scope: offer.scope.clone(),
        name: offer.name.clone(),
        source: None,
        commands: offer.provides.clone(),
        launchers: Vec::new(),
        upstream: offer.homepage.clone(),
        runtimes: None,
    }
}

/// The name by which a package is likened to others.
pub(in crate::queries) fn key(known: &Known) -> ByteString {
    key_of(managers::profile(known.manager).naming, &known.name)
}

/// The piece of software that each is of, by its number, and what each of these is called. What is of no title has a
/// number of its own.
pub(crate) fn grouped(survey: &Survey<'_>, known: &[Known]) -> (Vec<usize>, Vec<ByteString>) {
    let titles = identity::cluster(known, &survey.host.title_rules);
    let mut names = titles.names;
    let of = known.iter().zip(titles.of).map(|(one, title)| {
        title.map_or_else(
            || {
                names.push(key(one));
                names.len() - 1
            },
            |title| title as usize,
        )
    });
    (of.collect(), names)
}

/// The titles of the offers, each with the places of its offers; those of one name that was asked for together.
pub(super) fn of(survey: &Survey<'_>, offers: &[Offered]) -> Vec<OfferedTitle> {
    let mut known: Vec<Known> = Vec::new();
    let mut places: HashMap<Key, usize> = HashMap::new();
    let mut of_offer: Vec<usize> = Vec::new();
    for one in offers {
        let offer = &one.offer;
        let place = *places.entry((offer.manager, offer.scope.clone(), offer.name.clone())).or_insert_with(|| {
            known.push(known_of(offer));
            known.len() - 1
        });
        if known[place].upstream.is_none() {
            known[place].upstream = offer.homepage.clone();
        }
        of_offer.push(place);
    }
    // Of what is installed more is known.
    let titled = survey.titled();
    for installed in &titled.known {
        if let Some(place) = places.get(&(installed.manager, installed.scope.clone(), installed.name.clone())) {
            let upstream = installed.upstream.clone().or_else(|| known[*place].upstream.clone());
            known[*place] = Known { upstream, ..installed.clone() };
        }
    }
    let (of_known, names) = grouped(survey, &known);
    let mut found: Vec<OfferedTitle> = Vec::new();
    let mut places: HashMap<(&ByteString, usize), usize> = HashMap::new();
    for (number, (one, place)) in offers.iter().zip(of_offer).enumerate() {
        let group = of_known[place];
        let at = *places.entry((&one.asked, group)).or_insert_with(|| {
            let (title, asked) = (names[group].clone(), one.asked.clone());
            found.push(OfferedTitle { title, asked, offers: Vec::new(), suggestion: None });
            found.len() - 1
        });
        found[at].offers.push(number);
    }
    found
}
