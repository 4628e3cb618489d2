//! What no source upgrades.

use super::CheckContext;
use crate::bytes::ByteString;
use crate::findings::held;
use crate::model::Finding;
use crate::queries::offers::{Question, offers};

/// `no-origin`, and `held-back` where anything is held.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let packages = cx.survey.recorded();
    let mut found = held::without_origin(packages);
    let names: Vec<ByteString> =
        packages.iter().filter(|package| package.held).map(|package| package.name.clone()).collect();
    if !names.is_empty() {
        let question = Question { names, ..Question::default() };
        found.extend(offers(cx.survey, &question).findings);
    }
    found
}
