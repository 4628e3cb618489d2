//! What would stop working: programs, environments, launchers.

use rayon::prelude::*;

use super::gone::Gone;
use super::{Broken, How};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::managers;
use crate::model::{Evidence, ManagerKind, Owner};
use crate::queries::CheckContext;
use crate::queries::launchers::{DesktopSession, launchers};
use crate::resolve::launchers::data_dirs_of;
use crate::resolve::libraries::Loader;
use crate::resolve::{End, Resolution, SearchPath};

/// Scripts, links and compiled programs that lose what they need.
pub(super) fn programs(cx: &CheckContext<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Broken> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let dirs = cx.program_dirs();
    let loader = Loader::of(root);
    let search = cx.typed();
    let in_dir = |dir: &ByteString| -> Vec<(How, ByteString, ByteString, Evidence)> {
        let names = root.names_in(dir);
        let names = names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link));
        names.filter_map(|(name, kind)| lost(root, search, &loader, gone, &path::join(dir, &name), kind)).collect()
    };
    let found: Vec<(How, ByteString, ByteString, Evidence)> = dirs.par_iter().flat_map_iter(in_dir).collect();
    let index = survey.claims(found.iter().map(|(_, file, ..)| &**file));
    // Links in a directory that the manager of what goes keeps for itself go with it.
    let kept: Vec<ByteString> = gone.own_dirs();
    let is_own = |file: &ByteString| {
        // What is in a store is never changed: another environment is made, and this one stays as it is.
        let is_stored = || {
            let owner = survey.ownership_of(path::parent(file));
            owner.is_some_and(|owner| managers::profile(owner.manager).kind == ManagerKind::Store)
        };
        kept.contains(&root.canonicalize_dir(path::parent(file))) || is_stored()
    };
    // A link of the alternatives system is switched, or taken away with the last choice.
    let is_placed = |file: &ByteString| survey.ownership(&index, &root.canonicalize(file)).group.is_some();
    let lost = found.into_iter().filter(|(how, file, ..)| *how != How::Link || !(is_placed(file) || is_own(file)));
    let told = lost.map(|(how, file, loses, evidence)| {
        let claims = survey.ownership(&index, &root.canonicalize(&file)).packages;
        let owner = claims.first().and_then(|claim| survey.owner(claim));
        Broken { how, path: Some(file), owner, loses, noticed: false, evidence: vec![evidence] }
    });
    told.collect()
}

/// What one program loses, unless it is removed itself.
fn lost(
    root: &crate::fs::Root,
    search: &SearchPath,
    loader: &Loader<'_>,
    gone: &Gone<'_, '_>,
    file: &ByteString,
    kind: Kind,
) -> Option<(How, ByteString, ByteString, Evidence)> {
    let goes = |path: &ByteString| gone.has(&root.canonicalize(path));
    let resolution = Resolution::of(root, search, file);
    if goes(&resolution.steps[0].path) {
        return None;
    }
    if kind == Kind::Link && resolution.paths().take(resolution.steps.len()).any(goes) {
        let says = format!("leads to {}", resolution.last());
        return Some((How::Link, file.clone(), resolution.last().clone(), Evidence::at(file.clone(), "link", says)));
    }
    if let Some(script) = &resolution.script {
        let interpreter = script.interpreter.as_ref()?;
        let lost = interpreter.steps.iter().map(|step| &step.path).find(|step| goes(step))?;
        let evidence = Evidence::line(resolution.last().clone(), 1, script.line.to_string());
        return Some((How::Interpreter, file.clone(), lost.clone(), evidence));
    }
    let End::There(meta) = resolution.end else { return None };
    if !root.can_execute(resolution.last(), meta) {
        return None;
    }
    let is_lost = |library: &ByteString| goes(&root.canonicalize_dir(library));
    let mut needed = loader.needs(resolution.last(), None).into_iter();
    let lost = needed.find(|needed| needed.path.as_ref().is_some_and(is_lost))?;
    let library = lost.path.clone().unwrap_or_default();
    Some((How::Library, file.clone(), library, Evidence::at(lost.by, "needs", lost.name.to_string())))
}

/// Environments whose base interpreter would go.
pub(super) fn environments(cx: &CheckContext<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Broken> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let found = survey.environments().filter_map(|environment| {
        let python = Resolution::links(root, &path::join(&environment.location, b"bin/python"));
        let is_inside = path::within(python.last(), &environment.location);
        if is_inside || !gone.has(&root.canonicalize(python.last())) {
            return None;
        }
        let evidence = Evidence::at(python.steps[0].path.clone(), "link", format!("leads to {}", python.last()));
        // The package for whose sake a tool made it, where one did.
        let owner = survey.ownership_of(&path::join(&environment.location, b"pyvenv.cfg"));
        Some(Broken {
            how: How::Base,
            path: Some(environment.location),
            owner,
            loses: python.last().clone(),
            noticed: false,
            evidence: vec![evidence],
        })
    });
    found.collect()
}

/// Launchers that would start nothing.
pub(super) fn of_launchers(cx: &CheckContext<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Broken> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let dirs = data_dirs_of(survey.host, None, cx.user());
    let session = DesktopSession { dirs: &dirs, desktops: &[], search: cx.typed(), user: cx.user() };
    let answer = launchers(survey, session, &[]);
    let files: Vec<ByteString> = answer
        .launchers
        .iter()
        .flat_map(|one| one.starts.path.iter().chain([&one.file]))
        .map(|file| root.canonicalize(file))
        .collect();
    let index = survey.claims(files.iter().map(|file| &**file));
    let removed = |owner: &Owner| {
        gone.packages
            .iter()
            .any(|(holder, number)| survey.installations()[usize::from(*holder)].owner(*number).id == owner.id)
    };
    let found = answer.launchers.into_iter().filter_map(|one| {
        let starts = one.starts.path.clone();
        let is_lost = starts.as_ref().is_some_and(|file| gone.has_by(&index, &root.canonicalize_dir(file)))
            || one.starts.owner.as_ref().is_some_and(removed);
        if !is_lost || gone.has_by(&index, &root.canonicalize(&one.file)) {
            return None;
        }
        Some(Broken {
            how: How::Launcher,
            path: Some(one.file),
            owner: one.owner,
            loses: starts.or_else(|| one.starts.owner.map(|owner| owner.name)).unwrap_or_default(),
            noticed: false,
            evidence: one.evidence,
        })
    });
    found.collect()
}
