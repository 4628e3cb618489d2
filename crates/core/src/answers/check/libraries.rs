//! Shared libraries and manual pages.

use super::Look;
use crate::answers::shadows::shadows;
use crate::answers::{libraries, manuals as pages};
use crate::model::Finding;

/// `masked-library`, in the context that is typed into.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let Some(situation) = look.typed_situation() else { return Vec::new() };
    libraries::shadows(look.survey, situation, look.typed(), &[]).findings
}

/// `mismatched-manual`, there as well.
pub fn manuals(look: &Look<'_, '_>) -> Vec<Finding> {
    let Some(situation) = look.typed_situation() else { return Vec::new() };
    let (commands, _) = shadows(look.survey, look.typed(), &[]);
    pages::shadows(look.survey, situation, look.typed(), &commands.shadows).findings
}
