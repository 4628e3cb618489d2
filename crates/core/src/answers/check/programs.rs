//! Programs that cannot start: links that lead nowhere, interpreters, bases and libraries that are gone.

use rayon::prelude::*;

use super::Look;
use crate::answers::{claims_on_last, libraries};
use crate::findings::programs::{self, Program};
use crate::formats::shebang::Shebang;
use crate::model::{Finding, FindingKind};
use crate::root::Kind;
use crate::search::libraries::Loader;
use crate::search::{End, SearchPath, Trail};
use crate::survey::Survey;
use crate::text::{Text, path};

/// `dangling-link`, `broken-interpreter`, `stale-base`, `missing-library`, for every program in a folder that any
/// context searches or that a manager fills.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let (survey, root) = (look.survey, look.survey.root());
    let folders = look.program_folders();
    let loader = Loader::of(root);
    let search = look.typed();
    let doubtful: Vec<(Trail, Vec<Finding>)> =
        folders.par_iter().flat_map_iter(|folder| doubtful_in(survey, search, &loader, folder)).collect();
    let index = survey.claims(doubtful.iter().flat_map(|(trail, _)| trail.paths()).map(|path| &**path));
    let mut found: Vec<Finding> = Vec::new();
    for (trail, missing) in doubtful {
        let claims = claims_on_last(survey, &index, &trail);
        let owner = claims.first().and_then(|claim| survey.owner(claim));
        let remedies = claims.first().map(|claim| survey.remedies(claim)).unwrap_or_default();
        let mut of_program = programs::of(root, Program { trail: &trail, owner: owner.as_ref(), remedies: &remedies });
        // What is looked up by name, and found in some context, runs there.
        of_program.retain(|one| one.kind != FindingKind::BrokenInterpreter || !is_found_somewhere(look, &trail));
        found.extend(of_program);
        found.extend(missing.into_iter().map(|mut one| {
            one.packages.extend(owner.iter().map(|owner| owner.id.clone()));
            one
        }));
    }
    found.sort_by(super::order);
    found.dedup_by(|a, b| a.kind == b.kind && a.subject == b.subject);
    found
}

/// Whether a script's interpreter is looked up by its name, and any context finds it.
fn is_found_somewhere(look: &Look<'_, '_>, trail: &Trail) -> bool {
    let Some(script) = trail.script.as_ref().filter(|script| script.interpreter.is_none()) else { return false };
    let Some(line) = Shebang::parse(&script.line) else { return false };
    let Some(name) = line.looked_up() else { return false };
    look.searches.iter().any(|search| !search.reach(look.survey.root(), name).copies.is_empty())
}

/// The programs of a folder with which something may be wrong: what each leads to, and what it lacks.
fn doubtful_in(
    survey: &Survey<'_>,
    search: &SearchPath,
    loader: &Loader<'_>,
    folder: &Text,
) -> Vec<(Trail, Vec<Finding>)> {
    let root = survey.root();
    let names = root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
    let names = names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link));
    let found = names.filter_map(|(name, _)| {
        let trail = Trail::of(root, search, &path::join(folder, &name));
        let is_script = trail.script.is_some();
        let missing = match trail.end {
            End::There(meta) if !is_script && root.can_execute(trail.last(), meta) => {
                libraries::missing(loader, trail.last(), None)
            }
            _ => Vec::new(),
        };
        (trail.end == End::Nothing || is_script || !missing.is_empty()).then_some((trail, missing))
    });
    found.collect()
}
