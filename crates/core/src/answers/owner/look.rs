//! The first look at the disk, before any record is read: what a target reaches, and the trails behind it.

use super::{Target, TargetKind};
use crate::root::Root;
use crate::search::{End, Reached, SearchPath, Trail};
use crate::survey::Survey;
use crate::text::{Text, path};

/// A target after its first look at the disk, before any record is read.
pub(super) enum Found {
    Command { reached: Reached, trails: Vec<Trail>, elsewhere: Vec<Trail> },
    Path { trail: Trail, reached: Reached, winner: Option<Trail> },
    Other { elsewhere: Vec<Trail> },
}

impl Found {
    pub(super) fn look(survey: &Survey<'_>, search: &SearchPath, folders: &[Text], target: &Target) -> Self {
        let root = survey.root();
        if target.kind == Some(TargetKind::Path) {
            let whole = path::absolute(&target.name, &survey.scene.here.folder);
            let trail = Trail::of(root, search, &whole);
            // Whether the name, when typed, runs this file or another one.
            let is_program = matches!(trail.end, End::There(meta) if root.can_execute(trail.last(), meta));
            let reached = if is_program { search.reach(root, path::name(&whole)) } else { Reached::default() };
            let winner = reached.copies.first().map(|copy| Trail::links(root, &copy.path));
            return Found::Path { trail, reached, winner };
        }
        let reached = match target.kind {
            Some(TargetKind::Package) => Reached::default(),
            _ => search.reach(root, &target.name),
        };
        let trails: Vec<Trail> = reached.copies.iter().map(|copy| Trail::of(root, search, &copy.path)).collect();
        let elsewhere = match target.kind {
            Some(TargetKind::Package) => Vec::new(),
            _ => elsewhere(root, search, folders, &target.name, &trails),
        };
        if trails.is_empty() { Found::Other { elsewhere } } else { Found::Command { reached, trails, elsewhere } }
    }

    pub(super) fn names(&self) -> Vec<&[u8]> {
        let trails: Vec<&Trail> = match self {
            Found::Command { trails, elsewhere, .. } => trails.iter().chain(elsewhere).collect(),
            Found::Path { trail, winner, .. } => std::iter::once(trail).chain(winner).collect(),
            Found::Other { elsewhere } => elsewhere.iter().collect(),
        };
        trails.into_iter().flat_map(Trail::paths).map(|path| path::name(path)).collect()
    }
}

/// Programs of that name in folders of programs that the search path does not name.
fn elsewhere(root: &Root, search: &SearchPath, folders: &[Text], name: &[u8], known: &[Trail]) -> Vec<Trail> {
    let mut found: Vec<Trail> = Vec::new();
    if name.contains(&b'/') {
        return found;
    }
    for folder in folders.iter().filter(|folder| !search.entries.iter().any(|entry| entry.settled == **folder)) {
        let candidate = path::join(folder, name);
        let Ok(meta) = root.target(&candidate) else { continue };
        let trail = || Trail::links(root, &candidate);
        if root.can_execute(&candidate, meta) {
            let trail = trail();
            if !known.iter().chain(&found).any(|other| other.last() == trail.last()) {
                found.push(trail);
            }
        }
    }
    found
}
