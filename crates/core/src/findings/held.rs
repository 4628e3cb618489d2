//! Packages that are held back while something newer is offered, and packages that no source has.

use hashbrown::HashSet;

use crate::bytes::ByteString;
use crate::managers;
use crate::model::{Finding, FindingKind, ManagerId, Offer, Package, Remedy, Severity, Status, package_id};

/// `held-back`: one for each package that is held while its manager could have a newer version. The offers of one
/// package come together, the newest first.
#[must_use]
pub fn findings(offers: &[&Offer], release: &dyn Fn(&Offer) -> Option<Remedy>) -> Vec<Finding> {
    let mut found: Vec<Finding> = Vec::new();
    for now in offers.iter().filter(|offer| offer.installed && offer.held) {
        let of_it =
            |offer: &&&Offer| offer.manager == now.manager && offer.name == now.name && offer.scope == now.scope;
        let mut newer = offers.iter().filter(of_it).take_while(|offer| !offer.installed);
        let (Some(newer), Some(version)) = (newer.find(|offer| offer.source.is_some()), &now.version) else { continue };
        let offered = newer.version.clone().unwrap_or_default();
        if found.iter().any(|other| other.subject == now.name) {
            continue;
        }
        let summary = format!("{} is held at {version}, but {offered} is available", now.name);
        let consequence = "it gets no upgrades, including security fixes, until the hold is removed";
        found.push(Finding {
            packages: vec![package_id(now.manager, &now.scope, &now.name)],
            remedies: release(now).into_iter().collect(),
            evidence: now.evidence.iter().chain(&newer.evidence).cloned().collect(),
            ..Finding::new(FindingKind::HeldBack, Severity::Note, now.name.clone(), summary, consequence)
        });
    }
    found
}

/// `no-origin`: packages of a manager whose sources are known, of which no source has this one.
#[must_use]
pub fn without_origin(packages: &[Package]) -> Vec<Finding> {
    let is_offered = |package: &&Package| package.origin.as_ref().is_some_and(|origin| origin.kind == "repository");
    let with_sources: HashSet<(ManagerId, &ByteString)> =
        packages.iter().filter(is_offered).map(|package| (package.manager, &package.location)).collect();
    let knows = |package: &Package| with_sources.contains(&(package.manager, &package.location));
    let lost = packages.iter().filter(|package| {
        let is_there = package.status != Status::ConfigRemains;
        managers::profile(package.manager).has_full_catalogues && package.origin.is_none() && is_there && knows(package)
    });
    lost.map(|package| {
        let version = package.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        let summary = format!("no configured source offers {}{version}", package.full_name());
        let consequence = "it was installed from a file, its source was removed, or its source no longer offers this version; it gets no upgrades unless a source offers a newer one";
        Finding {
            packages: vec![package.id.clone()],
            evidence: package.evidence.clone(),
            ..Finding::new(FindingKind::NoOrigin, Severity::Note, package.name.clone(), summary, consequence)
        }
    })
    .collect()
}
