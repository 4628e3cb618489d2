//! `plan install`: what a manifest wants and the machine has not.

use std::collections::BTreeMap;

use super::build::Builder;
use super::{Foretold, Plan};
use crate::backend::Installation;
use crate::bytes::ByteString;
use crate::history::{Manifest, WantedPackage};
use crate::managers;
use crate::model::{Offer, OfferQuery, Remedy, RemedyKind};
use crate::survey::Survey;

/// The plan that brings what `wanted` has and `here` has not.
#[must_use]
pub fn install(survey: &Survey<'_>, wanted: &Manifest, here: &Manifest) -> Plan {
    let mut plan = Builder::new(survey);
    let mut foretold = Foretold::default();
    let has_source = |one: &&crate::history::WantedSource| {
        here.sources.iter().any(|other| (&other.manager, &other.name) == (&one.manager, &one.name))
    };
    for source in wanted.sources.iter().filter(|one| !has_source(one)) {
        let at = source.url.as_ref().map(|url| format!(", {url}")).unwrap_or_default();
        let says = format!(
            "{} has no source of this name ({}{at}): whether its key is to be trusted, only you know",
            source.manager, source.scope
        );
        plan.leave_open(source.name.as_str(), says);
    }
    let is_here = |one: &&WantedPackage| {
        let same = |other: &WantedPackage| {
            (&other.manager, &other.scope, &other.name) == (&one.manager, &one.scope, &one.name)
                && (one.version.is_none() || one.version == other.version)
        };
        here.packages.iter().any(same)
    };
    // What one command can bring together is brought together.
    let mut together: BTreeMap<(usize, Vec<ByteString>), (Remedy, Vec<String>)> = BTreeMap::new();
    for one in wanted.packages.iter().filter(|one| !is_here(one)) {
        match way(survey, one) {
            Ok((place, remedy)) => {
                let mut words = remedy.line.words.clone();
                let last = words.pop().unwrap_or_default();
                let (whole, names) = together.entry((place, words)).or_insert_with(|| (remedy.clone(), Vec::new()));
                if !names.is_empty() {
                    whole.line = whole.line.clone().operand(last);
                }
                names.push(one.name.clone());
                foretold.added.push(format!("{}/{}/{}", one.manager, one.scope, one.name).into());
            }
            Err(says) => plan.leave_open(format!("{} ({}, {})", one.name, one.manager, one.scope).as_str(), says),
        }
    }
    for ((place, _), (remedy, names)) in together {
        let held = &*survey.installations()[place];
        if let Some(remedy) = survey.remedy_within(held, remedy) {
            plan.add(&remedy, format!("install {}, by {}", names.join(", "), held.location().manager), &[]);
        }
    }
    for one in wanted.by_hand.iter().filter(|one| !here.by_hand.iter().any(|other| other.path == one.path)) {
        let guess = one.guess.as_ref().map(|guess| format!(" (on {}: {guess})", host(wanted))).unwrap_or_default();
        plan.leave_open(one.path.as_str(), format!("no manager brings it{guess}"));
    }
    let goal = match plan.is_empty() {
        true => format!("install what {} has: no command does", host(wanted)),
        false => format!("install what {} has", host(wanted)),
    };
    plan.finish(goal, foretold)
}

fn host(manifest: &Manifest) -> String {
    manifest.host.clone().unwrap_or_else(|| "the manifest".to_owned())
}

/// The command that brings a package, and the place of the installation that takes it; or why there is none.
fn way(survey: &Survey<'_>, one: &WantedPackage) -> Result<(usize, Remedy), String> {
    let manager = managers::named(one.manager.as_bytes())
        .ok_or_else(|| format!("this version reads no manager {}", one.manager))?;
    let of_manager =
        |held: &dyn Installation| held.location().manager == manager && held.location().scope.to_data() == one.scope;
    let mut places = survey.installations().iter().enumerate().filter(|(_, held)| of_manager(&***held)).peekable();
    if places.peek().is_none() {
        return Err(format!("{manager} has no installation of {} here", one.scope));
    }
    let query = OfferQuery::Names(vec![one.name.to_ascii_lowercase().as_str().into()]);
    let mut why = format!("no catalogue of {manager} on this machine has it");
    for (place, held) in places {
        let Some(catalogue) = held.catalogue() else { continue };
        let offers = catalogue.offers(&query);
        let named: Vec<&Offer> = offers
            .iter()
            .filter(|offer| *offer.name == *one.name.as_bytes() && offer.listed_in().is_some() && offer.is_allowed())
            .collect();
        let fits = |offer: &&&Offer| {
            let is_source = |source: &String| offer.source.as_ref().is_some_and(|of| *of.name == *source.as_bytes());
            let is_version = |version: &String| offer.version.as_ref().is_some_and(|of| **of == *version.as_bytes());
            let is_channel = |channel: &String| offer.channel.as_ref().is_none_or(|of| **of == *channel.as_bytes());
            one.version.as_ref().is_none_or(is_version)
                && one.channel.as_ref().is_none_or(is_channel)
                && (one.version.is_some() || offer.candidate)
                && one.source.as_ref().is_none_or(is_source)
        };
        let from_elsewhere = || named.iter().find(|offer| offer.candidate && one.version.is_none());
        let line = named.iter().find(fits).or_else(from_elsewhere).and_then(|offer| catalogue.install_command(offer));
        match line {
            Some(line) => return Ok((place, Remedy::new(RemedyKind::Install, line))),
            None if !named.is_empty() => {
                let version = one.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
                why = format!("{manager}'s sources do not offer it{version}");
            }
            None => {}
        }
    }
    Err(why)
}
