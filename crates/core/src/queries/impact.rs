//! What would happen if packages were removed: what runs instead, and what stops working.

use hashbrown::HashSet;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

use super::CheckContext;
use super::launchers::{DesktopSession, launchers};
use super::{Located, locate};
use crate::backend::Environments;
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::index::{ClaimIndex, FoundClaim};
use crate::managers;
use crate::model::{Claimant, Depth, Evidence, ManagerKind, Owner};
use crate::resolve::launchers::data_dirs_of;
use crate::resolve::libraries::Loader;
use crate::resolve::{Context, End, Resolution, SearchPath};
use crate::survey::Survey;

/// A command in one context, before and after the removal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Lost {
    /// The command's name.
    pub name: ByteString,
    /// The contexts in which it is so.
    pub contexts: Vec<Context>,
    /// The users for whom it is so; empty for a search path that was given.
    pub users: Vec<ByteString>,
    /// The copy that would go.
    pub path: ByteString,
    /// What would run instead; `null` where nothing would.
    pub instead: Option<Located>,
}

/// How something stops working.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// Its manager knows that it depends on what would go.
    Dependency,
    /// A script loses its interpreter.
    Interpreter,
    /// An environment loses its base interpreter.
    Base,
    /// A program loses a shared library.
    Library,
    /// A launcher starts nothing.
    Launcher,
    /// A link points to a missing file.
    Link,
}

impl How {
    /// What it is, in a few words.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            How::Dependency => "depends on it",
            How::Interpreter => "loses its interpreter",
            How::Base => "loses its base interpreter",
            How::Library => "loses a library",
            How::Launcher => "starts nothing",
            How::Link => "points to a missing file",
        }
    }
}

/// Something that stops working.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Broken {
    /// How.
    pub how: How,
    /// The file, directory or launcher; of a package that depends on what would go, `null`.
    pub path: Option<ByteString>,
    /// Whose it is.
    pub owner: Option<Owner>,
    /// What it loses.
    pub loses: ByteString,
    /// Whether the manager of what is removed knows: then it asks, or removes it as well.
    pub noticed: bool,
    /// Where that stands.
    pub evidence: Vec<Evidence>,
}

/// The answer.
#[derive(Debug, Clone, Default, Serialize, JsonSchema)]
pub struct Impact {
    /// The packages that would go.
    pub packages: Vec<Owner>,
    /// What becomes of their commands.
    pub commands: Vec<Lost>,
    /// What stops working.
    pub broken: Vec<Broken>,
    /// Managers whose declared dependencies are not read: what they would notice is not known.
    pub unknown: Vec<String>,
    /// Why a manager does not remove a package without being forced to.
    pub protected: Vec<Evidence>,
    /// The other packages of the names that were asked for, each by itself.
    pub others: Vec<Impact>,
    /// Packages of other installations that need what would go.
    #[serde(skip)]
    across: Vec<Broken>,
}

/// What would be gone.
struct Gone<'a, 's> {
    survey: &'a Survey<'s>,
    files: HashSet<ByteString>,
    packages: HashSet<(u16, u32)>,
    /// No records: the claims of places only, which need no look through them.
    places: ClaimIndex,
}

impl<'a, 's> Gone<'a, 's> {
    /// These packages (holder and number), and the canonical paths of every file that only they record.
    fn of(survey: &'a Survey<'s>, packages: &[(u16, u32)]) -> Self {
        let places = survey.claims(std::iter::empty());
        let mut gone = Gone { survey, files: HashSet::new(), packages: packages.iter().copied().collect(), places };
        let mut files = Vec::new();
        for (holder, held) in (0..).zip(survey.installations()) {
            let wanted = of_holder(packages, holder);
            if !wanted.is_empty()
                && let Some(records) = held.file_records()
            {
                files.extend(records.file_records(Some(&wanted), Depth::Presence).into_iter().map(|one| one.path));
            }
        }
        let root = survey.root();
        let canonical: Vec<ByteString> = files.par_iter().map(|file| root.canonicalize(file)).collect();
        let index = survey.claims(canonical.iter().map(|file| &**file));
        let is_theirs = |file: &ByteString| {
            gone.takes(&survey.ownership(&index, file).packages)
                && root.entry(file).is_ok_and(|meta| meta.kind != Kind::Dir)
        };
        let files = canonical.into_iter().filter(is_theirs).collect();
        gone.files = files;
        gone
    }

    /// The directories of programs that the managers of what would go keep for themselves.
    fn own_dirs(&self) -> Vec<ByteString> {
        let root = self.survey.root();
        let mut dirs = Vec::new();
        for (holder, held) in (0..).zip(self.survey.installations()) {
            if !self.packages.iter().any(|(of, _)| *of == holder) {
                continue;
            }
            for dir in held.launching().map(|launching| launching.program_dirs()).unwrap_or_default() {
                let canonical = root.canonicalize_dir(&dir);
                if canonical != dir || path::within(&canonical, &held.location().dir) {
                    dirs.push(canonical);
                }
            }
        }
        dirs
    }

    /// Whether a claim is that of a package that would go.
    fn claims(&self, claim: &FoundClaim) -> bool {
        matches!(claim.claimant, Claimant::Package(number) if self.packages.contains(&(claim.holder, number)))
    }

    /// Whether what these claims are on would be deleted: a manager deletes what it recorded for a package, unless
    /// another package of its own has it too. What other managers recorded, it does not know.
    fn takes(&self, claims: &[FoundClaim]) -> bool {
        claims.iter().any(|claim| {
            self.claims(claim) && claims.iter().all(|other| other.holder != claim.holder || self.claims(other))
        })
    }

    /// Whether nothing would be left at a canonical path.
    fn has(&self, canonical: &ByteString) -> bool {
        self.has_by(&self.places, canonical)
    }

    /// The same, with what the records of this index claim.
    fn has_by(&self, index: &ClaimIndex, canonical: &ByteString) -> bool {
        if self.files.contains(canonical) {
            return true;
        }
        self.takes(&self.survey.ownership(index, canonical).packages)
    }
}

/// The numbers of those packages that are one holder's.
fn of_holder(packages: &[(u16, u32)], holder: u16) -> Vec<u32> {
    packages.iter().filter(|(of, _)| *of == holder).map(|(_, number)| *number).collect()
}

/// What would happen if these packages (holder and number) were removed.
#[must_use]
pub fn impact(cx: &CheckContext<'_, '_>, packages: &[(u16, u32)]) -> Impact {
    let survey = cx.survey;
    let mut answer = Impact::default();
    let mut dependents = Vec::new();
    for (holder, held) in (0..).zip(survey.installations()) {
        let of_holder = of_holder(packages, holder);
        if of_holder.is_empty() {
            continue;
        }
        let relations = held.relations();
        answer.packages.extend(of_holder.iter().map(|number| held.owner(*number)));
        let protections = of_holder.iter().filter_map(|number| relations?.protection(*number));
        answer.protected.extend(protections);
        match relations.and_then(|relations| relations.dependents(&of_holder)) {
            Some(lost) => dependents.extend(lost.into_iter().map(|(number, evidence)| (holder, number, evidence))),
            None => answer.unknown.push(held.location().manager.to_string()),
        }
    }
    for (holder, held) in (0..).zip(survey.installations()) {
        let manager = held.location().manager;
        let of_others: Vec<Owner> = answer.packages.iter().filter(|owner| owner.manager == manager).cloned().collect();
        let Some(relations) = held.relations().filter(|_| !of_others.is_empty()) else { continue };
        let known = |number: u32| dependents.iter().any(|(of, other, _)| (*of, *other) == (holder, number));
        let lost: Vec<_> =
            relations.dependents_on(&of_others).into_iter().filter(|(number, _)| !known(*number)).collect();
        answer.across.extend(lost.into_iter().map(|(number, evidence)| Broken {
            how: How::Dependency,
            path: None,
            owner: Some(held.owner(number)),
            loses: of_others.first().map(|owner| owner.full_name()).unwrap_or_default(),
            noticed: false,
            evidence: vec![evidence],
        }));
    }
    answer.unknown.dedup();
    // What the manager takes along is gone as well, and everything that breaks because of that breaks too.
    let taken = dependents.iter().map(|(holder, number, _)| (*holder, *number));
    let all: Vec<(u16, u32)> = packages.iter().copied().chain(taken).collect();
    let gone = Gone::of(survey, &all);
    let noticed: HashSet<ByteString> = dependents
        .iter()
        .map(|(holder, number, _)| survey.installations()[usize::from(*holder)].owner(*number).id)
        .collect();
    let names: Vec<String> = answer.packages.iter().map(|owner| owner.full_name().to_string()).collect();
    let whole = ByteString::from(names.join(", "));
    answer.broken.extend(dependents.into_iter().map(|(holder, number, evidence)| Broken {
        how: How::Dependency,
        path: None,
        owner: Some(survey.installations()[usize::from(holder)].owner(number)),
        loses: whole.clone(),
        noticed: true,
        evidence: vec![evidence],
    }));
    answer.broken.append(&mut answer.across);
    answer.commands = commands(cx, &gone);
    answer.broken.extend(programs(cx, &gone));
    answer.broken.extend(environments(cx, &gone));
    for cx in cx.each() {
        answer.broken.extend(of_launchers(&cx, &gone));
    }
    for one in &mut answer.broken {
        one.noticed |= one.owner.as_ref().is_some_and(|owner| noticed.contains(&owner.id));
    }
    answer.broken.sort_by(|a, b| (a.noticed, a.how, &a.path).cmp(&(b.noticed, b.how, &b.path)));
    answer.broken.dedup();
    answer
}

/// Every name that a search path finds at a copy that would go.
fn commands(cx: &CheckContext<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Lost> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let mut names: Vec<ByteString> = Vec::new();
    let mut dirs: Vec<&ByteString> =
        cx.all_searches().flat_map(|search| &search.entries).map(|entry| &entry.canonical).collect();
    dirs.sort();
    dirs.dedup();
    for dir in dirs {
        let listed = root.dir(dir).and_then(|dir| dir.list()).unwrap_or_default();
        names.extend(listed.into_iter().filter(|(_, kind)| *kind != Kind::Dir).map(|(name, _)| name));
    }
    names.sort();
    names.dedup();
    let first = |search: &SearchPath, name: &ByteString| search.reach(root, name).copies.into_iter().next();
    // Only names whose first copy somewhere would go need a second cx.
    let search = cx.typed();
    let may_go = |name: &&ByteString| {
        cx.all_searches().any(|of| {
            first(of, name).is_some_and(|copy| {
                let resolution = survey.resolution(search, &copy.path);
                resolution.steps.iter().any(|step| gone.has(&root.canonicalize(&step.path)))
            })
        })
    };
    let touched = names.par_iter().filter(may_go);
    let everywhere = touched.flat_map_iter(|name| cx.all_searches().map(move |of| (name.clone(), of)));
    let reached: Vec<_> = everywhere
        .map(|(name, of)| {
            let copies = of.reach(root, &name).copies;
            let resolutions: Vec<Resolution> = copies.iter().map(|copy| survey.resolution(of, &copy.path)).collect();
            (name, of, copies, resolutions)
        })
        .collect();
    let index = survey.claims(
        reached.iter().flat_map(|(.., resolutions)| resolutions).flat_map(Resolution::paths).map(|path| &**path),
    );
    // A script that loses its interpreter stays where it is, and is told among what breaks.
    let goes = |resolution: &Resolution| {
        resolution.steps.iter().any(|step| gone.has_by(&index, &root.canonicalize(&step.path)))
    };
    let mut found: Vec<Lost> = Vec::new();
    for (name, of, copies, resolutions) in reached {
        let Some(winner) = copies.first().filter(|_| goes(&resolutions[0])) else { continue };
        let next = copies.iter().zip(&resolutions).find_map(|(copy, resolution)| match goes(resolution) {
            false => Some(locate(survey, &index, &copy.path, resolution)),
            true => switched(survey, gone, &index, resolution).map(|next| Located { path: copy.path.clone(), ..next }),
        });
        let instead = next;
        let of_user: Vec<ByteString> = of.user.iter().cloned().collect();
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
    let mut merged: Vec<Lost> = Vec::new();
    for one in found {
        let is_same = |known: &&mut Lost| {
            (&known.name, &known.path, &known.instead, &known.contexts)
                == (&one.name, &one.path, &one.instead, &one.contexts)
        };
        match merged.iter_mut().find(is_same) {
            Some(known) => known.users.extend(one.users),
            None => merged.push(one),
        }
    }
    merged
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

/// Scripts, links and compiled programs that lose what they need.
fn programs(cx: &CheckContext<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Broken> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let dirs = cx.program_dirs();
    let loader = Loader::of(root);
    let search = cx.typed();
    let in_dir = |dir: &ByteString| -> Vec<(How, ByteString, ByteString, Evidence)> {
        let names = root.dir(dir).and_then(|dir| dir.list()).unwrap_or_default();
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
fn environments(cx: &CheckContext<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Broken> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let all = survey.installations().iter().filter_map(|held| held.environments()).flat_map(Environments::environments);
    let found = all.filter_map(|environment| {
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
fn of_launchers(cx: &CheckContext<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Broken> {
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
