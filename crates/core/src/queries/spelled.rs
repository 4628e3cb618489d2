//! Packages, spelled in any of the ways in which `owner` takes a target.

use super::owner::{Target, TargetKind, owners_in};
use crate::bytes::ByteString;
use crate::resolve::SearchPath;
use crate::survey::Survey;

/// The packages (holder and number) that a user means: by name, by id, or by what they own: a command, a file, a
/// launcher, a library, a module. The one that runs under that name comes first.
#[must_use]
pub fn packages(survey: &Survey<'_>, searches: &[&SearchPath], word: &[u8]) -> Vec<(u16, u32)> {
    let Ok(target) = Target::parse(word) else { return Vec::new() };
    let is_name = target.kind.is_none_or(|kind| kind == TargetKind::Package) || !word.starts_with(b"/");
    let mut found = match target.kind {
        None | Some(TargetKind::Package) => survey.by_name_or_id(&target.name),
        Some(TargetKind::Path) if is_name => survey.by_name_or_id(&target.name),
        Some(_) => Vec::new(),
    };
    found.dedup();
    if found.len() == 1 {
        return found;
    }
    let target = match target.kind {
        Some(TargetKind::Package) => Target { kind: Some(TargetKind::Command), ..target },
        _ => target,
    };
    let answers = owners_in(survey, searches, std::slice::from_ref(&target)).answers;
    let runs = answers.into_iter().find_map(|answer| answer.owner).map(|owner| owner.id);
    match (runs, found.is_empty()) {
        (Some(id), true) => survey.by_name_or_id(&id),
        (Some(id), false) => {
            let is_it = |one: &(u16, u32)| survey.installations()[usize::from(one.0)].owner(one.1).id == id;
            found.sort_by_key(|one| !is_it(one));
            found
        }
        (None, _) => found,
    }
}

/// The name of a package that a user means, where it is not spelled as a name.
#[must_use]
pub fn name(survey: &Survey<'_>, searches: &[&SearchPath], word: &[u8]) -> ByteString {
    let is_plain = Target::parse(word).is_ok_and(|target| target.kind.is_none());
    let first = if is_plain { None } else { packages(survey, searches, word).into_iter().next() };
    first.map_or_else(|| word.into(), |(holder, number)| survey.installations()[usize::from(holder)].owner(number).name)
}
