//! Launchers.

use super::Look;
use crate::answers::launchers::{Session, launchers};
use crate::answers::removing;
use crate::model::{Finding, FindingKind};
use crate::search::Context;
use crate::search::launchers::data_folders;

/// What the menu shows of the launchers, and what it cannot.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let folders = data_folders(look.survey.scene, None);
    let of_desktop = look.searches.iter().find(|search| search.context == Context::Desktop);
    let search = of_desktop.unwrap_or(look.typed());
    let session = Session { folders: &folders, desktops: &[], search };
    let found = launchers(look.survey, session, &[]).launchers.into_iter().flat_map(|one| {
        let owner = one.owner;
        one.findings.into_iter().map(move |finding| (owner.clone(), finding))
    });
    let with_ways = found.map(|(owner, mut finding)| {
        if let (Some(owner), FindingKind::DuplicateLauncher) = (&owner, finding.kind) {
            let ways = look.survey.remedies_of(owner);
            finding.remedies.extend(removing(ways, format!("take {}'s away", owner.manager)));
        }
        finding
    });
    with_ways.collect()
}
