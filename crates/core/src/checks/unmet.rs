//! Packages whose own manager says that they depend on what is not installed.

use super::CheckContext;
use crate::backend::{Installation, Relations, Unmet};
use crate::bytes::ByteString;
use crate::model::{Cause, Finding, FindingKind, OfferQuery, Remedy, RemedyKind, Severity};
use crate::survey::Survey;

/// `unmet-requirement` by what managers record: one for each package.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let mut found = Vec::new();
    for held in cx.survey.installations() {
        let unmet = held.relations().and_then(Relations::unmet).unwrap_or_default();
        let remedy = if unmet.is_empty() { None } else { remedy(cx.survey, &**held, &unmet) };
        let of_packages = unmet.chunk_by(|one, next| one.package == next.package);
        found.extend(of_packages.map(|unmet| finding(&**held, unmet, remedy.as_ref())));
    }
    found
}

fn finding(held: &dyn Installation, unmet: &[Unmet], remedy: Option<&Remedy>) -> Finding {
    let owner = held.owner(unmet[0].package);
    let needs: Vec<&str> = unmet.iter().map(|one| &*one.says).collect();
    let (manager, name) = (owner.manager, owner.full_name());
    let summary = format!("{manager} · {name} depends on {}, which is not installed", needs.join(" and "));
    let line = held.relations().and_then(Relations::meet_needs);
    let tool = line.as_ref().and_then(|line| line.words.first());
    let refuses = tool.map(|tool| format!(", and {tool} changes nothing else before that is mended"));
    let consequence = format!("{name} may fail{}", refuses.unwrap_or_default());
    Finding {
        packages: vec![owner.id],
        causes: vec![Cause::Unmet(held.location().dir.clone())],
        remedies: remedy.into_iter().cloned().collect(),
        evidence: unmet.iter().map(|one| one.evidence.clone()).collect(),
        ..Finding::new(FindingKind::UnmetRequirement, Severity::Error, name, summary, consequence)
    }
}

/// The command that installs all that is missing in an installation; none where its catalogues do not have all of it.
fn remedy(survey: &Survey<'_>, held: &dyn Installation, unmet: &[Unmet]) -> Option<Remedy> {
    let line = held.relations()?.meet_needs()?;
    let bare = |name: &[u8]| ByteString::from(name.split(|&b| b == b':').next().unwrap_or_default());
    let names = unmet.iter().flat_map(|one| &one.any_of).map(|want| bare(&want.name)).collect();
    let offers = held.catalogue()?.offers(&OfferQuery::Names(names));
    let is_to_be_had = |one: &Unmet| {
        one.any_of.iter().any(|want| {
            let name = bare(&want.name);
            let of_name = offers.iter().filter(|offer| offer.name == name && offer.candidate && !offer.refused);
            let takes = |version: Option<&ByteString>| {
                want.takes(version.map(|version| &**version), &|a, b| held.scheme().compare(a, b))
            };
            of_name.into_iter().any(|offer| takes(offer.version.as_ref()))
        })
    };
    let remedy = Remedy::new(RemedyKind::Repair, line).to("install what is missing").online();
    unmet.iter().all(is_to_be_had).then(|| survey.remedy_within(held, remedy)).flatten()
}
