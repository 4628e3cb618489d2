//! What no source upgrades.

use super::Look;
use crate::answers::offers::{Question, offers};
use crate::findings::held;
use crate::managers::Detail;
use crate::model::Finding;
use crate::text::Text;

/// `no-origin`, and `held-back` where anything is held.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let detail = Detail { origins: true, evidence: true, ..Detail::default() };
    let packages = look.survey.packages(detail);
    let mut found = held::without_origin(&packages);
    let names: Vec<Text> = packages.iter().filter(|package| package.held).map(|package| package.name.clone()).collect();
    if !names.is_empty() {
        let question = Question { names, ..Question::default() };
        found.extend(offers(look.survey, &question).findings);
    }
    found
}
