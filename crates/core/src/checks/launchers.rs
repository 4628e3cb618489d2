//! Launchers.

use super::CheckContext;
use crate::model::{Finding, FindingKind};
use crate::queries::launchers::{DesktopSession, launchers};
use crate::queries::removing;
use crate::resolve::Context;
use crate::resolve::launchers::data_dirs;

/// Findings about launchers: hidden, broken, or starting something else.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let dirs = data_dirs(cx.survey.host, None);
    let of_desktop = cx.searches.iter().find(|search| search.context == Context::Desktop);
    let search = of_desktop.unwrap_or(cx.typed());
    let session = DesktopSession { dirs: &dirs, desktops: &[], search };
    let found = launchers(cx.survey, session, &[]).launchers.into_iter().flat_map(|one| {
        let owner = one.owner;
        one.findings.into_iter().map(move |finding| (owner.clone(), finding))
    });
    let with_ways = found.map(|(owner, mut finding)| {
        if let (Some(owner), FindingKind::DuplicateLauncher) = (&owner, finding.kind) {
            let ways = cx.survey.remedies_of(owner);
            finding.remedies.extend(removing(ways, format!("take {}'s away", owner.manager)));
        }
        finding
    });
    with_ways.collect()
}
