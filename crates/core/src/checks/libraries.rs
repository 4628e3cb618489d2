//! Shared libraries and manual pages.

use super::CheckContext;
use crate::model::Finding;
use crate::queries::shadows::shadows;
use crate::queries::{libraries, manuals as pages};

/// `masked-library`, in the context that is typed into.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let Some(resolved) = cx.typed_context() else { return Vec::new() };
    libraries::shadows(cx.survey, resolved, cx.typed(), &[]).findings
}

/// `mismatched-manual`, there as well.
pub fn manuals(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let Some(resolved) = cx.typed_context() else { return Vec::new() };
    let (commands, _) = shadows(cx.survey, cx.typed(), &[]);
    pages::shadows(cx.survey, resolved, cx.typed(), &commands.shadows).findings
}
