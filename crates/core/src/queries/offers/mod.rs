//! Which sources have it, at which version: from what the managers last fetched.

mod availability;
mod gather;
mod suggestion;
pub(crate) mod titles;

use std::cmp::Ordering;

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use super::keeping::{Keeping, UpkeepMode};
use crate::bytes::ByteString;
use crate::findings::held;
use crate::managers;
use crate::model::{Finding, ManagerId, Offer, PullsIn, Remedy, RemedyKind};
use crate::survey::Survey;
use crate::version::upstream;

pub use availability::Availability;
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

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Offers {
    /// The offers by name, newest first.
    pub offers: Vec<Offered>,
    /// The pieces of software that they are of. Several can have one name.
    pub titles: Vec<OfferedTitle>,
    /// Which managers were asked, name by name.
    pub asked: Vec<Availability>,
    /// Findings about it.
    pub findings: Vec<Finding>,
}

/// A catalogue that is older is said to be stale: seconds.
const A_MONTH: i64 = 31 * 86_400;

/// Asks every manager.
#[must_use]
pub fn offers(survey: &Survey<'_>, question: &Question) -> Offers {
    let newer_only = question.names.is_empty();
    let mut found = gather::gathered(survey, question);
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
        // Of more names than these, what comes along is not worked out.
        const MAX_COSTED: usize = 20;
        if question.names.len() <= MAX_COSTED {
            add_costs(survey, &mut found);
        }
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
    let availability = |name: &ByteString| {
        let of_name = found.iter().filter(|one| one.asked == *name).map(|one| &one.offer);
        availability::of(survey, name, &of_name.collect::<Vec<_>>())
    };
    let asked = question.names.iter().map(availability).collect();
    Offers { offers: found, titles, asked, findings }
}

/// Adds what each offer would bring along, and who would keep it current.
fn add_costs(survey: &Survey<'_>, found: &mut [Offered]) {
    let names: Vec<ByteString> = found.iter().map(|one| one.offer.name.clone()).collect();
    let managers: Vec<ManagerId> = found.iter().map(|one| one.offer.manager).collect();
    let keeping = Keeping::of(survey, &managers, &names);
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
            let source: Vec<ByteString> = offer.source.iter().map(|source| source.name.clone()).collect();
            let automatic = keeping.automatic(&**held, &offer.name, &offer.scope, &source);
            one.upkeep = Some(match automatic {
                Some(automatic) => {
                    OfferUpkeep { mode: UpkeepMode::Automatic, by: Some(automatic.by), schedule: automatic.schedule }
                }
                None => OfferUpkeep { mode: UpkeepMode::Command, by: None, schedule: None },
            });
        }
    }
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
    let part = |one: &Offer| managers::upstream_part(one.manager, one.version.as_ref());
    upstream::compare(&part(a), &part(b))
}

/// By the manager's own rule, where both are of one manager.
fn own_order(survey: &Survey<'_>, a: &Offer, b: &Offer) -> Ordering {
    let held = survey.installations().iter().find(|held| held.location().manager == a.manager);
    match (held, &a.version, &b.version) {
        (Some(held), Some(x), Some(y)) if a.manager == b.manager => held.scheme().compare(x, y),
        _ => Ordering::Equal,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{ManagerId, Origin, Scope};
    use crate::version::rpm;

    pub(super) fn offer(manager: &'static str, version: &str, trust: &str, installed: bool) -> Offer {
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
}
