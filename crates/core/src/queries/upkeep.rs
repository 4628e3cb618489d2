//! Who keeps each package current, and what is behind today.

use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;

use super::keeping::{Behind, Keeping, Kept, is_current};
use super::offers::{Question, offers};
use crate::backend::Detail;
use crate::bytes::ByteString;
use crate::model::{ManagerId, Scope};
use crate::survey::Survey;

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Upkept {
    /// The packages, those of one installation together.
    pub upkeep: Vec<Kept>,
}

/// Who keeps the packages current that are installed, or of these the ones with these names or ids.
#[must_use]
pub fn upkeep(survey: &Survey<'_>, names: &[ByteString], now: Option<i64>) -> Upkept {
    let keeping = Keeping::of_all(survey);
    let behind = behind(survey, now);
    let wanted: HashSet<(u16, u32)> = names.iter().flat_map(|name| survey.by_name_or_id(name)).collect();
    let mut upkeep = Vec::new();
    for (holder, held) in (0..).zip(survey.installations()) {
        let detail = Detail { evidence: true, origins: true, ..Default::default() };
        if !names.is_empty() && !wanted.iter().any(|(of, _)| *of == holder) {
            continue;
        }
        for (number, package) in held.numbered(detail) {
            let is_wanted = names.is_empty() || wanted.contains(&(holder, number));
            if !is_wanted || !is_current(&package) || survey.is_foreign(holder, number) {
                continue;
            }
            let mut kept = keeping.of_package(&**held, number, &package);
            kept.behind = behind.get(&(package.manager, package.scope.clone(), package.name.clone())).cloned();
            upkeep.push(kept);
        }
    }
    Upkept { upkeep }
}

/// The newer version of each package that has one.
pub(super) fn behind(survey: &Survey<'_>, now: Option<i64>) -> HashMap<(ManagerId, Scope, ByteString), Behind> {
    let newer = offers(survey, &Question { now, ..Question::default() });
    let mut found = HashMap::new();
    for one in newer.offers.into_iter().filter(|one| !one.offer.installed) {
        let key = (one.offer.manager, one.offer.scope, one.offer.name);
        // The newest comes first; what the manager would take counts before it.
        let is_first = !found.contains_key(&key);
        if is_first || one.offer.candidate {
            let source = one.offer.source.map(|source| source.name);
            found.insert(key, Behind { version: one.offer.version, source });
        }
    }
    found
}
