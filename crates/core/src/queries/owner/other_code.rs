//! Programs that run with the code of another installation, though they are their owner's file.

use super::{Answer, MAX_LOADED, TargetKind};
use crate::queries::{UserView, modules};
use crate::resolve::ResolvedContext;
use crate::survey::Survey;

/// Adds `runs-other-code` to the answers about programs of Python, for the users and in the context of each answer.
///
/// Where many targets are asked about at once, it is not looked for.
pub fn tell_other_code(survey: &Survey<'_>, views: &[UserView], answers: &mut [Answer]) {
    if answers.len() > MAX_LOADED {
        return;
    }
    let is_program = |answer: &&mut Answer| {
        matches!(answer.kind, TargetKind::Command | TargetKind::Path) && answer.runs.is_some() && answer.owner.is_some()
    };
    for answer in answers.iter_mut().filter(is_program) {
        let Some(program) = answer.hops.last().map(|hop| hop.path.clone()) else { continue };
        let is_theirs = |view: &&UserView| {
            let user = view.user.as_ref();
            answer.users.is_empty() || user.is_none_or(|user| answer.users.contains(&user.name))
        };
        // What a search path that was given starts, it starts in the session of the user who is looked at.
        let is_there = |view: &UserView, one: &ResolvedContext| view.user.is_none() || one.context == answer.context;
        let theirs = views.iter().filter(is_theirs);
        let resolved: Vec<&ResolvedContext> =
            theirs.flat_map(|view| view.usual.iter().filter(|one| is_there(view, one))).collect();
        answer.findings.extend(modules::other_code(survey, resolved, &program));
    }
}
