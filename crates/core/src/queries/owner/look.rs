//! The first look at the disk, before any record is read: what a target reaches, and the resolutions behind it.

use super::{Target, TargetKind};
use crate::backend::Launching;
use crate::backend::launcher_files::files_in;
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::User;
use crate::model::{Evidence, Owner};
use crate::resolve::launchers::data_dirs_of;
use crate::resolve::libraries::Loader;
use crate::resolve::modules;
use crate::resolve::{End, How, Reached, Resolution, SearchPath};
use crate::survey::Survey;
use whodunit_formats::desktop_entry::{DesktopEntry, words};

/// A target after its first look at the disk, before any record is read.
pub(super) enum Found {
    Command { reached: Reached, resolutions: Vec<Resolution>, elsewhere: Vec<Resolution> },
    Path { resolution: Resolution, reached: Reached, winner: Option<Resolution> },
    Launcher { resolution: Resolution, app: Option<Owner>, command: Option<Evidence> },
    Other { elsewhere: Vec<Resolution> },
}

impl Found {
    pub(super) fn look(survey: &Survey<'_>, search: &SearchPath, dirs: &[ByteString], target: &Target) -> Self {
        let root = survey.root();
        if target.kind == Some(TargetKind::Path) {
            let whole = path::absolute(&target.name, &survey.host.env.dir);
            let resolution = survey.resolution(search, &whole);
            // Whether the name, when typed, runs this file or another one.
            let is_program = matches!(resolution.end, End::There(meta) if root.can_execute(resolution.last(), meta));
            let reached = if is_program { search.reach(root, path::name(&whole)) } else { Reached::default() };
            let winner = reached.copies.first().map(|copy| Resolution::links(root, &copy.path));
            return Found::Path { resolution, reached, winner };
        }
        if let Some(kind @ (TargetKind::Library | TargetKind::Module)) = target.kind {
            let found = match kind {
                TargetKind::Library => Loader::of(root).named(&target.name),
                _ => module(survey, search, &target.name),
            };
            return match found {
                Some(file) => {
                    let resolution = survey.resolution(search, &file);
                    Found::Path { resolution, reached: Reached::default(), winner: None }
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
        let resolutions: Vec<Resolution> =
            reached.copies.iter().map(|copy| survey.resolution(search, &copy.path)).collect();
        let elsewhere = match target.kind {
            Some(TargetKind::Package | TargetKind::Launcher) => Vec::new(),
            _ => elsewhere(survey, search, dirs, &target.name, &resolutions),
        };
        if resolutions.is_empty() {
            Found::Other { elsewhere }
        } else {
            Found::Command { reached, resolutions, elsewhere }
        }
    }

    /// Every path whose owners are asked for.
    pub(super) fn paths(&self) -> Vec<&[u8]> {
        let resolutions: Vec<&Resolution> = match self {
            Found::Command { resolutions, elsewhere, .. } => resolutions.iter().chain(elsewhere).collect(),
            Found::Path { resolution, winner, .. } => std::iter::once(resolution).chain(winner).collect(),
            Found::Launcher { resolution, .. } => vec![resolution],
            Found::Other { elsewhere } => elsewhere.iter().collect(),
        };
        resolutions.into_iter().flat_map(Resolution::paths).map(|path| &**path).collect()
    }

    /// What the target itself reaches.
    pub(super) fn main(&self) -> Option<&Resolution> {
        match self {
            Found::Command { resolutions, .. } => resolutions.first(),
            Found::Path { resolution, .. } | Found::Launcher { resolution, .. } => Some(resolution),
            Found::Other { .. } => None,
        }
    }
}

/// The module that the newest interpreter of the system takes for the usual user.
fn module(survey: &Survey<'_>, search: &SearchPath, name: &[u8]) -> Option<ByteString> {
    let user = user_of(survey, search)?;
    let mut interpreters = modules::interpreters(survey.root());
    interpreters.sort_by(|a, b| crate::version::tokens::compare(b.1.as_bytes(), a.1.as_bytes()));
    interpreters.into_iter().find_map(|(interpreter, version)| {
        let dirs = modules::dirs(survey.host, &interpreter, &version, user, None);
        modules::all(survey.root(), &dirs).remove(&ByteString::from(name))?.into_iter().next().map(|module| module.file)
    })
}

/// Whose search path it is, else the user whose login stands for all.
fn user_of<'a>(survey: &Survey<'a>, search: &SearchPath) -> Option<&'a User> {
    let named = search.user.as_ref().and_then(|name| survey.host.users.iter().find(|user| user.name == *name));
    named.or(survey.host.default_user())
}

/// The launcher that wins for an id, and the resolution on to the program that it starts.
fn launcher(survey: &Survey<'_>, search: &SearchPath, id: &[u8]) -> Option<Found> {
    let root = survey.root();
    let dirs = data_dirs_of(survey.host, None, user_of(survey, search)).into_iter().map(|dir| dir.dir);
    let of_managers = survey
        .installations()
        .iter()
        .filter_map(|held| held.launching())
        .flat_map(Launching::launcher_dirs)
        .map(|(dir, _)| dir);
    let file = dirs.chain(of_managers).find_map(|dir| {
        files_in(root, &dir).into_iter().find(|file| *file.id == *id || file.id.strip_suffix(b".desktop") == Some(id))
    })?;
    let mut resolution = Resolution::links(root, &file.path);
    let entry = root.read(&file.path, Limit::SMALL).ok().and_then(|content| DesktopEntry::parse(&content).ok());
    let exec = entry.as_ref().and_then(|entry| entry.text("Exec"));
    let words = exec.as_deref().and_then(words);
    let app = words.as_ref().and_then(|words| survey.started_by(words));
    if app.is_none()
        && let Some(path) = words.as_ref().and_then(|words| crate::queries::launchers::started(root, search, words))
    {
        resolution.wrap(survey.resolution(search, &path), How::Wrapper);
    }
    let says = exec.map(|exec| format!("Exec={}", ByteString::from(exec)));
    let command = entry.zip(says).map(|(entry, says)| Evidence::line(file.path.clone(), entry.line("Exec"), says));
    Some(Found::Launcher { resolution, app, command })
}

/// Programs of that name in directories of programs that the search path does not name.
fn elsewhere(
    survey: &Survey<'_>,
    search: &SearchPath,
    dirs: &[ByteString],
    name: &[u8],
    known: &[Resolution],
) -> Vec<Resolution> {
    let root = survey.root();
    let mut found: Vec<Resolution> = Vec::new();
    if name.contains(&b'/') {
        return found;
    }
    for dir in dirs.iter().filter(|dir| !search.entries.iter().any(|entry| entry.canonical == **dir)) {
        let candidate = path::join(dir, name);
        let Ok(meta) = root.target(&candidate) else { continue };
        let resolution = || survey.resolution(search, &candidate);
        if root.can_execute(&candidate, meta) {
            let resolution = resolution();
            if !known.iter().chain(&found).any(|other| other.last() == resolution.last()) {
                found.push(resolution);
            }
        }
    }
    found
}
