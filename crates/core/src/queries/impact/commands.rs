//! What would run instead of each command.

use rayon::prelude::*;

use super::Lost;
use super::gone::Gone;
use crate::bytes::ByteString;
use crate::fs::Kind;
use crate::index::ClaimIndex;
use crate::model::Claimant;
use crate::queries::users::{self, OfUsers};
use crate::queries::{CheckContext, Located, locate};
use crate::resolve::{Resolution, SearchPath};
use crate::survey::Survey;

/// Every name that a search path finds at a copy that would go.
pub(super) fn commands(cx: &CheckContext<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Lost> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let mut names: Vec<ByteString> = Vec::new();
    let mut dirs: Vec<&ByteString> =
        cx.all_searches().flat_map(|search| &search.entries).map(|entry| &entry.canonical).collect();
    dirs.sort();
    dirs.dedup();
    for dir in dirs {
        let listed = root.names_in(dir);
        names.extend(listed.into_iter().filter(|(_, kind)| *kind != Kind::Dir).map(|(name, _)| name));
    }
    names.sort();
    names.dedup();
    let first = |search: &SearchPath, name: &ByteString| search.reach(root, name).copies.into_iter().next();
    // Only names whose first copy somewhere would go need a second look.
    let search = cx.typed();
    let may_go = |name: &&ByteString| {
        cx.all_searches().any(|of| {
            first(of, name).is_some_and(|copy| {
                let resolution = survey.resolution(search, &copy.path);
                resolution.paths().any(|step| gone.has(&root.canonicalize(step)))
            })
        })
    };
    let touched = names.par_iter().filter(may_go);
    let of_views = || cx.views.iter().flat_map(|view| view.searches.iter().map(move |of| (view, of)));
    let everywhere = touched.flat_map_iter(|name| of_views().map(move |(view, of)| (name.clone(), view, of)));
    let reached: Vec<_> = everywhere
        .map(|(name, view, of)| {
            let copies = of.reach(root, &name).copies;
            let resolutions: Vec<Resolution> = copies.iter().map(|copy| survey.resolution(of, &copy.path)).collect();
            (name, (view, of), copies, resolutions)
        })
        .collect();
    let index = survey.claims(
        reached.iter().flat_map(|(.., resolutions)| resolutions).flat_map(Resolution::paths).map(|path| &**path),
    );
    // A script that loses its interpreter stays where it is, so that nothing else runs instead of it.
    let fails = |resolution: &Resolution| resolution.paths().any(|step| gone.has_by(&index, &root.canonicalize(step)));
    let goes = |resolution: &Resolution| {
        resolution.steps.iter().any(|step| gone.has_by(&index, &root.canonicalize(&step.path)))
    };
    let mut found: Vec<Lost> = Vec::new();
    for (name, (view, of), copies, resolutions) in reached {
        let Some(winner) = copies.first().filter(|_| fails(&resolutions[0])) else { continue };
        let next = copies.iter().zip(&resolutions).find_map(|(copy, resolution)| match goes(resolution) {
            false => Some(locate(survey, &index, &copy.path, resolution)),
            true => switched(survey, gone, &index, resolution).map(|next| Located { path: copy.path.clone(), ..next }),
        });
        let instead = next.filter(|_| goes(&resolutions[0]));
        let of_user: Vec<ByteString> = view.user.iter().map(|user| user.name.clone()).collect();
        let is_same = |one: &&mut Lost| {
            one.name == name && one.path == winner.path && one.instead == instead && one.users == of_user
        };
        match found.iter_mut().find(is_same) {
            Some(one) if one.contexts.contains(&of.context) => {}
            Some(one) => one.contexts.push(of.context),
            None => {
                let contexts = vec![of.context];
                found.push(Lost { name, contexts, users: of_user, path: winner.path.clone(), instead });
            }
        }
    }
    // What is so for several users in the same contexts is told once.
    users::merged(found)
}

impl OfUsers for Lost {
    fn name(&self) -> &ByteString {
        &self.name
    }

    fn users(&mut self) -> &mut Vec<ByteString> {
        &mut self.users
    }

    fn essence(&self) -> Self {
        Lost { users: Vec::new(), ..self.clone() }
    }
}

/// What a link of the alternatives system leads to once its choice is gone.
fn switched(survey: &Survey<'_>, gone: &Gone<'_, '_>, index: &ClaimIndex, resolution: &Resolution) -> Option<Located> {
    let root = survey.root();
    let group = resolution.paths().find_map(|step| survey.ownership(index, &root.canonicalize(step)).group)?;
    let Claimant::Group(number) = group.claimant else { return None };
    let is_gone = |file: &ByteString| gone.has(&root.canonicalize_dir(file));
    let next = survey.holder(&group).file_index()?.next_of_group(number, &is_gone)?;
    let owner = survey.ownership_of(&next);
    let version = owner.as_ref().and_then(|owner| owner.version.clone());
    Some(Located { path: next, owner, version })
}
