//! Where programs lie, besides the folders of one search path.

use crate::root::{Kind, Root};
use crate::scene::Scene;
use crate::text::{Text, path};

/// The system's folders of programs (Filesystem Hierarchy Standard, 3.4, 3.16, 4.4, 4.10).
const SYSTEM: [&str; 8] =
    ["/usr/local/sbin", "/usr/local/bin", "/usr/local/games", "/usr/sbin", "/usr/bin", "/usr/games", "/sbin", "/bin"];

/// Folders in a home that hold a person's own programs.
const PERSONAL: [&str; 2] = ["bin", ".local/bin"];

/// Trees in which whole pieces of software lie that no distribution puts there.
const TREES: [&str; 2] = ["/usr/local", "/opt"];

/// The folders in which programs lie, whether or not a search path names them: the system's, those
/// of add-on software below `/opt`, people's own, and `more`. Only those that exist, each once.
#[must_use]
pub fn program_folders(scene: &Scene, more: impl Iterator<Item = Text>) -> Vec<Text> {
    let mut folders: Vec<Text> = SYSTEM.iter().map(|&folder| folder.into()).collect();
    if let Ok(names) = scene.root.folder(b"/opt").and_then(|opt| opt.list()) {
        let below = names.iter().filter(|(_, kind)| *kind == Kind::Folder);
        folders.extend(below.map(|(name, _)| path::join(&path::join(b"/opt", name), b"bin")));
    }
    for person in &scene.people {
        folders.extend(PERSONAL.iter().map(|folder| path::join(&person.home, folder.as_bytes())));
    }
    folders.extend(more);
    only_existing(&scene.root, folders)
}

/// The trees in which software lies that was put there by hand.
#[must_use]
pub fn trees_of_programs(scene: &Scene) -> Vec<Text> {
    only_existing(&scene.root, TREES.iter().map(|&tree| tree.into()).collect())
}

fn only_existing(root: &Root, folders: Vec<Text>) -> Vec<Text> {
    let mut kept: Vec<Text> = Vec::new();
    for folder in folders {
        let settled = root.settle_folder(&folder);
        if root.target(&settled).is_ok_and(|meta| meta.kind == Kind::Folder) && !kept.contains(&settled) {
            kept.push(settled);
        }
    }
    kept
}
