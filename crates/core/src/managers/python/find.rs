//! Where Python's packages can be: the folders of the system's interpreters, those of people, and
//! environments, wherever they lie.

use super::site::{Place, is_folder};
use crate::managers::kept;
use crate::model::Scope;
use crate::root::{Kind, Limit, Root};
use crate::scene::{Person, Scene};
use crate::text::{Text, path};

/// Folders of the system in which each interpreter has one of its own, with their prefix, and whether a
/// distribution's manager fills them too.
const SYSTEM: [(&str, &str, bool); 4] = [
    ("/usr/local/lib", "/usr/local", false),
    ("/usr/local/lib64", "/usr/local", false),
    ("/usr/lib", "/usr", true),
    ("/usr/lib64", "/usr", true),
];

/// The system's folders of modules, in the order in which interpreters search them.
pub fn of_system(root: &Root) -> Vec<Place> {
    let mut found: Vec<Place> = Vec::new();
    for (library, prefix, shared) in SYSTEM {
        let library = root.settle_folder(library.as_bytes());
        for python in pythons_in(root, &library) {
            for name in [&b"dist-packages"[..], b"site-packages"] {
                let folder = root.settle_folder(&path::join(&path::join(&library, &python), name));
                let is_known = found.iter().any(|place| place.location == folder);
                if !is_known && is_folder(root, &folder) {
                    found.push(in_folder(Scope::System, folder, prefix.into(), &python, shared));
                }
            }
        }
    }
    found
}

/// A person's own folders of modules, one for each minor version.
pub fn of_person(scene: &Scene, person: &Person) -> Vec<Place> {
    let prefix = scene.folder_of(person, "PYTHONUSERBASE", ".local");
    let mut found: Vec<Place> = Vec::new();
    for library in [&b"lib"[..], b"lib64"] {
        let library = scene.root.settle_folder(&path::join(&prefix, library));
        for python in pythons_in(&scene.root, &library) {
            let folder = scene.root.settle_folder(&path::join(&path::join(&library, &python), b"site-packages"));
            if is_folder(&scene.root, &folder) && !found.iter().any(|place| place.location == folder) {
                let scope = Scope::User(person.name.clone());
                found.push(in_folder(scope, folder, prefix.clone(), &python, false));
            }
        }
    }
    found
}

fn in_folder(scope: Scope, folder: Text, prefix: Text, python: &[u8], shared: bool) -> Place {
    let python = python.strip_prefix(b"python").filter(|version| version.contains(&b'.')).map(Text::from);
    Place { scope, location: folder.clone(), folders: vec![folder], prefix, python, shared }
}

/// `python3`, `python3.11` … in a library folder, the newest first.
fn pythons_in(root: &Root, library: &Text) -> Vec<Text> {
    let Ok(names) = root.folder(library).and_then(|folder| folder.list()) else { return Vec::new() };
    let mut pythons: Vec<Text> = names
        .into_iter()
        .filter(|(name, kind)| {
            *kind != Kind::File
                && name.strip_prefix(b"python").is_some_and(|rest| rest.first().is_some_and(u8::is_ascii_digit))
        })
        .map(|(name, _)| name)
        .collect();
    pythons.sort_by(|a, b| crate::version::tokens::compare(b, a));
    pythons
}

/// How far below a home or another start environments are looked for.
const DEEP: usize = 4;
/// As many folders are looked into; a home with more is said to be looked through in part.
const MOST_FOLDERS: usize = 30_000;

/// Folders in which nobody keeps environments, and which can be very large.
const PASSED_OVER: [&str; 16] = [
    "node_modules",
    ".git",
    ".cache",
    ".cargo",
    ".rustup",
    ".npm",
    ".nvm",
    ".sdkman",
    ".m2",
    ".gradle",
    ".steam",
    ".var",
    "snap",
    "__pycache__",
    ".mozilla",
    "Trash",
];

/// Known places whose every folder can be an environment, below a home; a variable can move the first ones.
const KEPT: [(&str, &str); 8] = [
    ("PIPX_HOME", ".local/share/pipx"),
    ("", ".local/pipx"),
    ("UV_TOOL_DIR", ".local/share/uv/tools"),
    ("WORKON_HOME", ".virtualenvs"),
    ("", ".local/share/virtualenvs"),
    ("", ".cache/pypoetry/virtualenvs"),
    ("", ".local/share/hatch/env/virtual"),
    ("", ".conda/envs"),
];

/// The environments of a person: in known places, in the home some folders deep, and behind the links in the
/// folders of programs.
pub fn environments_of(scene: &Scene, person: &Person) -> Vec<Text> {
    let root = &scene.root;
    let home = root.settle_folder(&person.home);
    let mut found = Vec::new();
    for (variable, below) in KEPT {
        let folder = scene.folder_of(person, variable, below);
        let folder = if below.ends_with("pipx") { path::join(&folder, b"venvs") } else { folder };
        each_in(root, &folder, &mut found);
    }
    for version in kept::versions_of(scene, person, kept::Language::Python) {
        each_in(root, &path::join(&version, b"envs"), &mut found);
        found.push(version);
    }
    let listed = root.read(&path::join(&home, b".conda/environments.txt"), Limit::SMALL).unwrap_or_default();
    let listed = listed.split(|&b| b == b'\n').map(<[u8]>::trim_ascii).filter(|line| line.starts_with(b"/"));
    found.extend(listed.map(|line| root.settle_folder(line)));
    if home.len() > 1 {
        let mut left = MOST_FOLDERS;
        look(root, &home, DEEP, &mut left, &mut found);
        if left == 0 {
            root.note_gap(
                &home,
                format!("more than {MOST_FOLDERS} folders; virtual environments were not looked for in the rest"),
            );
        }
    }
    found.extend(behind_links(root, &[path::join(&home, b".local/bin"), path::join(&home, b"bin")]));
    found
}

/// The environments that are nobody's own.
pub fn environments_of_system(scene: &Scene) -> Vec<Text> {
    let mut found = Vec::new();
    each_in(&scene.root, &"/opt/pipx/venvs".into(), &mut found);
    for start in ["/opt", "/srv"] {
        let start = scene.root.settle_folder(start.as_bytes());
        look(&scene.root, &start, 3, &mut MOST_FOLDERS.clone(), &mut found);
    }
    found.extend(behind_links(&scene.root, &["/usr/local/bin".into()]));
    found
}

fn each_in(root: &Root, folder: &Text, found: &mut Vec<Text>) {
    let Ok(names) = root.folder(folder).and_then(|folder| folder.list()) else { return };
    let inside = names.into_iter().filter(|(_, kind)| *kind != Kind::File);
    found.extend(inside.map(|(name, _)| root.settle_folder(&path::join(folder, &name))));
}

/// Environments below a folder. One inside another environment is not looked for.
fn look(root: &Root, folder: &Text, depth: usize, left: &mut usize, found: &mut Vec<Text>) {
    if *left == 0 {
        return;
    }
    *left -= 1;
    let Ok(names) = root.folder(folder).and_then(|folder| folder.list()) else { return };
    if names.iter().any(|(name, kind)| {
        (*kind == Kind::File && **name == *b"pyvenv.cfg") || (*kind == Kind::Folder && **name == *b"conda-meta")
    }) {
        found.push(folder.clone());
        // A conda installation keeps its environments in itself.
        each_in(root, &path::join(folder, b"envs"), found);
        return;
    }
    if depth == 0 {
        return;
    }
    for (name, _) in names.iter().filter(|(_, kind)| *kind == Kind::Folder) {
        if !PASSED_OVER.iter().any(|passed| passed.as_bytes() == &**name) {
            look(root, &path::join(folder, name), depth - 1, left, found);
        }
    }
}

/// The environments into which links in folders of programs lead.
fn behind_links(root: &Root, folders: &[Text]) -> Vec<Text> {
    let mut found = Vec::new();
    for folder in folders {
        let Ok(names) = root.folder(folder).and_then(|folder| folder.list()) else { continue };
        for (name, _) in names.iter().filter(|(_, kind)| *kind == Kind::Link) {
            let target = root.settle_folder(&path::join(folder, name));
            if let Some(environment) = path::folder(&target).strip_suffix(b"/bin")
                && root.entry(&path::join(environment, b"pyvenv.cfg")).is_ok()
            {
                found.push(environment.into());
            }
        }
    }
    found
}

/// The environment or interpreter around a settled path, within `border`.
pub fn around(root: &Root, settled: &[u8], border: &[u8]) -> Option<Place> {
    const INSIDE: [&[u8]; 7] = [b"bin", b"lib", b"lib64", b"share", b"include", b"etc", b"man"];
    let mut below = path::name(settled);
    let mut at = path::folder(settled);
    while at.len() > border.len().max(1) && path::within(at, border) {
        let is_inside = INSIDE.contains(&below);
        if is_inside && let Some(place) = Place::environment(root, &at.into()) {
            return Some(place);
        }
        (below, at) = (path::name(at), path::folder(at));
    }
    None
}
