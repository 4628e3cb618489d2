//! What the managers answer, before it is compared.

use std::cmp::Ordering;

use hashbrown::HashMap;
use rayon::prelude::*;

use super::{Offered, Question};
use crate::bytes::ByteString;
use crate::model::{Offer, OfferQuery, Remedy, RemedyKind, Search, SearchScope, Status, is_shown_as};
use crate::survey::Survey;

/// The offers of all managers, in no order.
pub(super) fn gathered(survey: &Survey<'_>, question: &Question) -> Vec<Offered> {
    let newer_only = question.names.is_empty();
    let asked = match newer_only {
        true => OfferQuery::Installed,
        false => OfferQuery::Names(question.names.iter().map(|name| name.to_ascii_lowercase().into()).collect()),
    };
    let mut found = matching(survey, &asked, newer_only, &|offer| answered(&question.names, offer));
    found.extend(elsewhere(survey, &question.names, &found));
    // What is no package's name can be a command's.
    let is_found = |name: &ByteString| found.iter().any(|one| one.asked == *name);
    let others: Vec<ByteString> = question.names.iter().filter(|name| !is_found(name)).cloned().collect();
    for name in others {
        let search = Search::new(std::slice::from_ref(&name), &[], SearchScope::Commands);
        found.extend(matching(survey, &OfferQuery::Search(search), false, &|_| name.clone()));
    }
    found
}

/// Which of the names that were asked for an offer answers: by its own name, by a part of that, by the name that is
/// shown, by a command; its own where none was asked for.
fn answered(names: &[ByteString], offer: &Offer) -> ByteString {
    let loosely = |name: &&ByteString| OfferQuery::Names(vec![(*name).clone()]).has(&offer.name);
    let is_shown = |name: &&ByteString| offer.display_name.as_ref().is_some_and(|shown| is_shown_as(name, shown));
    let all = || names.iter();
    let found = all()
        .find(|name| **name == offer.name)
        .or_else(|| all().find(loosely))
        .or_else(|| all().find(is_shown))
        .or_else(|| all().find(|name| offer.keywords.iter().any(|id| id.eq_ignore_ascii_case(name))))
        .or_else(|| all().find(|name| offer.provides.contains(name)));
    found.or(names.first()).unwrap_or(&offer.name).clone()
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
            offers = newer(&offers, &|a, b| held.scheme().compare(a, b));
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

#[cfg(test)]
mod tests {
    use super::super::tests::offer;
    use super::*;
    use crate::version::tokens;

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
