//! Modules of languages.

use super::CheckContext;
use crate::model::Finding;
use crate::queries::modules;
use crate::resolve::ResolvedContext;

/// `masked-module`, for every user in the context that is typed into.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let search = cx.typed();
    let is_users = |one: &&ResolvedContext| cx.user().is_none_or(|user| user.name == one.user.name);
    let of_context = cx.resolved.iter().filter(|one| one.context == search.context).filter(is_users);
    let resolved: Vec<ResolvedContext> = of_context.cloned().collect();
    modules::shadows(cx.survey, &resolved, search, &[]).findings
}
