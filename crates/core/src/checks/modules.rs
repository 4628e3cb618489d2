//! Modules of languages.

use super::CheckContext;
use crate::model::Finding;
use crate::queries::modules;
use crate::resolve::ResolvedContext;

/// `masked-module`, for every user in the context that is typed into.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let search = cx.typed();
    let resolved: Vec<ResolvedContext> = match cx.user() {
        Some(user) => {
            let own = cx.views[cx.view].usual.iter();
            own.filter(|one| one.context == search.context && one.user.name == user.name).cloned().collect()
        }
        None => cx.resolved.iter().filter(|one| one.context == search.context).cloned().collect(),
    };
    modules::shadows(cx.survey, &resolved, search, &[]).findings
}
