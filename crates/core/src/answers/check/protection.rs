//! Interpreters that a distribution keeps for itself, and packages that were put into them all the same.

use super::Look;
use crate::answers::removing;
use crate::model::{Evidence, Finding, FindingKind, Remedy, Severity};
use crate::root::Kind;
use crate::text::{Text, path};

/// `bypassed-protection`: one for each folder that was filled past a marker, and one for each marker that was taken away.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let mut found = past_marker(look);
    found.extend(without_marker(look));
    found
}

/// The marker of a language's environment that another manager keeps (Python Packaging User Guide, "Externally
/// Managed Environments").
const MARKER: &[u8] = b"EXTERNALLY-MANAGED";

fn past_marker(look: &Look<'_, '_>) -> Vec<Finding> {
    let survey = look.survey;
    let mut found = Vec::new();
    for (holder, held) in (0..).zip(survey.holdings()) {
        for (location, marker, packages) in held.bypasses() {
            let own: Vec<u32> = packages.into_iter().filter(|number| !survey.is_yielded(holder, *number)).collect();
            let Some(first) = own.first() else { continue };
            let owners: Vec<_> = own.iter().map(|number| held.owner(*number)).collect();
            let names: Vec<String> = owners.iter().take(3).map(|owner| owner.name.to_string()).collect();
            let more = if owners.len() > 3 { format!(" and {} more", owners.len() - 3) } else { String::new() };
            let summary = format!("{}{more} was installed into {location}, past {}", names.join(", "), marker.file);
            let consequence = "these modules come before the distribution's own for every program of that interpreter, \
                               those of the distribution among them; no upgrade of the system knows of them";
            let apart: Vec<Remedy> = owners
                .iter()
                .filter(|_| survey.root().target(b"/usr/bin/pipx").is_ok())
                .map(|owner| Remedy {
                    purpose: "have it apart".to_owned(),
                    command: format!("pipx install {}", owner.name),
                })
                .take(1)
                .collect();
            let away = removing(held.remedies(*first), "take it away".to_owned());
            found.push(Finding {
                packages: owners.iter().map(|owner| owner.id.clone()).collect(),
                paths: vec![location.clone(), marker.file.clone()],
                remedies: apart.into_iter().chain(away).collect(),
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

/// A marker that a package brings and that is not there any more: somebody wanted to be rid of it.
fn without_marker(look: &Look<'_, '_>) -> Vec<Finding> {
    let (survey, root) = (look.survey, look.survey.root());
    let names = root.folder(b"/usr/lib").and_then(|folder| folder.list()).unwrap_or_default();
    let libraries = names.iter().filter(|(name, kind)| *kind == Kind::Folder && name.starts_with(b"python3."));
    let markers: Vec<Text> = libraries
        .map(|(name, _)| root.settle(&path::join(&path::join(b"/usr/lib", name), MARKER)))
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
        let summary = format!("{marker} of {} · {} was taken away", owner.manager, owner.full_name());
        let consequence =
            "pip installs into the system's own interpreter unasked, and over what the distribution put there";
        let restore = survey.restore(claim);
        let mut evidence = survey.claim_evidence(claim);
        evidence.push(Evidence::at(marker.clone(), "look-up", "recorded, but not there"));
        Some(Finding {
            packages: vec![owner.id.clone()],
            paths: vec![marker.clone()],
            remedies: restore.into_iter().map(|way| Remedy { purpose: "put it back".to_owned(), ..way }).collect(),
            evidence,
            ..Finding::new(FindingKind::BypassedProtection, Severity::Warning, owner.name, summary, consequence)
        })
    });
    found.collect()
}
