//! What would happen if packages were removed: what runs instead, and what stops working.

use hashbrown::HashSet;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

use super::check::Look;
use super::launchers::{Session, launchers};
use super::{Located, locate};
use crate::claims::{ClaimIndex, FoundClaim};
use crate::model::{Claimant, Depth, Evidence, Owner};
use crate::root::Kind;
use crate::search::launchers::data_folders;
use crate::search::libraries::Loader;
use crate::search::{Context, End, SearchPath, Trail};
use crate::survey::Survey;
use crate::text::{Text, path};

/// What a command is in one context, now and afterwards.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Lost {
    /// The command's name.
    pub name: Text,
    /// The contexts in which it is so.
    pub contexts: Vec<Context>,
    /// The copy that would go.
    pub path: Text,
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
    /// A launcher starts nothing any more.
    Launcher,
    /// A link leads nowhere any more.
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
            How::Launcher => "starts nothing any more",
            How::Link => "leads nowhere any more",
        }
    }
}

/// Something that stops working.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Broken {
    /// How.
    pub how: How,
    /// The file, folder or launcher; of a package that depends on what would go, `null`.
    pub path: Option<Text>,
    /// Whose it is.
    pub owner: Option<Owner>,
    /// What it loses.
    pub loses: Text,
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
}

/// What would be gone.
struct Gone<'a, 's> {
    survey: &'a Survey<'s>,
    files: HashSet<Text>,
    packages: HashSet<(u16, u32)>,
    /// No records: the claims of places only, which need no look through them.
    places: ClaimIndex,
}

impl<'a, 's> Gone<'a, 's> {
    /// These packages (holder and number), and the settled paths of every file that only they record.
    fn of(survey: &'a Survey<'s>, packages: &[(u16, u32)]) -> Self {
        let places = survey.claims(std::iter::empty());
        let mut gone = Gone { survey, files: HashSet::new(), packages: packages.iter().copied().collect(), places };
        let mut files = Vec::new();
        for (holder, held) in (0..).zip(survey.holdings()) {
            let wanted = of_holder(packages, holder);
            if !wanted.is_empty() {
                files.extend(held.recorded(Some(&wanted), Depth::Presence).into_iter().map(|one| one.path));
            }
        }
        let root = survey.root();
        let settled: Vec<Text> = files.par_iter().map(|file| root.settle(file)).collect();
        let index = survey.claims(settled.iter().map(|file| &**file));
        let is_theirs = |file: &Text| {
            survey.ownership(&index, file).packages.iter().all(|claim| gone.claims(claim))
                && root.entry(file).is_ok_and(|meta| meta.kind != Kind::Folder)
        };
        let files = settled.into_iter().filter(is_theirs).collect();
        gone.files = files;
        gone
    }

    /// Whether a claim is that of a package that would go.
    fn claims(&self, claim: &FoundClaim) -> bool {
        matches!(claim.claimant, Claimant::Package(number) if self.packages.contains(&(claim.holder, number)))
    }

    /// Whether nothing would be left at a settled path: every package that claims it would go.
    fn has(&self, settled: &Text) -> bool {
        self.has_by(&self.places, settled)
    }

    /// The same, with what the records of this index claim.
    fn has_by(&self, index: &ClaimIndex, settled: &Text) -> bool {
        if self.files.contains(settled) {
            return true;
        }
        let claims = self.survey.ownership(index, settled).packages;
        !claims.is_empty() && claims.iter().all(|claim| self.claims(claim))
    }
}

/// The numbers of those packages that are one holder's.
fn of_holder(packages: &[(u16, u32)], holder: u16) -> Vec<u32> {
    packages.iter().filter(|(of, _)| *of == holder).map(|(_, number)| *number).collect()
}

/// What would happen if these packages (holder and number) were removed.
#[must_use]
pub fn impact(look: &Look<'_, '_>, packages: &[(u16, u32)]) -> Impact {
    let survey = look.survey;
    let mut answer = Impact::default();
    let mut dependents = Vec::new();
    for (holder, held) in (0..).zip(survey.holdings()) {
        let of_holder = of_holder(packages, holder);
        if of_holder.is_empty() {
            continue;
        }
        answer.packages.extend(of_holder.iter().map(|number| held.owner(*number)));
        match held.dependents(&of_holder) {
            Some(lost) => dependents.extend(lost.into_iter().map(|(number, evidence)| (holder, number, evidence))),
            None => answer.unknown.push(held.installation().manager.to_string()),
        }
    }
    answer.unknown.dedup();
    let gone = Gone::of(survey, packages);
    // What its manager would take along is gone as well, in the eyes of whoever asks whether it would be noticed.
    let noticed: HashSet<Text> = dependents
        .iter()
        .map(|(holder, number, _)| survey.holdings()[usize::from(*holder)].owner(*number).id)
        .collect();
    let names: Vec<String> = answer.packages.iter().map(|owner| owner.full_name().to_string()).collect();
    let whole = Text::from(names.join(", "));
    answer.broken.extend(dependents.into_iter().map(|(holder, number, evidence)| Broken {
        how: How::Dependency,
        path: None,
        owner: Some(survey.holdings()[usize::from(holder)].owner(number)),
        loses: whole.clone(),
        noticed: true,
        evidence: vec![evidence],
    }));
    answer.commands = commands(look, &gone);
    answer.broken.extend(programs(look, &gone));
    answer.broken.extend(environments(look, &gone));
    answer.broken.extend(of_launchers(look, &gone));
    for one in &mut answer.broken {
        one.noticed |= one.owner.as_ref().is_some_and(|owner| noticed.contains(&owner.id));
    }
    answer.broken.sort_by(|a, b| (a.noticed, a.how, &a.path).cmp(&(b.noticed, b.how, &b.path)));
    answer.broken.dedup();
    answer
}

/// Every name that a search path finds at a copy that would go.
fn commands(look: &Look<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Lost> {
    let (survey, root) = (look.survey, look.survey.root());
    let mut names: Vec<Text> = Vec::new();
    let mut folders: Vec<&Text> =
        look.searches.iter().flat_map(|search| &search.entries).map(|entry| &entry.settled).collect();
    folders.sort();
    folders.dedup();
    for folder in folders {
        let listed = root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
        names.extend(listed.into_iter().filter(|(_, kind)| *kind != Kind::Folder).map(|(name, _)| name));
    }
    names.sort();
    names.dedup();
    let first = |search: &SearchPath, name: &Text| search.reach(root, name).copies.into_iter().next();
    // Only names whose first copy somewhere would go need a second look.
    let search = look.typed();
    let may_go = |name: &&Text| {
        look.searches.iter().any(|of| {
            first(of, name).is_some_and(|copy| {
                let trail = survey.trail(search, &copy.path);
                trail.paths().any(|step| gone.has(&root.settle(step)))
            })
        })
    };
    let reached = |(name, of): (Text, &SearchPath)| {
        let copies = of.reach(root, &name).copies;
        let trails: Vec<Trail> = copies.iter().map(|copy| survey.trail(of, &copy.path)).collect();
        (name, of.context, copies, trails)
    };
    let touched = names.par_iter().filter(may_go);
    let everywhere = touched.flat_map_iter(|name| look.searches.iter().map(move |of| (name.clone(), of)));
    let reached: Vec<_> = everywhere.map(reached).collect();
    let index =
        survey.claims(reached.iter().flat_map(|(.., trails)| trails).flat_map(Trail::paths).map(|path| &**path));
    let goes = |trail: &Trail| trail.paths().any(|step| gone.has_by(&index, &root.settle(step)));
    let mut found: Vec<Lost> = Vec::new();
    for (name, context, copies, trails) in reached {
        let Some(winner) = copies.first().filter(|_| goes(&trails[0])) else { continue };
        let next = copies.iter().zip(&trails).find(|(_, trail)| !goes(trail));
        let instead = next.map(|(copy, trail)| locate(survey, &index, &copy.path, trail));
        match found.iter_mut().find(|one| one.name == name && one.path == winner.path && one.instead == instead) {
            Some(one) => one.contexts.push(context),
            None => found.push(Lost { name, contexts: vec![context], path: winner.path.clone(), instead }),
        }
    }
    found
}

/// Scripts, links and compiled programs that lose what they need.
fn programs(look: &Look<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Broken> {
    let (survey, root) = (look.survey, look.survey.root());
    let folders = look.program_folders();
    let loader = Loader::of(root);
    let search = look.typed();
    let in_folder = |folder: &Text| -> Vec<(How, Text, Text, Evidence)> {
        let names = root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
        let names = names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link));
        names.filter_map(|(name, kind)| lost(root, search, &loader, gone, &path::join(folder, &name), kind)).collect()
    };
    let found: Vec<(How, Text, Text, Evidence)> = folders.par_iter().flat_map_iter(in_folder).collect();
    let index = survey.claims(found.iter().map(|(_, file, ..)| &**file));
    let told = found.into_iter().map(|(how, file, loses, evidence)| {
        let claims = survey.ownership(&index, &root.settle(&file)).packages;
        let owner = claims.first().and_then(|claim| survey.owner(claim));
        Broken { how, path: Some(file), owner, loses, noticed: false, evidence: vec![evidence] }
    });
    told.collect()
}

/// What one program loses, if it does not go itself.
fn lost(
    root: &crate::root::Root,
    search: &SearchPath,
    loader: &Loader<'_>,
    gone: &Gone<'_, '_>,
    file: &Text,
    kind: Kind,
) -> Option<(How, Text, Text, Evidence)> {
    let goes = |path: &Text| gone.has(&root.settle(path));
    let trail = Trail::of(root, search, file);
    if goes(&trail.steps[0].path) {
        return None;
    }
    if kind == Kind::Link && trail.paths().take(trail.steps.len()).any(goes) {
        let says = format!("leads to {}", trail.last());
        return Some((How::Link, file.clone(), trail.last().clone(), Evidence::at(file.clone(), "link", says)));
    }
    if let Some(script) = &trail.script {
        let interpreter = script.interpreter.as_ref()?;
        let lost = interpreter.steps.iter().map(|step| &step.path).find(|step| goes(step))?;
        let evidence = Evidence::line(trail.last().clone(), 1, script.line.to_string());
        return Some((How::Interpreter, file.clone(), lost.clone(), evidence));
    }
    let End::There(meta) = trail.end else { return None };
    if !root.can_execute(trail.last(), meta) {
        return None;
    }
    let is_lost = |library: &Text| goes(&root.settle_folder(library));
    let mut needed = loader.needs(trail.last(), None).into_iter();
    let lost = needed.find(|needed| needed.path.as_ref().is_some_and(is_lost))?;
    let library = lost.path.clone().unwrap_or_default();
    Some((How::Library, file.clone(), library, Evidence::at(lost.by, "needs", lost.name.to_string())))
}

/// Environments whose base interpreter would go.
fn environments(look: &Look<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Broken> {
    let (survey, root) = (look.survey, look.survey.root());
    let all = survey.holdings().iter().flat_map(|held| held.environments());
    let found = all.filter_map(|environment| {
        let python = Trail::links(root, &path::join(&environment.location, b"bin/python"));
        let is_inside = path::within(python.last(), &environment.location);
        if is_inside || !gone.has(&root.settle(python.last())) {
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
fn of_launchers(look: &Look<'_, '_>, gone: &Gone<'_, '_>) -> Vec<Broken> {
    let (survey, root) = (look.survey, look.survey.root());
    let folders = data_folders(survey.scene, None);
    let session = Session { folders: &folders, desktops: &[], search: look.typed() };
    let answer = launchers(survey, session, &[]);
    let files: Vec<Text> = answer
        .launchers
        .iter()
        .flat_map(|one| one.starts.path.iter().chain([&one.file]))
        .map(|file| root.settle(file))
        .collect();
    let index = survey.claims(files.iter().map(|file| &**file));
    let removed = |owner: &Owner| {
        gone.packages
            .iter()
            .any(|(holder, number)| survey.holdings()[usize::from(*holder)].owner(*number).id == owner.id)
    };
    let found = answer.launchers.into_iter().filter_map(|one| {
        let starts = one.starts.path.clone();
        let is_lost = starts.as_ref().is_some_and(|file| gone.has_by(&index, &root.settle_folder(file)))
            || one.starts.owner.as_ref().is_some_and(removed);
        if !is_lost || gone.has_by(&index, &root.settle(&one.file)) {
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
