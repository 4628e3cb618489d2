//! Programs that cannot start: links that lead nowhere, interpreters, bases and libraries that are gone.

use rayon::prelude::*;

use super::CheckContext;
use crate::bytes::{ByteString, path};
use crate::findings::programs::{self, Program};
use crate::fs::Kind;
use crate::model::{Finding, FindingKind, Severity};
use crate::queries::{advice, claims_on_last, libraries};
use crate::resolve::libraries::Loader;
use crate::resolve::{End, Resolution, SearchPath};
use crate::survey::Survey;
use whodunit_formats::shebang::Shebang;

/// `dangling-link`, `broken-interpreter`, `stale-base`, `missing-library`, for every program in a directory that any
/// context searches or that a manager fills.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let survey = cx.survey;
    let dirs = cx.program_dirs();
    let loader = Loader::of(survey.root());
    let search = cx.typed();
    let doubtful: Vec<(Resolution, Vec<Finding>)> =
        dirs.par_iter().flat_map_iter(|dir| doubtful_in(survey, search, &loader, dir)).collect();
    let index = survey.claims(doubtful.iter().flat_map(|(resolution, _)| resolution.paths()).map(|path| &**path));
    let mut found: Vec<Finding> = Vec::new();
    for (resolution, missing) in doubtful {
        let claims = claims_on_last(survey, &index, &resolution);
        let owner = claims.first().and_then(|claim| survey.owner(claim));
        let remedies = claims.first().map(|claim| survey.remedies(claim)).unwrap_or_default();
        let mut of_program = programs::of(
            survey.host,
            Program {
                resolution: &resolution,
                owner: owner.as_ref(),
                remedies: &remedies,
                // What a package should have there comes back with it; a tree says nothing of its files.
                mend_link: &|link| match claims.iter().find(|claim| !claim.on_tree) {
                    Some(claim) => survey.restore(claim),
                    None => advice::mend_link(survey, link),
                },
            },
        );
        // A package that brings a link into a package that is only suggested is as it was made.
        let link = resolution.steps[0].path.clone();
        for one in of_program.iter_mut().filter(|one| one.kind == FindingKind::DanglingLink) {
            let by = survey.ownership(&index, &survey.root().canonicalize(&link)).packages;
            if !by.is_empty() {
                one.severity = Severity::Note;
                one.packages = by.iter().filter_map(|claim| survey.owner(claim)).map(|owner| owner.id).collect();
            }
        }
        // What is looked up by name, and found in some context, runs there.
        of_program.retain(|one| one.kind != FindingKind::BrokenInterpreter || !is_found_somewhere(cx, &resolution));
        found.extend(of_program);
        found.extend(missing.into_iter().map(|mut one| {
            one.packages.extend(owner.iter().map(|owner| owner.id.clone()));
            one
        }));
    }
    found.sort_by(Finding::by_importance);
    found.dedup_by(|a, b| a.kind == b.kind && a.subject == b.subject);
    found
}

/// Whether a script's interpreter is looked up by its name, and any context finds it.
fn is_found_somewhere(cx: &CheckContext<'_, '_>, resolution: &Resolution) -> bool {
    let Some(script) = resolution.script.as_ref().filter(|script| script.interpreter.is_none()) else { return false };
    let Some(line) = Shebang::parse(&script.line) else { return false };
    let Some(name) = line.looked_up() else { return false };
    cx.all_searches().any(|search| !search.reach(cx.survey.root(), name).copies.is_empty())
}

/// The programs of a directory with which something may be wrong: what each leads to, and what it lacks.
fn doubtful_in(
    survey: &Survey<'_>,
    search: &SearchPath,
    loader: &Loader<'_>,
    dir: &ByteString,
) -> Vec<(Resolution, Vec<Finding>)> {
    let root = survey.root();
    let names = root.names_in(dir);
    let names = names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link));
    let found = names.filter_map(|(name, _)| {
        let resolution = Resolution::of(root, search, &path::join(dir, &name));
        let is_script = resolution.script.is_some();
        let missing = match resolution.end {
            End::There(meta) if !is_script && root.can_execute(resolution.last(), meta) => {
                libraries::missing(loader, resolution.last(), None)
            }
            _ => Vec::new(),
        };
        (resolution.end == End::Nothing || is_script || !missing.is_empty()).then_some((resolution, missing))
    });
    found.collect()
}
