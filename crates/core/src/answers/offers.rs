//! Which sources have it, at which version: from what the managers last fetched.

use std::cmp::Ordering;

use schemars::JsonSchema;
use serde::Serialize;

use crate::findings::held;
use crate::model::{Asked, Finding, ManagerId, Offer, Remedy, Status};
use crate::survey::Survey;
use crate::text::Text;
use crate::version::{rpm, tokens};

/// What is asked.
#[derive(Debug, Clone, Default)]
pub struct Question {
    /// Names of packages or titles; none for all that is installed and has something newer.
    pub names: Vec<Text>,
    /// Which sources come first: managers, names of sources, or `distribution` and `sandboxed`.
    pub prefer: Vec<String>,
    /// Now, in seconds since 1970; of a mounted disk, the date of its newest catalogue counts instead.
    pub now: Option<i64>,
}

/// One version that one source has, among all of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Offered {
    /// The name that was asked for.
    pub asked: Text,
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

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Offers {
    /// What is offered, name by name, the newest first.
    pub offers: Vec<Offered>,
    /// What a maintainer should know of it.
    pub findings: Vec<Finding>,
}

/// A catalogue that is older is said to be stale: seconds.
const A_MONTH: i64 = 31 * 86_400;

/// Managers whose packages are confined.
const SANDBOXED: [&str; 3] = ["flatpak", "snap", "appimage"];

/// Asks every manager.
#[must_use]
pub fn offers(survey: &Survey<'_>, question: &Question) -> Offers {
    let newer_only = question.names.is_empty();
    let asked = match newer_only {
        true => Asked::Installed,
        false => Asked::Names(question.names.iter().map(|name| name.to_ascii_lowercase().into()).collect()),
    };
    let of_each = survey.holdings().iter().map(|held| (held.offers(&asked), &**held));
    let mut found: Vec<Offered> = Vec::new();
    for (mut offers, held) in of_each {
        if newer_only {
            offers = newer(&offers, &|a, b| held.order(a, b));
        }
        found.extend(offers.into_iter().map(|offer| {
            let exactly = question.names.iter().find(|name| **name == offer.name);
            let loosely = || question.names.iter().find(|name| Asked::Names(vec![(*name).clone()]).has(&offer.name));
            let asked = exactly.or_else(loosely).unwrap_or(&offer.name).clone();
            let is_open = !offer.installed
                && !offer.held
                && offer.source.is_some()
                && offer.priority.is_none_or(|priority| priority > 0);
            let command = is_open.then(|| held.take(&offer)).flatten();
            let remedies =
                command.map(|command| Remedy { purpose: "install".to_owned(), command }).into_iter().collect();
            Offered { asked, offer, stale: false, newest: false, preferred: false, remedies }
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
        let mut of_manager = survey.holdings().iter().filter(|held| held.installation().manager == offer.manager);
        of_manager.find(|held| held.installation().scope == offer.scope)?.release(&offer.name)
    };
    let findings = held::findings(&found.iter().map(|one| &one.offer).collect::<Vec<_>>(), &release);
    Offers { offers: found, findings }
}

/// What is installed under these names by managers that keep no catalogue on the disk.
fn elsewhere(survey: &Survey<'_>, names: &[Text], found: &[Offered]) -> Vec<Offered> {
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
            let bare = Offer::bare(owner.manager, owner.scope, owner.name, Text::default(), None, false);
            let evidence = held.package_evidence(number).into_iter().take(1).collect();
            let offer = Offer { version: owner.version, installed: true, evidence, ..bare };
            more.push(Offered {
                asked: name.clone(),
                offer,
                stale: false,
                newest: false,
                preferred: false,
                remedies: Vec::new(),
            });
        }
    }
    more
}

/// Of what is installed, the versions that are newer, with the installed one itself; nothing where none is.
fn newer(offers: &[Offer], order: &dyn Fn(&[u8], &[u8]) -> Ordering) -> Vec<Offer> {
    let mut kept = Vec::new();
    for now in offers.iter().filter(|offer| offer.installed) {
        let Some(version) = &now.version else { continue };
        if kept.iter().any(|other: &Offer| other.installed && same_package(other, now)) {
            continue; // Several sources have the installed version.
        }
        let is_past = |other: &Offer| {
            other.installed
                && same_package(other, now)
                && other.version.as_ref().is_some_and(|other| order(other, version) == Ordering::Greater)
        };
        if offers.iter().any(is_past) {
            continue; // It is kept beside a newer one.
        }
        let is_newer = |offer: &&Offer| {
            let taken = offer.priority.is_none_or(|priority| priority > 0);
            taken
                && same_package(offer, now)
                && offer.version.as_ref().is_some_and(|other| order(other, version) == Ordering::Greater)
        };
        let found: Vec<Offer> = offers.iter().filter(is_newer).cloned().collect();
        if !found.is_empty() {
            kept.push(now.clone());
            kept.extend(found);
        }
    }
    kept
}

fn same_package(a: &Offer, b: &Offer) -> bool {
    let arch = |offer: &Offer| {
        offer.arch.clone().filter(|arch| **arch != *b"all" && **arch != *b"noarch" && **arch != *b"any")
    };
    let arches = arch(a).zip(arch(b));
    a.manager == b.manager && a.scope == b.scope && a.name == b.name && arches.is_none_or(|(a, b)| a == b)
}

/// Marks the newest of one name, and the one that comes first by preference.
fn judge(found: &mut [Offered], prefer: &[String], own: &dyn Fn(&Offer, &Offer) -> Ordering) {
    let all: Vec<Offer> = found.iter().map(|one| one.offer.clone()).collect();
    let newest = all.iter().max_by(|a, b| upstream_order(a, b));
    for one in found.iter_mut() {
        let is_upstreams = newest.is_some_and(|newest| upstream_order(&one.offer, newest).is_eq());
        one.newest = is_upstreams && !all.iter().any(|other| own(other, &one.offer) == Ordering::Greater);
    }
    let taken = |one: &&Offered| one.offer.source.is_some() && one.offer.priority.is_none_or(|priority| priority > 0);
    let by_preference = |a: &&Offered, b: &&Offered| {
        rank(prefer, &a.offer)
            .cmp(&rank(prefer, &b.offer))
            .then_with(|| b.offer.candidate.cmp(&a.offer.candidate))
            .then_with(|| upstream_order(&b.offer, &a.offer))
    };
    let first = found.iter().filter(taken).min_by(by_preference).cloned();
    if let Some(one) = first.and_then(|first| found.iter_mut().find(|one| **one == first)) {
        one.preferred = true;
    }
}

/// Where a source stands in the order of preference.
fn rank(prefer: &[String], offer: &Offer) -> usize {
    let usual = [String::from("distribution"), String::from("sandboxed")];
    let order = if prefer.is_empty() { &usual[..] } else { prefer };
    let trust = offer.source.as_ref().and_then(|source| source.trust.as_deref());
    let name = offer.source.as_ref().map(|source| source.name.to_string()).unwrap_or_default();
    let fits = |word: &String| match word.as_str() {
        "distribution" => trust == Some("distribution"),
        "sandboxed" => SANDBOXED.contains(&offer.manager.0),
        word => offer.manager.0 == word || name == word || name.split([' ', '/']).any(|part| part == word),
    };
    order.iter().position(fits).unwrap_or(order.len())
}

/// Orders by what upstream calls its versions: an epoch and a packager's revision aside.
fn upstream_order(a: &Offer, b: &Offer) -> Ordering {
    tokens::compare(&upstream(a.manager, a.version.as_deref()), &upstream(b.manager, b.version.as_deref()))
}

/// By the manager's own rule, where both are of one manager.
fn own_order(survey: &Survey<'_>, a: &Offer, b: &Offer) -> Ordering {
    let held = survey.holdings().iter().find(|held| held.installation().manager == a.manager);
    match (held, &a.version, &b.version) {
        (Some(held), Some(x), Some(y)) if a.manager == b.manager => held.order(x, y),
        _ => Ordering::Equal,
    }
}

fn upstream(manager: ManagerId, version: Option<&[u8]>) -> Text {
    let version = version.unwrap_or_default();
    match manager.0 {
        "dpkg" | "rpm" | "pacman" => {
            let (_, version, _) = rpm::parts(version);
            // `~rc1` is before the version; `+dfsg` and `~bpo` are the packager's.
            let bare = memchr::memchr(b'+', version).map_or(version, |at| &version[..at]);
            bstr::ByteSlice::replace(bare, "~", "").into()
        }
        "apk" | "portage" => {
            let bare = memchr::memmem::rfind(version, b"-r").map_or(version, |at| &version[..at]);
            bstr::ByteSlice::replace(bare, "_", "").into()
        }
        _ => version.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Origin, Scope};

    fn offer(manager: &'static str, version: &str, trust: &str, installed: bool) -> Offer {
        let source = Origin {
            name: "Quay stable/main".into(),
            kind: "repository".to_owned(),
            url: None,
            trust: Some(trust.to_owned()),
        };
        Offer {
            manager: ManagerId(manager),
            scope: Scope::System,
            name: "ferryboard".into(),
            version: Some(version.into()),
            arch: None,
            channel: None,
            source: Some(source),
            publisher: None,
            says: None,
            size: None,
            priority: None,
            installed,
            candidate: false,
            held: false,
            catalogued_at: None,
            evidence: Vec::new(),
        }
    }

    fn judged(prefer: &[&str], offers: &[Offer]) -> (String, String) {
        let mut found: Vec<Offered> = offers
            .iter()
            .map(|offer| Offered {
                asked: "x".into(),
                offer: offer.clone(),
                stale: false,
                newest: false,
                preferred: false,
                remedies: Vec::new(),
            })
            .collect();
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
    fn the_newest_is_upstreams_and_the_first_the_persons() {
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
