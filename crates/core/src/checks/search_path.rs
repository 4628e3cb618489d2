//! The directories of search paths.

use super::CheckContext;
use crate::findings::search_path;
use crate::model::Finding;

/// `missing-dir`, `duplicate-dir`, `relative-dir`, `writable-dir`, `uncertain-path`.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    search_path::findings(cx.survey.host, cx.resolved)
}
