//! Which files no manager claims.

use hashbrown::HashSet;

use super::{FileKind, Stray};
use crate::root::{Kind, Meta, WalkLimits};
use crate::search::{End, SearchPath, Trail, hints, trees_of_programs};
use crate::survey::Survey;
use crate::text::{Text, path};

/// Far more than any machine has in such trees; a bound against trees that were made to be endless.
const DEEP: WalkLimits = WalkLimits { depth: 64, entries: 2_000_000 };
/// A folder's own entries.
const FLAT: WalkLimits = WalkLimits { depth: 0, entries: 200_000 };

/// Every unclaimed file in the folders, or in the usual places where none are given.
pub fn strays(survey: &Survey<'_>, search: &SearchPath, folders: &[Text]) -> Vec<Stray> {
    let root = survey.root();
    let mut seen: HashSet<Text> = HashSet::new();
    let mut found: Vec<(Text, Kind)> = Vec::new();
    let mut look = |start: &Text, limits: WalkLimits| {
        root.walk(start, limits, &mut |entry| {
            if matches!(entry.kind, Kind::File | Kind::Link) && seen.insert(entry.path.clone()) {
                found.push((entry.path.clone(), entry.kind));
            }
            limits.depth > 0
        });
    };
    if folders.is_empty() {
        trees_of_programs(survey.scene).iter().for_each(|tree| look(tree, DEEP));
        let of_search = search.entries.iter().map(|entry| &entry.settled);
        survey.program_folders().iter().chain(of_search).for_each(|folder| look(folder, FLAT));
    } else {
        folders.iter().for_each(|folder| look(&root.settle_folder(folder), DEEP));
    }
    let links: Vec<Option<Trail>> =
        found.iter().map(|(path, kind)| (*kind == Kind::Link).then(|| Trail::links(root, path))).collect();
    let ends = links.iter().flatten().map(|trail| &**trail.last());
    let index = survey.claims(found.iter().map(|(path, _)| &**path).chain(ends));
    let mut strays = Vec::new();
    for ((path, _), trail) in found.into_iter().zip(links) {
        let ownership = survey.ownership(&index, &path);
        if !ownership.packages.is_empty() {
            continue;
        }
        let stray = match trail {
            None => file(survey, search, path),
            Some(_) if ownership.group.is_some() => None,
            Some(trail) => link(survey, &index, path, &trail),
        };
        strays.extend(stray);
    }
    strays
}

/// A link counts where it leads to a program that has no owner either.
fn link(survey: &Survey<'_>, index: &crate::claims::ClaimIndex, path: Text, trail: &Trail) -> Option<Stray> {
    let End::There(meta) = trail.end else { return None };
    let owned = !survey.ownership(index, trail.last()).packages.is_empty();
    (!owned && survey.root().can_execute(trail.last(), meta)).then(|| Stray {
        path,
        kind: FileKind::Link,
        meta,
        leads_to: Some(trail.last().clone()),
    })
}

fn file(survey: &Survey<'_>, search: &SearchPath, path: Text) -> Option<Stray> {
    // One that has vanished since it was listed is no stray.
    let meta = survey.root().entry(&path).ok()?;
    let kind = kind_of(survey, search, &path, meta);
    Some(Stray { path, kind, meta, leads_to: None })
}

fn kind_of(survey: &Survey<'_>, search: &SearchPath, file: &Text, meta: Meta) -> FileKind {
    let name = path::name(file);
    if hints::is_manual(file) {
        return FileKind::Manual;
    }
    if name.ends_with(b".pc") {
        return FileKind::PkgConfig;
    }
    if name.ends_with(b".desktop") {
        return FileKind::Launcher;
    }
    if name.ends_with(b".a") || name.ends_with(b".so") || memchr::memmem::find(name, b".so.").is_some() {
        return FileKind::Library;
    }
    if !survey.root().can_execute(file, meta) {
        return FileKind::Data;
    }
    match survey.root().read_start(file, 4).as_deref() {
        Ok(b"\x7fELF") => FileKind::Program,
        Ok(start) if start.starts_with(b"#!") => FileKind::Script,
        // Without either mark, only the place tells a program from a file with careless permissions.
        _ if is_program_folder(search, path::folder(file)) => FileKind::Script,
        _ => FileKind::Data,
    }
}

fn is_program_folder(search: &SearchPath, folder: &[u8]) -> bool {
    matches!(path::name(folder), b"bin" | b"sbin" | b"games")
        || search.entries.iter().any(|entry| *entry.settled == *folder)
}
