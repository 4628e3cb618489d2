//! The folders of search paths.

use super::Look;
use crate::findings::folders;
use crate::model::Finding;

/// `missing-folder`, `duplicate-folder`, `relative-folder`, `writable-folder`, `uncertain-path`.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    folders::findings(look.survey.scene, look.situations)
}
