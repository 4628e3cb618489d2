//! Which software is there, in any source whose catalogue is on this machine.

use std::cmp::Reverse;

use hashbrown::HashMap;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

use super::offers::titles::{grouped, key, known_of};
use crate::backend::{Installation, Unsearched};
use crate::bytes::{ByteString, path};
use crate::identity::Known;
use crate::managers;
use crate::model::{
    Described, Evidence, ManagerId, ManagerKind, Offer, OfferQuery, Origin, Owner, Package, Part, Remedy, RemedyKind,
    Scope, Search, SearchScope, Status,
};
use crate::survey::Survey;

/// One piece of software that was found.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Found {
    /// What it is called, whoever packages it.
    pub title: ByteString,
    /// What it is, in a line.
    pub summary: Option<ByteString>,
    /// The ids of the packages of it that are installed.
    pub installed: Vec<ByteString>,
    /// Where it can be had.
    pub offers: Vec<FoundOffer>,
    /// Where the words were found.
    pub matched_by: Vec<Evidence>,
    /// The installed packages that no offer is of.
    #[serde(skip)]
    pub copies: Vec<Owner>,
}

/// One version that one or more sources have.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct FoundOffer {
    /// The manager that could install it.
    pub manager: ManagerId,
    /// For whom.
    pub scope: Scope,
    /// Who has it.
    pub source: Option<Origin>,
    /// Further sources that have the same.
    pub also_in: Vec<ByteString>,
    /// The package, as the manager spells it.
    pub name: ByteString,
    /// Its version.
    pub version: Option<ByteString>,
    /// Its architecture.
    pub arch: Option<ByteString>,
    /// The channel or branch.
    pub channel: Option<ByteString>,
    /// Who published it.
    pub publisher: Option<ByteString>,
    /// Whether its source vouches for it with a signature; `null` where that is not known.
    pub signed: Option<bool>,
    /// Bytes to fetch.
    pub download_size: Option<u64>,
    /// Bytes once installed.
    pub installed_size: Option<u64>,
    /// `none`, `sandboxed`, `strict`, `classic` …
    pub confinement: Option<String>,
    /// Commands that it provides, as far as they are known.
    pub provides: Vec<ByteString>,
    /// Whether this version is installed.
    pub installed: bool,
    /// The command that installs it; `null` where it is installed, or where its manager would refuse.
    pub install_command: Option<String>,
}

/// Something that the search did not reach.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct NotSearched {
    /// Whose it is.
    pub manager: ManagerId,
    /// What it is, and why.
    pub what: String,
    /// The command that fetches it; `null` where there is none.
    pub command: Option<String>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct SearchAnswer {
    /// What was found, the best match first.
    pub results: Vec<Found>,
    /// What was not searched.
    pub not_searched: Vec<NotSearched>,
}

/// A package, installed or offered, that the search found.
struct Hit<'a> {
    known: Known,
    parts: Vec<Part>,
    installed: Vec<&'a Package>,
    /// The offers of it, each with its installation.
    offers: Vec<(Offer, &'a dyn Installation)>,
}

/// What one package of one manager and scope is called.
type Key = (ManagerId, Scope, ByteString);

/// Searches every catalogue, and what is installed.
#[must_use]
pub fn search(survey: &Survey<'_>, words: &Search) -> SearchAnswer {
    let query = OfferQuery::Search(words.clone());
    let of_each: Vec<Vec<Offer>> = survey
        .installations()
        .par_iter()
        .map(|held| held.catalogue().map_or_else(Vec::new, |catalogue| catalogue.offers(&query)))
        .collect();
    let mut hits: Vec<Hit<'_>> = Vec::new();
    let mut places: HashMap<Key, usize> = HashMap::new();
    for (offers, held) in of_each.into_iter().zip(survey.installations()) {
        for offer in offers {
            let key = (offer.manager, offer.scope.clone(), offer.name.clone());
            let place = *places.entry(key).or_insert_with(|| {
                hits.push(Hit {
                    known: known_of(&offer),
                    parts: Vec::new(),
                    installed: Vec::new(),
                    offers: Vec::new(),
                });
                hits.len() - 1
            });
            let hit = &mut hits[place];
            for command in &offer.provides {
                if !hit.known.commands.contains(command) {
                    hit.known.commands.push(command.clone());
                }
            }
            hit.known.upstream = hit.known.upstream.take().or_else(|| offer.homepage.clone());
            hit.offers.push((offer, &**held));
        }
    }
    add_installed(survey, words, &mut hits, &mut places);
    for hit in &mut hits {
        let of_offers = hit.offers.iter().filter_map(|(offer, _)| words.parts(&offer.described()));
        let best = of_offers.chain(std::mem::take(&mut hit.parts).into_iter().map(|part| vec![part])).min();
        hit.parts = best.unwrap_or_default();
    }
    let known: Vec<Known> = hits.iter().map(|hit| hit.known.clone()).collect();
    let (of_known, names) = grouped(survey, &known);
    let mut groups: Vec<(ByteString, Vec<Hit<'_>>)> = names.into_iter().map(|name| (name, Vec::new())).collect();
    hits.into_iter().zip(of_known).for_each(|(hit, group)| groups[group].1.push(hit));
    // What has no part of its own came along with another of its title.
    groups.retain(|(_, hits)| hits.iter().any(|hit| !hit.parts.is_empty()));
    groups.sort_by_cached_key(|(title, hits)| {
        let best = hits.iter().filter(|hit| !hit.parts.is_empty()).map(|hit| {
            let worst = hit.parts.iter().max().copied();
            (worst, hit.parts.clone())
        });
        let is_installed = hits.iter().any(|hit| !hit.installed.is_empty());
        (best.min(), Reverse(is_installed), Reverse(hits.len()), title.len(), title.clone())
    });
    let results = groups.into_iter().map(|(title, hits)| told(survey, words, title, &hits)).collect();
    SearchAnswer { results, not_searched: not_searched(survey, words) }
}

/// Adds the installed packages that the search finds, and those that may be of a title that it found.
fn add_installed<'a>(
    survey: &'a Survey<'_>,
    words: &Search,
    hits: &mut Vec<Hit<'a>>,
    places: &mut HashMap<Key, usize>,
) {
    let names: hashbrown::HashSet<ByteString> = hits.iter().map(|hit| key(&hit.known)).collect();
    let titled = survey.titled();
    for (package, known) in titled.packages.iter().zip(&titled.known) {
        let place = places.get(&(package.manager, package.scope.clone(), package.name.clone())).copied();
        let described = Described {
            name: &package.name,
            commands: match words.scope() {
                SearchScope::Names => &[],
                _ => &known.commands,
            },
            ..Described::default()
        };
        let parts = words.parts(&described);
        if matches!(package.status, Status::ConfigRemains | Status::Disabled)
            || (place.is_none() && parts.is_none() && !names.contains(&key(known)))
        {
            continue;
        }
        let place = place.unwrap_or_else(|| {
            places.insert((package.manager, package.scope.clone(), package.name.clone()), hits.len());
            hits.push(Hit { known: known.clone(), parts: Vec::new(), installed: Vec::new(), offers: Vec::new() });
            hits.len() - 1
        });
        let hit = &mut hits[place];
        hit.known = Known { upstream: known.upstream.clone().or(hit.known.upstream.take()), ..known.clone() };
        hit.parts = parts.unwrap_or_default();
        hit.installed.push(package);
    }
}

/// The most places of one result that are named as evidence.
const MAX_EVIDENCE: usize = 8;

fn told(survey: &Survey<'_>, words: &Search, title: ByteString, hits: &[Hit<'_>]) -> Found {
    let mut found = Found {
        title,
        summary: None,
        installed: Vec::new(),
        offers: Vec::new(),
        matched_by: Vec::new(),
        copies: Vec::new(),
    };
    for hit in hits {
        found.installed.extend(hit.installed.iter().map(|package| package.id.clone()));
        let mut is_matched = false;
        for (offer, held) in &hit.offers {
            found.summary = found.summary.or_else(|| offer.says.clone());
            if let Some(parts) = words.parts(&offer.described()).filter(|_| !is_matched) {
                is_matched = true;
                let at = offer.evidence.first();
                found.matched_by.extend(words.words().zip(parts).filter_map(|(word, part)| {
                    let says = format!("{word} {}", part.word());
                    at.map(|at| Evidence { says, ..at.clone() })
                }));
            }
            add_offer(survey, &mut found.offers, offer, *held);
        }
        if let Some(package) = hit.installed.first().filter(|_| !is_matched && !hit.parts.is_empty()) {
            let by_command = package.commands.iter().find(|command| words.is_command(path::name(command)));
            let says = match by_command {
                Some(command) => format!("it is installed with the command {command}"),
                None => "it is installed".to_owned(),
            };
            found.matched_by.push(Evidence::at(package.location.clone(), format!("package {}", package.name), says));
        }
    }
    let is_offered = |package: &Package| {
        let is_it = |one: &FoundOffer| {
            one.installed && (one.manager, &one.scope, &one.name) == (package.manager, &package.scope, &package.name)
        };
        found.offers.iter().any(is_it)
    };
    let others = hits.iter().flat_map(|hit| &hit.installed).filter(|package| !is_offered(package));
    found.copies = others.map(|package| package.brief()).collect();
    found.matched_by.truncate(MAX_EVIDENCE);
    found
}

/// Adds an offer, or the name of its source to the same offer of another source.
fn add_offer(survey: &Survey<'_>, offers: &mut Vec<FoundOffer>, offer: &Offer, held: &dyn Installation) {
    // What is installed and in no catalogue is not on offer.
    let Some(source) = offer.source.as_ref().filter(|_| !offer.installed || offer.catalogued_at.is_some()) else {
        return;
    };
    let is_same = |one: &&mut FoundOffer| {
        (one.manager, &one.scope, &one.name, &one.version, &one.channel)
            == (offer.manager, &offer.scope, &offer.name, &offer.version, &offer.channel)
            && (one.arch == offer.arch || one.arch.is_none() || offer.arch.is_none())
    };
    if let Some(known) = offers.iter_mut().find(is_same) {
        let name = &source.name;
        if known.source.as_ref().is_some_and(|first| first.name != *name) && !known.also_in.contains(name) {
            known.also_in.push(name.clone());
        }
        known.installed |= offer.installed;
        return;
    }
    let is_open = offer.candidate && !offer.installed && !offer.held && offer.is_allowed();
    let line = is_open.then(|| held.catalogue()?.install_command(offer)).flatten();
    let remedy = line.and_then(|line| survey.remedy_within(held, Remedy::new(RemedyKind::Install, line)));
    offers.push(FoundOffer {
        manager: offer.manager,
        scope: offer.scope.clone(),
        source: Some(source.clone()),
        also_in: Vec::new(),
        name: offer.name.clone(),
        version: offer.version.clone(),
        arch: offer.arch.clone(),
        channel: offer.channel.clone(),
        publisher: offer.publisher.clone(),
        signed: offer.signed,
        download_size: offer.download_size,
        installed_size: offer.size,
        confinement: offer.confinement.clone(),
        provides: offer.provides.clone(),
        installed: offer.installed,
        install_command: remedy.map(|remedy| remedy.command),
    });
}

/// What was not searched, each thing once.
fn not_searched(survey: &Survey<'_>, words: &Search) -> Vec<NotSearched> {
    let mut found: Vec<NotSearched> = Vec::new();
    for held in survey.installations().iter().filter(|held| !held.coverage().is_empty()) {
        let manager = held.location().manager;
        let mut missing = held.catalogue().map_or_else(Vec::new, |catalogue| catalogue.unsearched(words));
        if managers::profile(manager).kind == ManagerKind::Language {
            missing
                .push(Unsearched::new("no index is kept on the machine: only installed packages were searched", None));
        }
        for one in missing {
            let remedy = one.fetch.and_then(|line| survey.remedy_within(&**held, Remedy::new(RemedyKind::Fetch, line)));
            let told = NotSearched { manager, what: one.what, command: remedy.map(|remedy| remedy.command) };
            if !found.contains(&told) {
                found.push(told);
            }
        }
    }
    found
}
