//! What a name would start if a command that nobody ran ended in another way.

use super::{Answer, PossibleWinner};
use crate::resolve::SearchPath;
use crate::survey::Survey;

/// The programs that may win instead of the one that does.
pub(super) fn winners(survey: &Survey<'_>, search: &SearchPath, answer: &Answer) -> Vec<PossibleWinner> {
    let mut found: Vec<PossibleWinner> = Vec::new();
    if search.possible.is_empty() {
        return found;
    }
    // The winner's own place: what may come behind it changes nothing.
    let reached = search.reach(survey.root(), &answer.target).copies;
    let winner = reached.first();
    for possible in &search.possible {
        if winner.is_some_and(|copy| search.entries[copy.entry].number <= possible.before) {
            continue;
        }
        for dirs in &possible.ways {
            let Some(path) = search.first_in(survey.host, dirs, &answer.target) else { continue };
            if winner.is_none_or(|copy| copy.path != path) && found.iter().all(|one| one.path != path) {
                let id = survey.ownership_of(&path).map(|owner| owner.id);
                found.push(PossibleWinner { path, id, because: possible.because.clone() });
            }
        }
    }
    found
}
