//! Interpreters that a distribution keeps for itself, and packages that were put into them all the same.

use super::CheckContext;
use crate::backend::{Bypass, Environments, Installation};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::model::{Evidence, Finding, FindingKind, Remedy, RemedyKind, Severity};
use crate::queries::take_out::{is_among_distributions, take_out};
use crate::survey::Survey;

/// `bypassed-protection`: one for each directory that was filled past a marker, and one for each marker that was taken
/// away.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let mut found = past_marker(cx);
    found.extend(without_marker(cx));
    found
}

/// The marker of a language's environment that another manager keeps (Python Packaging User Guide, "Externally
/// Managed Environments").
const MARKER: &[u8] = b"EXTERNALLY-MANAGED";

fn past_marker(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let survey = cx.survey;
    let mut found = Vec::new();
    for (holder, held) in (0..).zip(survey.installations()) {
        let bypasses = held.environments().map(Environments::bypasses).unwrap_or_default();
        for Bypass { dir: location, marker, packages } in bypasses {
            let own: Vec<u32> = packages.into_iter().filter(|number| !survey.is_foreign(holder, *number)).collect();
            let Some(first) = own.first() else { continue };
            let owners: Vec<_> = own.iter().map(|number| held.owner(*number)).collect();
            let names: Vec<String> = owners.iter().take(3).map(|owner| owner.name.to_string()).collect();
            let more = if owners.len() > 3 { format!(" and {} more", owners.len() - 3) } else { String::new() };
            let summary = format!("{}{more} was installed into {location}, past {}", names.join(", "), marker.file);
            let consequence = "every program of that interpreter, including the distribution's own, imports these modules first; system upgrades do not update them";
            let away = match is_among_distributions(&**held, *first) {
                true => take_out(survey, &**held, &own),
                false => together(survey, &**held, &own),
            };
            let away = away.map(|way| way.to("remove what was installed past the marker"));
            found.push(Finding {
                packages: owners.iter().map(|owner| owner.id.clone()).collect(),
                paths: vec![location.clone(), marker.file.clone()],
                remedies: away.into_iter().collect(),
                evidence: vec![marker],
                ..Finding::new(
                    FindingKind::BypassedProtection,
                    Severity::Warning,
                    owners[0].name.clone(),
                    summary,
                    consequence,
                )
            });
        }
    }
    found
}

/// One command that removes all of these: the finding goes with the last of them.
fn together(survey: &Survey<'_>, held: &dyn Installation, own: &[u32]) -> Option<Remedy> {
    let ways = survey.remedies_within(held, *own.first()?);
    let mut way = ways.into_iter().find(|way| way.kind == RemedyKind::Remove)?;
    way.line.words.extend(own[1..].iter().map(|number| held.owner(*number).name));
    let loses = own.iter().map(|number| held.owner(*number).full_name().to_string()).collect();
    Some(Remedy { loses, ..survey.typed(way) })
}

/// A marker that a package brings and that is not there any more: somebody wanted to be rid of it.
fn without_marker(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let names = root.names_in(b"/usr/lib");
    let libraries = names.iter().filter(|(name, kind)| *kind == Kind::Dir && name.starts_with(b"python3."));
    let markers: Vec<ByteString> = libraries
        .map(|(name, _)| root.canonicalize(&path::join(&path::join(b"/usr/lib", name), MARKER)))
        .filter(|marker| root.entry(marker).is_err_and(|error| error.is_missing()))
        .collect();
    if markers.is_empty() {
        return Vec::new();
    }
    let index = survey.claims(markers.iter().map(|marker| &**marker));
    let found = markers.into_iter().filter_map(|marker| {
        let packages = survey.ownership(&index, &marker).packages;
        let claim = packages.first()?;
        let owner = survey.owner(claim)?;
        let summary = format!("{marker} of {} · {} was deleted", owner.manager, owner.full_name());
        let consequence =
            "pip installs into the system's interpreter without a warning, and over the distribution's files";
        let restore = survey.restore(claim);
        let mut evidence = survey.claim_evidence(claim);
        evidence.push(Evidence::at(marker.clone(), "lookup", "recorded, but does not exist"));
        Some(Finding {
            packages: vec![owner.id.clone()],
            paths: vec![marker.clone()],
            remedies: restore.into_iter().map(|way| way.to("restore it")).collect(),
            evidence,
            ..Finding::new(FindingKind::BypassedProtection, Severity::Warning, owner.name, summary, consequence)
        })
    });
    found.collect()
}
