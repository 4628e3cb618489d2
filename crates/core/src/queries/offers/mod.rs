//! Which sources have it, at which version: from what the managers last fetched.

mod suggestion;
pub(super) mod titles;

use std::cmp::Ordering;

use hashbrown::HashMap;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

use super::upkeep::{Keeping, UpkeepMode};
use crate::backend::Catalogue;
use crate::bytes::ByteString;
use crate::findings::held;
use crate::managers;
use crate::model::{
    Finding, ManagerId, ManagerKind, Offer, OfferQuery, PullsIn, Remedy, RemedyKind, Search, SearchScope, Status,
};
use crate::survey::Survey;
use crate::version::upstream;

pub use suggestion::{Preferences, Suggestion};
pub use titles::OfferedTitle;

/// What is asked.
#[derive(Debug, Clone, Default)]
pub struct Question {
    /// Names of packages or titles; none for all that is installed and has something newer.
    pub names: Vec<ByteString>,
    /// What the settings say of sources.
    pub preferences: Preferences,
    /// Now, in seconds since 1970; of a mounted disk, the date of its newest catalogue counts instead.
    pub now: Option<i64>,
}

/// One version that one source has, among all of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Offered {
    /// The name that was asked for.
    pub asked: ByteString,
    /// The offer.
    #[serde(flatten)]
    pub offer: Offer,
    /// Whether its catalogue is older than a month.
    pub stale: bool,
    /// Whether nothing newer is known, by upstream's version.
    pub newest: bool,
    /// Whether it comes first by the order of preference.
    pub preferred: bool,
    /// Bytes once installed.
    pub installed_size: Option<u64>,
    /// What it would bring along that is not here yet; `null` where it is installed, or where that is not known.
    pub pulls_in: Option<PullsIn>,
    /// Who would keep it current.
    pub upkeep: Option<OfferUpkeep>,
    /// The command that takes it; none where it is installed.
    pub remedies: Vec<Remedy>,
}

impl Offered {
    /// An offer that was not yet judged.
    fn bare(asked: ByteString, offer: Offer) -> Self {
        Offered {
            asked,
            installed_size: offer.size,
            offer,
            stale: false,
            newest: false,
            preferred: false,
            pulls_in: None,
            upkeep: None,
            remedies: Vec::new(),
        }
    }
}

/// Who would keep an offer current.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct OfferUpkeep {
    /// Who.
    pub mode: UpkeepMode,
    /// What does it by itself.
    pub by: Option<String>,
    /// When, as it is written.
    pub schedule: Option<String>,
}

/// Which managers were asked about a name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Asked {
    /// The name.
    pub name: ByteString,
    /// Managers whose catalogues were read and do not have it.
    pub not_offered_by: Vec<ManagerId>,
    /// Managers of which no catalogue is on this machine: whether they have it is unknown.
    pub unknown: Vec<ManagerId>,
    /// Names that are offered and have this one in them, where nothing is offered under it.
    pub similar: Vec<ByteString>,
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Offers {
    /// The offers by name, newest first.
    pub offers: Vec<Offered>,
    /// The pieces of software that they are of. Several can have one name.
    pub titles: Vec<OfferedTitle>,
    /// Which managers were asked, name by name.
    pub asked: Vec<Asked>,
    /// Findings about it.
    pub findings: Vec<Finding>,
}

/// A catalogue that is older is said to be stale: seconds.
const A_MONTH: i64 = 31 * 86_400;

/// Asks every manager.
#[must_use]
pub fn offers(survey: &Survey<'_>, question: &Question) -> Offers {
    let newer_only = question.names.is_empty();
    let mut found = gathered(survey, question);
    let now = question.now.or_else(|| found.iter().filter_map(|one| one.offer.catalogued_at).max());
    for one in &mut found {
        one.stale = now.zip(one.offer.catalogued_at).is_some_and(|(now, then)| now - then > A_MONTH);
    }
    found.sort_by(|a, b| {
        let place = |one: &Offered| question.names.iter().position(|name| *name == one.asked);
        (place(a), &a.asked)
            .cmp(&(place(b), &b.asked))
            .then_with(|| upstream_order(&b.offer, &a.offer))
            .then_with(|| own_order(survey, &b.offer, &a.offer))
            .then_with(|| suggestion::tie(&question.preferences, &a.offer, &b.offer))
            .then_with(|| {
                (a.offer.manager, &a.offer.name, &a.offer.arch).cmp(&(b.offer.manager, &b.offer.name, &b.offer.arch))
            })
    });
    let mut titles = Vec::new();
    if newer_only {
        let mut start = 0;
        while start < found.len() {
            let count = found[start..].iter().take_while(|one| one.asked == found[start].asked).count();
            let of_name: Vec<usize> = (start..start + count).collect();
            judge(&mut found, &of_name, &question.preferences, &|a, b| own_order(survey, a, b));
            start += count;
        }
    } else {
        add_costs(survey, &mut found);
        titles = titles::of(survey, &found);
        for title in &mut titles {
            let own = |a: &Offer, b: &Offer| own_order(survey, a, b);
            title.suggestion = judge(&mut found, &title.offers, &question.preferences, &own);
        }
    }
    let release = |offer: &Offer| {
        let mut of_manager = survey.installations().iter().filter(|held| held.location().manager == offer.manager);
        let held = of_manager.find(|held| held.location().scope == offer.scope)?;
        let line = held.catalogue()?.unhold_command(&offer.name)?;
        survey.remedy_within(&**held, Remedy::new(RemedyKind::Unhold, line).to("remove the hold"))
    };
    let findings = held::findings(&found.iter().map(|one| &one.offer).collect::<Vec<_>>(), &release);
    let asked = question.names.iter().map(|name| asked(survey, name, &found)).collect();
    Offers { offers: found, titles, asked, findings }
}

/// The offers of all managers, in no order.
fn gathered(survey: &Survey<'_>, question: &Question) -> Vec<Offered> {
    let newer_only = question.names.is_empty();
    let asked = match newer_only {
        true => OfferQuery::Installed,
        false => OfferQuery::Names(question.names.iter().map(|name| name.to_ascii_lowercase().into()).collect()),
    };
    let mut found = matching(survey, &asked, newer_only, &|offer| {
        let exactly = question.names.iter().find(|name| **name == offer.name);
        let loosely = || question.names.iter().find(|name| OfferQuery::Names(vec![(*name).clone()]).has(&offer.name));
        exactly.or_else(loosely).unwrap_or(&offer.name).clone()
    });
    found.extend(elsewhere(survey, &question.names, &found));
    // What is no package's name can be a command's.
    let is_found = |name: &ByteString| found.iter().any(|one| one.asked == *name);
    let others: Vec<ByteString> = question.names.iter().filter(|name| !is_found(name)).cloned().collect();
    for name in others {
        let search = Search::new(std::slice::from_ref(&name), &[], SearchScope::Commands);
        found.extend(matching(survey, &OfferQuery::Search(search), false, &|_| name.clone()));
    }
    // By the name that is shown, or by a command, several packages can be meant; each is asked about by one name.
    for one in &mut found {
        if !newer_only && !question.names.contains(&one.asked) {
            let shown = one.offer.display_name.as_ref().map(|name| name.to_string().to_lowercase().replace(' ', ""));
            let is_it =
                |name: &&ByteString| shown.as_ref().is_some_and(|shown| shown.as_bytes() == name.to_ascii_lowercase());
            if let Some(name) = question.names.iter().find(is_it).or(question.names.first()) {
                one.asked = name.clone();
            }
        }
    }
    found
}

/// The offers that match a query, each with the name that it answers.
fn matching(
    survey: &Survey<'_>,
    query: &OfferQuery,
    newer_only: bool,
    asked: &dyn Fn(&Offer) -> ByteString,
) -> Vec<Offered> {
    let of_each: Vec<Vec<Offer>> = survey
        .installations()
        .par_iter()
        .map(|held| held.catalogue().map_or_else(Vec::new, |catalogue| catalogue.offers(query)))
        .collect();
    let mut found: Vec<Offered> = Vec::new();
    for (mut offers, held) in of_each.into_iter().zip(survey.installations()) {
        if newer_only {
            offers = newer(&offers, &|a, b| held.order(a, b));
        }
        found.extend(offers.into_iter().map(|offer| {
            let is_open = !offer.installed && !offer.held && offer.source.is_some() && offer.is_allowed();
            let command = is_open.then(|| held.catalogue()?.install_command(&offer)).flatten();
            let remedy = command.and_then(|line| survey.remedy_within(&**held, Remedy::new(RemedyKind::Install, line)));
            Offered { remedies: remedy.into_iter().collect(), ..Offered::bare(asked(&offer), offer) }
        }));
    }
    found
}

/// Adds what each offer would bring along, and who would keep it current.
fn add_costs(survey: &Survey<'_>, found: &mut [Offered]) {
    let names: Vec<ByteString> = found.iter().map(|one| one.offer.name.to_ascii_lowercase().into()).collect();
    let keeping = Keeping::of(survey, &OfferQuery::Names(names));
    // Several sources have the same: it brings along the same.
    let mut known: HashMap<(ManagerId, ByteString, Option<ByteString>), Option<PullsIn>> = HashMap::new();
    for one in found {
        let offer = &one.offer;
        let mut of_manager = survey.installations().iter().filter(|held| held.location().manager == offer.manager);
        let Some(held) = of_manager.find(|held| held.location().scope == offer.scope) else { continue };
        let is_open = !offer.installed && offer.source.is_some() && offer.is_allowed();
        if is_open {
            let key = (offer.manager, offer.name.clone(), offer.version.clone());
            let read = || held.catalogue().and_then(|catalogue| catalogue.pulls_in(offer));
            one.pulls_in = known.entry(key).or_insert_with(read).clone();
        }
        if offer.source.is_some() && offer.catalogued_at.is_some() {
            let automatic = keeping.automatic(&**held, &offer.name, &offer.scope, std::slice::from_ref(offer));
            one.upkeep = Some(match automatic {
                Some(automatic) => {
                    OfferUpkeep { mode: UpkeepMode::Automatic, by: Some(automatic.by), schedule: automatic.schedule }
                }
                None => OfferUpkeep { mode: UpkeepMode::Command, by: None, schedule: None },
            });
        }
    }
}

/// The most similar names that are told.
const MAX_SIMILAR: usize = 8;

/// Which managers were asked about a name, and which names are like it.
fn asked(survey: &Survey<'_>, name: &ByteString, found: &[Offered]) -> Asked {
    let of_name = || found.iter().filter(|one| one.asked == *name);
    let (mut not_offered_by, mut unknown): (Vec<ManagerId>, Vec<ManagerId>) = (Vec::new(), Vec::new());
    for held in survey.installations().iter().filter(|held| !held.coverage().is_empty()) {
        let manager = held.location().manager;
        let kind = managers::profile(manager).kind;
        let has_sources =
            kind != ManagerKind::Versions && (held.catalogue().is_some() || kind == ManagerKind::Language);
        let has_it = of_name().any(|one| one.offer.manager == manager && one.offer.source.is_some());
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
    Asked { name: name.clone(), not_offered_by, unknown, similar }
}

/// The installed packages with these names whose managers keep no catalogue on disk.
fn elsewhere(survey: &Survey<'_>, names: &[ByteString], found: &[Offered]) -> Vec<Offered> {
    let mut more: Vec<Offered> = Vec::new();
    for name in names {
        for (held, number) in survey.named(name) {
            let owner = held.owner(number);
            let is_same = |one: &Offered| one.offer.manager == owner.manager && one.offer.name == owner.name;
            let is_twice =
                |one: &Offered| is_same(one) && one.offer.scope == owner.scope && one.offer.version == owner.version;
            if found.iter().any(is_same) || more.iter().any(is_twice) || owner.status == Status::ConfigRemains {
                continue;
            }
            let bare = Offer::bare(owner.manager, owner.scope, owner.name, ByteString::default(), None, false);
            let evidence = held.package_evidence(number).into_iter().take(1).collect();
            let offer = Offer { version: owner.version, installed: true, evidence, ..bare };
            more.push(Offered::bare(name.clone(), offer));
        }
    }
    more
}

/// Of what is installed, the versions that are newer, with the installed one itself; nothing where none is.
fn newer(offers: &[Offer], order: &dyn Fn(&[u8], &[u8]) -> Ordering) -> Vec<Offer> {
    let mut of_name: HashMap<&ByteString, Vec<&Offer>> = HashMap::new();
    for offer in offers {
        of_name.entry(&offer.name).or_default().push(offer);
    }
    let mut kept: Vec<Offer> = Vec::new();
    let mut seen: Vec<&Offer> = Vec::new();
    for now in offers.iter().filter(|offer| offer.installed) {
        let same = || of_name[&now.name].iter().copied().filter(|other| same_package(other, now));
        // Without a version on both sides, the manager's own choice says it.
        let is_newer = |other: &&Offer| match (&other.version, &now.version) {
            (Some(other), Some(version)) => order(other, version) == Ordering::Greater,
            _ => !other.installed && (other.candidate || now.held) && other.channel == now.channel,
        };
        // Several sources have the installed version, or it is kept beside a newer one.
        let is_told = seen.iter().any(|other| same_package(other, now));
        if is_told || same().any(|other| other.installed && is_newer(&other)) {
            continue;
        }
        let found: Vec<Offer> = same().filter(|other| other.is_allowed() && is_newer(other)).cloned().collect();
        if !found.is_empty() {
            seen.push(now);
            kept.push(now.clone());
            kept.extend(found);
        }
    }
    kept
}

fn same_package(a: &Offer, b: &Offer) -> bool {
    let is_for_all = |arch: &ByteString| matches!(&**arch, b"all" | b"noarch" | b"any");
    let same_arch = || match (&a.arch, &b.arch) {
        (Some(a), Some(b)) => a == b || is_for_all(a) || is_for_all(b),
        _ => true,
    };
    a.manager == b.manager && a.scope == b.scope && a.name == b.name && same_arch()
}

/// Marks the newest of these, and the one that comes first by preference, which is then suggested.
fn judge(
    found: &mut [Offered],
    places: &[usize],
    preferences: &Preferences,
    own: &dyn Fn(&Offer, &Offer) -> Ordering,
) -> Option<Suggestion> {
    let of_title: Vec<&Offered> = places.iter().map(|at| &found[*at]).collect();
    let versioned = of_title.iter().filter(|one| one.offer.version.is_some());
    let newest = versioned.max_by(|a, b| upstream_order(&a.offer, &b.offer));
    let is_newest = |one: &Offered| {
        one.offer.version.is_some()
            && newest.is_some_and(|newest| upstream_order(&one.offer, &newest.offer).is_eq())
            && !of_title.iter().any(|other| own(&other.offer, &one.offer) == Ordering::Greater)
    };
    let marks: Vec<bool> = of_title.iter().map(|one| is_newest(one)).collect();
    for (at, newest) in places.iter().zip(marks) {
        found[*at].newest = newest;
    }
    let is_open = |at: &&usize| found[**at].offer.source.is_some() && found[**at].offer.is_allowed();
    let open: Vec<usize> = places.iter().filter(is_open).copied().collect();
    let first = open.iter().copied().min_by(|a, b| preferences.order(&found[*a], &found[*b]))?;
    found[first].preferred = true;
    let others: Vec<&Offered> = open.iter().map(|at| &found[*at]).collect();
    Some(Suggestion { offer: first, because: preferences.reasons(&found[first], &others) })
}

/// Orders by what upstream calls its versions: an epoch and a packager's revision aside.
fn upstream_order(a: &Offer, b: &Offer) -> Ordering {
    let part = |one: &Offer| {
        upstream::part(managers::profile(one.manager).notation, one.version.as_deref().unwrap_or_default())
    };
    upstream::compare(&part(a), &part(b))
}

/// By the manager's own rule, where both are of one manager.
fn own_order(survey: &Survey<'_>, a: &Offer, b: &Offer) -> Ordering {
    let held = survey.installations().iter().find(|held| held.location().manager == a.manager);
    match (held, &a.version, &b.version) {
        (Some(held), Some(x), Some(y)) if a.manager == b.manager => held.order(x, y),
        _ => Ordering::Equal,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{ManagerId, Origin, Scope};
    use crate::version::{rpm, tokens};

    fn offer(manager: &'static str, version: &str, trust: &str, installed: bool) -> Offer {
        let source = Origin {
            name: "Quay stable/main".into(),
            kind: "repository".to_owned(),
            url: None,
            trust: Some(trust.to_owned()),
        };
        Offer {
            source: Some(source),
            installed,
            ..Offer::bare(ManagerId(manager), Scope::System, "ferryboard".into(), version.into(), None, false)
        }
    }

    fn judged(prefer: &[&str], offers: &[Offer]) -> (String, String) {
        let mut found: Vec<Offered> = offers.iter().map(|offer| Offered::bare("x".into(), offer.clone())).collect();
        let own = |a: &Offer, b: &Offer| match (a.manager == b.manager, &a.version, &b.version) {
            (true, Some(a), Some(b)) => rpm::compare(a, b),
            _ => Ordering::Equal,
        };
        let prefer = prefer.iter().map(|word| (*word).to_owned()).collect();
        let places: Vec<usize> = (0..found.len()).collect();
        let _ = judge(&mut found, &places, &Preferences { prefer, ..Preferences::default() }, &own);
        let version = |fits: &dyn Fn(&&Offered) -> bool| {
            found
                .iter()
                .find(fits)
                .map(|one| one.offer.version.clone().unwrap_or_default().to_string())
                .unwrap_or_default()
        };
        (version(&|one| one.newest), version(&|one| one.preferred))
    }

    #[test]
    fn the_newest_is_upstreams_and_the_first_the_users() {
        let all = [
            offer("dpkg", "1:1.4.2-3", "distribution", true),
            offer("dpkg", "1.5~rc1-1", "third-party", false),
            offer("flatpak", "1.6", "third-party", false),
            offer("nix", "1.5", "third-party", false),
        ];
        assert_eq!(judged(&[], &all), ("1.6".to_owned(), "1:1.4.2-3".to_owned()));
        assert_eq!(judged(&["sandboxed"], &all).1, "1.6");
        assert_eq!(judged(&["nix", "dpkg"], &all).1, "1.5");
        assert_eq!(judged(&["Quay", "dpkg"], &all[..2]).1, "1.5~rc1-1");
        assert_eq!(upstream_order(&all[1], &all[3]), Ordering::Less);
    }

    #[test]
    fn newer_ones_come_with_the_one_that_is_installed() {
        let order = |a: &[u8], b: &[u8]| tokens::compare(a, b);
        let offers = [
            offer("dpkg", "1.4", "distribution", true),
            offer("dpkg", "1.5", "distribution", false),
            offer("dpkg", "1.3", "distribution", false),
        ];
        assert_eq!(newer(&offers, &order).len(), 2);
        assert_eq!(newer(&offers[..1], &order), []);
    }
}
