//! Modules of languages.

use super::Look;
use crate::answers::modules;
use crate::model::Finding;
use crate::search::Situation;

/// `masked-module`, for everyone in the context that is typed into.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let search = look.typed();
    let of_context = look.situations.iter().filter(|one| one.context == search.context);
    let situations: Vec<Situation> = of_context.cloned().collect();
    modules::shadows(look.survey, &situations, search, &[]).findings
}
