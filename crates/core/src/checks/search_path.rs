//! The directories of search paths.

use super::CheckContext;
use crate::findings::search_path;
use crate::model::{Finding, FindingKind, Severity};
use crate::queries::session::{SessionDifference, difference};
use crate::resolve::Context;
use crate::resolve::contexts::{Overrides, resolve_context};

/// `missing-directory`, `duplicate-directory`, `relative-directory`, `writable-directory`, `uncertain-path` and
/// `stale-session`.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let mut found = search_path::findings(cx.survey.host, cx.resolved);
    found.extend(stale_session(cx));
    found
}

/// What a new session of the user who asks would search, and this one does not.
fn stale_session(cx: &CheckContext<'_, '_>) -> Option<Finding> {
    let host = cx.survey.host;
    let user = host.users.iter().find(|user| host.asks(user))?;
    let here = resolve_context(host, Context::Here, user, &Overrides::default());
    let SessionDifference { after_login, .. } = difference(host, &here, "PATH")?;
    let first = after_login.first()?;
    let more = if after_login.len() > 1 { format!(" and {} more", after_login.len() - 1) } else { String::new() };
    let summary = format!("this session does not search {}{more}, which a new one would search", first.directory);
    let consequence = "programs there are not found, or another copy is started, until the next login";
    Some(Finding {
        users: vec![user.name.clone()],
        paths: after_login.iter().map(|newer| newer.directory.clone()).collect(),
        evidence: after_login.iter().map(|newer| newer.because.clone()).collect(),
        ..Finding::new(FindingKind::StaleSession, Severity::Note, "PATH", summary, consequence)
    })
}
