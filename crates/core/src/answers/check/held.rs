//! What no source upgrades.

use super::Look;
use crate::findings::held;
use crate::managers::Detail;
use crate::model::Finding;

/// `no-origin`.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let detail = Detail { origins: true, evidence: true, ..Detail::default() };
    held::without_origin(&look.survey.packages(detail))
}
