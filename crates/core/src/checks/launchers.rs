//! Launchers.

use super::CheckContext;
use crate::model::{Finding, FindingKind};
use crate::queries::advice;
use crate::queries::launchers::{DesktopSession, launchers};
use crate::resolve::Context;
use crate::resolve::launchers::data_dirs_of;

/// Findings about launchers: hidden, broken, or starting something else.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let dirs = data_dirs_of(cx.survey.host, None, cx.user());
    let of_desktop = cx.searches().iter().find(|search| search.context == Context::Desktop);
    let search = of_desktop.unwrap_or(cx.typed());
    let session = DesktopSession { dirs: &dirs, desktops: &[], search, user: cx.user() };
    let all = launchers(cx.survey, session, &[]).launchers;
    // Entries of one name of which one starts the distribution's program: that one stays.
    let kept: Vec<Option<String>> = all
        .iter()
        .filter(|one| one.shown && one.owner.iter().chain(&one.starts.owner).any(advice::is_systems))
        .map(|one| one.name.clone())
        .collect();
    let found = all.into_iter().flat_map(|one| {
        let (owner, name) = (one.owner, one.name);
        let is_kept = name.is_some() && kept.contains(&name);
        one.findings.into_iter().map(move |finding| (owner.clone().filter(|_| is_kept), finding))
    });
    let with_ways = found.map(|(owner, mut finding)| {
        if let (Some(owner), FindingKind::DuplicateLauncher) = (&owner, finding.kind) {
            let because = "the program of the other entry is upgraded with the system";
            finding.remedies.extend(advice::remove(cx.survey, owner, &format!("remove {}'s", owner.manager), because));
        }
        finding
    });
    with_ways.collect()
}
