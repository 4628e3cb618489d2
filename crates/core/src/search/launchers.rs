//! Where launchers are looked for: the *XDG Base Directory Specification* and the *Desktop Menu
//! Specification*.
//!
//! `applications/` of the person's own data folder, then of each folder in `XDG_DATA_DIRS`. A launcher's id
//! is its path below `applications/` with `-` for `/`; the first folder that has an id wins whole, and the
//! later files of that id are masked, even where the first is no usable launcher.

use crate::model::Evidence;
use crate::root::{Kind, Root};
use crate::scene::Scene;
use crate::search::contexts::{self, Context, Wish};
use crate::text::{Text, path};

/// One data folder that is searched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DataFolder {
    /// The folder that holds `applications/`.
    pub folder: Text,
    /// Who says so.
    pub because: Evidence,
}

/// A launcher's file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LauncherFile {
    /// Its id.
    pub id: Text,
    /// Where it is.
    pub path: Text,
}

/// The data folders in order: those given; else this process's; else, in an offline tree, what a log-in
/// of the first ordinary person sets.
#[must_use]
pub fn data_folders(scene: &Scene, given: Option<&[u8]>) -> Vec<DataFolder> {
    let mut found: Vec<DataFolder> = Vec::new();
    let mut add = |folder: &[u8], because: Evidence| {
        // Empty and repeated items are harmless, relative ones are to be ignored.
        if folder.starts_with(b"/") {
            let folder = path::absolute(folder, b"/");
            if !found.iter().any(|known| known.folder == folder) {
                found.push(DataFolder { folder, because });
            }
        }
    };
    if let Some(list) = given {
        for (number, folder) in (1..).zip(list.split(|&b| b == b':')) {
            add(folder, Evidence::at("--data-dirs", format!("entry {number}"), ""));
        }
        return found;
    }
    let person = scene.usual_person();
    let own = match (&scene.here.data_home, person) {
        (Some(own), _) if scene.root.is_live() => {
            Some((own.clone(), Evidence::at("environment of this process", "XDG_DATA_HOME", "")))
        }
        (_, Some(person)) => {
            let folder = path::join(&person.home, b".local/share");
            Some((folder, Evidence::at("XDG base directories", "default", "the person's own folder")))
        }
        _ => None,
    };
    if let Some((folder, because)) = &own {
        add(folder, because.clone());
    }
    match &scene.here.data_dirs {
        Some(list) if scene.root.is_live() && !list.is_empty() => {
            for (number, folder) in (1..).zip(list.split(|&b| b == b':')) {
                add(folder, Evidence::at("environment of this process", format!("XDG_DATA_DIRS, entry {number}"), ""));
            }
        }
        // On another disk, what the session of the first ordinary person has.
        _ if !scene.root.is_live() => {
            let (listed, _) =
                contexts::situation(scene, Context::Desktop, &contexts::usual_person(scene), &Wish::default())
                    .list("XDG_DATA_DIRS");
            let is_set = !listed.is_empty();
            for one in listed {
                add(&one.folder, Evidence { says: "puts it there at log-in".to_owned(), ..one.because });
            }
            if !is_set {
                default_folders(&mut add);
            }
        }
        _ => default_folders(&mut add),
    }
    found
}

/// Those that the specification names.
fn default_folders(add: &mut dyn FnMut(&[u8], Evidence)) {
    for folder in [&b"/usr/local/share"[..], b"/usr/share"] {
        add(folder, Evidence::at("XDG base directories", "default", "searched where XDG_DATA_DIRS is not set"));
    }
}

/// Folders below `applications/` that are looked into.
const DEEPEST: usize = 8;
/// Far more launchers than any machine has.
const MOST: usize = 100_000;

/// The launchers of a data folder, by id. Links to folders are followed, within bounds.
#[must_use]
pub fn files_in(root: &Root, data_folder: &[u8]) -> Vec<LauncherFile> {
    let top = path::join(data_folder, b"applications");
    // Each folder with those above it: one that is its own ancestor is a circle, while one that is
    // reached twice has its launchers under two ids.
    let mut open: Vec<(Text, Vec<Text>)> = vec![(top.clone(), Vec::new())];
    let mut found = Vec::new();
    while let Some((folder, mut above)) = open.pop() {
        let settled = root.settle_folder(&folder);
        if above.len() > DEEPEST || found.len() >= MOST || above.contains(&settled) {
            continue;
        }
        above.push(settled);
        let Ok(names) = root.folder(&folder).and_then(|folder| folder.list()) else { continue };
        for (name, kind) in names {
            let whole = path::join(&folder, &name);
            let is_folder = match kind {
                Kind::Folder => true,
                Kind::Link => root.target(&whole).is_ok_and(|meta| meta.kind == Kind::Folder),
                _ => false,
            };
            if is_folder {
                open.push((whole, above.clone()));
            } else if name.ends_with(b".desktop") {
                let below = whole[top.len() + 1..].iter().map(|&b| if b == b'/' { b'-' } else { b });
                found.push(LauncherFile { id: below.collect::<Vec<u8>>().into(), path: whole });
            }
        }
    }
    found.sort_by(|a, b| (&a.id, &a.path).cmp(&(&b.id, &b.path)));
    found
}
