//! Which sources have it, at which version: from what the managers last fetched.

use std::cmp::Ordering;

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::ByteString;
use crate::findings::held;
use crate::managers;
use crate::model::{Finding, ManagerKind, Offer, OfferQuery, Remedy, RemedyKind, Status};
use crate::survey::Survey;
use crate::version::upstream;

/// What is asked.
#[derive(Debug, Clone, Default)]
pub struct Question {
    /// Names of packages or titles; none for all that is installed and has something newer.
    pub names: Vec<ByteString>,
    /// Which sources come first: managers, names of sources, or `distribution` and `sandboxed`.
    pub prefer: Vec<String>,
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
    /// The command that takes it; none where it is installed.
    pub remedies: Vec<Remedy>,
}

impl Offered {
    /// An offer that was not yet judged.
    fn bare(asked: ByteString, offer: Offer) -> Self {
        Offered { asked, offer, stale: false, newest: false, preferred: false, remedies: Vec::new() }
    }
}

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Offers {
    /// The offers by name, newest first.
    pub offers: Vec<Offered>,
    /// Findings about it.
    pub findings: Vec<Finding>,
}

/// A catalogue that is older is said to be stale: seconds.
const A_MONTH: i64 = 31 * 86_400;

/// Asks every manager.
#[must_use]
pub fn offers(survey: &Survey<'_>, question: &Question) -> Offers {
    let newer_only = question.names.is_empty();
    let asked = match newer_only {
        true => OfferQuery::Installed,
        false => OfferQuery::Names(question.names.iter().map(|name| name.to_ascii_lowercase().into()).collect()),
    };
    let of_each = survey
        .installations()
        .iter()
        .map(|held| (held.catalogue().map_or_else(Vec::new, |catalogue| catalogue.offers(&asked)), &**held));
    let mut found: Vec<Offered> = Vec::new();
    for (mut offers, held) in of_each {
        if newer_only {
            offers = newer(&offers, &|a, b| held.order(a, b));
        }
        found.extend(offers.into_iter().map(|offer| {
            let exactly = question.names.iter().find(|name| **name == offer.name);
            let loosely =
                || question.names.iter().find(|name| OfferQuery::Names(vec![(*name).clone()]).has(&offer.name));
            let asked = exactly.or_else(loosely).unwrap_or(&offer.name).clone();
            let is_open = !offer.installed && !offer.held && offer.source.is_some() && offer.is_allowed();
            let command = is_open.then(|| held.catalogue()?.install_command(&offer)).flatten();
            let remedy = command.and_then(|line| survey.remedy_within(held, Remedy::new(RemedyKind::Install, line)));
            Offered { remedies: remedy.into_iter().collect(), ..Offered::bare(asked, offer) }
        }));
    }
    found.extend(elsewhere(survey, &question.names, &found));
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
            .then_with(|| rank(&question.prefer, &a.offer).cmp(&rank(&question.prefer, &b.offer)))
            .then_with(|| b.offer.candidate.cmp(&a.offer.candidate))
            .then_with(|| {
                (a.offer.manager, &a.offer.name, &a.offer.arch).cmp(&(b.offer.manager, &b.offer.name, &b.offer.arch))
            })
    });
    let mut start = 0;
    while start < found.len() {
        let count = found[start..].iter().take_while(|one| one.asked == found[start].asked).count();
        judge(&mut found[start..start + count], &question.prefer, &|a, b| own_order(survey, a, b));
        start += count;
    }
    let release = |offer: &Offer| {
        let mut of_manager = survey.installations().iter().filter(|held| held.location().manager == offer.manager);
        let held = of_manager.find(|held| held.location().scope == offer.scope)?;
        let line = held.catalogue()?.unhold_command(&offer.name)?;
        survey.remedy_within(&**held, Remedy::new(RemedyKind::Unhold, line).to("remove the hold"))
    };
    let findings = held::findings(&found.iter().map(|one| &one.offer).collect::<Vec<_>>(), &release);
    Offers { offers: found, findings }
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

/// Marks the newest of one name, and the one that comes first by preference.
fn judge(found: &mut [Offered], prefer: &[String], own: &dyn Fn(&Offer, &Offer) -> Ordering) {
    let versioned = found.iter().filter(|one| one.offer.version.is_some());
    let newest = versioned.max_by(|a, b| upstream_order(&a.offer, &b.offer));
    let is_newest = |one: &Offered| {
        one.offer.version.is_some()
            && newest.is_some_and(|newest| upstream_order(&one.offer, &newest.offer).is_eq())
            && !found.iter().any(|other| own(&other.offer, &one.offer) == Ordering::Greater)
    };
    let marks: Vec<bool> = found.iter().map(is_newest).collect();
    let by_preference = |a: &Offer, b: &Offer| {
        rank(prefer, a)
            .cmp(&rank(prefer, b))
            .then_with(|| b.candidate.cmp(&a.candidate))
            .then_with(|| upstream_order(b, a))
    };
    let can_be_had = found.iter().enumerate().filter(|(_, one)| one.offer.source.is_some() && one.offer.is_allowed());
    let first = can_be_had.min_by(|(_, a), (_, b)| by_preference(&a.offer, &b.offer)).map(|(place, _)| place);
    for (place, (one, newest)) in found.iter_mut().zip(marks).enumerate() {
        one.newest = newest;
        one.preferred = first == Some(place);
    }
}

/// The order of sources where none is set.
const USUAL: [&str; 2] = ["distribution", "sandboxed"];

/// Where a source stands in the order of preference.
fn rank(prefer: &[String], offer: &Offer) -> usize {
    let source = offer.source.as_ref();
    let fits = |word: &str| match word {
        "distribution" => source.and_then(|source| source.trust.as_deref()) == Some("distribution"),
        "sandboxed" => managers::profile(offer.manager).kind == ManagerKind::Sandbox,
        word => {
            let is_named = |name: &ByteString| {
                *name == *word || name.split(|b| matches!(b, b' ' | b'/')).any(|part| part == word.as_bytes())
            };
            offer.manager.0 == word || source.is_some_and(|source| is_named(&source.name))
        }
    };
    let place = match prefer {
        [] => USUAL.iter().position(|word| fits(word)),
        order => order.iter().position(|word| fits(word)),
    };
    place.unwrap_or(usize::MAX)
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
        judge(&mut found, &prefer.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>(), &own);
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
