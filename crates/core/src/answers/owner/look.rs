//! The first look at the disk, before any record is read: what a target reaches, and the trails behind it.

use super::{Target, TargetKind};
use crate::formats::desktop_entry::{DesktopEntry, words};
use crate::model::{Evidence, Owner};
use crate::root::Limit;
use crate::search::launchers::{data_folders, files_in};
use crate::search::libraries::Loader;
use crate::search::modules;
use crate::search::{End, How, Reached, SearchPath, Trail};
use crate::survey::Survey;
use crate::text::{Text, path};

/// A target after its first look at the disk, before any record is read.
pub(super) enum Found {
    Command { reached: Reached, trails: Vec<Trail>, elsewhere: Vec<Trail> },
    Path { trail: Trail, reached: Reached, winner: Option<Trail> },
    Launcher { trail: Trail, app: Option<Owner>, command: Option<Evidence> },
    Other { elsewhere: Vec<Trail> },
}

impl Found {
    pub(super) fn look(survey: &Survey<'_>, search: &SearchPath, folders: &[Text], target: &Target) -> Self {
        let root = survey.root();
        if target.kind == Some(TargetKind::Path) {
            let whole = path::absolute(&target.name, &survey.scene.here.folder);
            let trail = survey.trail(search, &whole);
            // Whether the name, when typed, runs this file or another one.
            let is_program = matches!(trail.end, End::There(meta) if root.can_execute(trail.last(), meta));
            let reached = if is_program { search.reach(root, path::name(&whole)) } else { Reached::default() };
            let winner = reached.copies.first().map(|copy| Trail::links(root, &copy.path));
            return Found::Path { trail, reached, winner };
        }
        if let Some(kind @ (TargetKind::Library | TargetKind::Module)) = target.kind {
            let found = match kind {
                TargetKind::Library => Loader::of(root).named(&target.name),
                _ => module(survey, &target.name),
            };
            return match found {
                Some(file) => {
                    let trail = survey.trail(search, &file);
                    Found::Path { trail, reached: Reached::default(), winner: None }
                }
                None => Found::Other { elsewhere: Vec::new() },
            };
        }
        let is_launcher =
            target.kind == Some(TargetKind::Launcher) || (target.kind.is_none() && target.name.ends_with(b".desktop"));
        if is_launcher && let Some(found) = launcher(survey, search, &target.name) {
            return found;
        }
        let reached = match target.kind {
            Some(TargetKind::Package | TargetKind::Launcher) => Reached::default(),
            _ => search.reach(root, &target.name),
        };
        let trails: Vec<Trail> = reached.copies.iter().map(|copy| survey.trail(search, &copy.path)).collect();
        let elsewhere = match target.kind {
            Some(TargetKind::Package | TargetKind::Launcher) => Vec::new(),
            _ => elsewhere(survey, search, folders, &target.name, &trails),
        };
        if trails.is_empty() { Found::Other { elsewhere } } else { Found::Command { reached, trails, elsewhere } }
    }

    /// Every path whose owners are asked for.
    pub(super) fn paths(&self) -> Vec<&[u8]> {
        let trails: Vec<&Trail> = match self {
            Found::Command { trails, elsewhere, .. } => trails.iter().chain(elsewhere).collect(),
            Found::Path { trail, winner, .. } => std::iter::once(trail).chain(winner).collect(),
            Found::Launcher { trail, .. } => vec![trail],
            Found::Other { elsewhere } => elsewhere.iter().collect(),
        };
        trails.into_iter().flat_map(Trail::paths).map(|path| &**path).collect()
    }
}

/// The module that the newest interpreter of the system takes for the usual person.
fn module(survey: &Survey<'_>, name: &[u8]) -> Option<Text> {
    let person = survey.scene.usual_person()?;
    let mut interpreters = modules::interpreters(survey.root());
    interpreters.sort_by(|a, b| crate::version::tokens::compare(b.1.as_bytes(), a.1.as_bytes()));
    interpreters.into_iter().find_map(|(interpreter, version)| {
        let folders = modules::folders(survey.scene, &interpreter, &version, person, None);
        modules::all(survey.root(), &folders).remove(&Text::from(name))?.into_iter().next().map(|module| module.file)
    })
}

/// The launcher that wins for an id, and the trail on to the program that it starts.
fn launcher(survey: &Survey<'_>, search: &SearchPath, id: &[u8]) -> Option<Found> {
    let root = survey.root();
    let folders = data_folders(survey.scene, None).into_iter().map(|folder| folder.folder);
    let of_managers = survey.holdings().iter().flat_map(|held| held.launcher_folders()).map(|(folder, _)| folder);
    let file = folders.chain(of_managers).find_map(|folder| {
        files_in(root, &folder)
            .into_iter()
            .find(|file| *file.id == *id || file.id.strip_suffix(b".desktop") == Some(id))
    })?;
    let mut trail = Trail::links(root, &file.path);
    let entry = root.read(&file.path, Limit::SMALL).ok().and_then(|content| DesktopEntry::parse(&content).ok());
    let exec = entry.as_ref().and_then(|entry| entry.text("Exec"));
    let words = exec.as_deref().and_then(words);
    let app = words.as_ref().and_then(|words| survey.started_by(words));
    if app.is_none()
        && let Some(path) = words.as_ref().and_then(|words| crate::answers::launchers::started(root, search, words))
    {
        trail.wrap(survey.trail(search, &path), How::Wrapper);
    }
    let says = exec.map(|exec| format!("Exec={}", Text::from(exec)));
    let command = entry.zip(says).map(|(entry, says)| Evidence::line(file.path.clone(), entry.line("Exec"), says));
    Some(Found::Launcher { trail, app, command })
}

/// Programs of that name in folders of programs that the search path does not name.
fn elsewhere(survey: &Survey<'_>, search: &SearchPath, folders: &[Text], name: &[u8], known: &[Trail]) -> Vec<Trail> {
    let root = survey.root();
    let mut found: Vec<Trail> = Vec::new();
    if name.contains(&b'/') {
        return found;
    }
    for folder in folders.iter().filter(|folder| !search.entries.iter().any(|entry| entry.settled == **folder)) {
        let candidate = path::join(folder, name);
        let Ok(meta) = root.target(&candidate) else { continue };
        let trail = || survey.trail(search, &candidate);
        if root.can_execute(&candidate, meta) {
            let trail = trail();
            if !known.iter().chain(&found).any(|other| other.last() == trail.last()) {
                found.push(trail);
            }
        }
    }
    found
}
