//! Where Python's packages can be: the directories of the system's interpreters, those of users, and
//! environments, wherever they lie.

use super::site::{Place, is_dir};
use crate::backend::version_dirs;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::host::{Host, User};
use crate::model::Scope;

/// Directories of the system in which each interpreter has one of its own, with their prefix, and whether a
/// distribution's manager fills them too.
const SYSTEM: [(&str, &str, bool); 4] = [
    ("/usr/local/lib", "/usr/local", false),
    ("/usr/local/lib64", "/usr/local", false),
    ("/usr/lib", "/usr", true),
    ("/usr/lib64", "/usr", true),
];

/// The system's directories of modules, in the order in which interpreters search them.
pub fn of_system(root: &Root) -> Vec<Place> {
    let mut found: Vec<Place> = Vec::new();
    for (library, prefix, shared) in SYSTEM {
        let library = root.canonicalize_dir(library.as_bytes());
        for python in pythons_in(root, &library) {
            for name in [&b"dist-packages"[..], b"site-packages"] {
                let dir = root.canonicalize_dir(&path::join(&path::join(&library, &python), name));
                let is_known = found.iter().any(|place| place.location == dir);
                if !is_known && is_dir(root, &dir) {
                    found.push(in_dir(Scope::System, dir, prefix.into(), &python, shared));
                }
            }
        }
    }
    found
}

/// A user's own directories of modules, one for each minor version.
pub fn of_user(host: &Host, user: &User) -> Vec<Place> {
    let prefix = host.user_dir(user, "PYTHONUSERBASE", ".local");
    let mut found: Vec<Place> = Vec::new();
    for library in [&b"lib"[..], b"lib64"] {
        let library = host.root.canonicalize_dir(&path::join(&prefix, library));
        for python in pythons_in(&host.root, &library) {
            let dir = host.root.canonicalize_dir(&path::join(&path::join(&library, &python), b"site-packages"));
            if is_dir(&host.root, &dir) && !found.iter().any(|place| place.location == dir) {
                let scope = Scope::User(user.name.clone());
                found.push(in_dir(scope, dir, prefix.clone(), &python, false));
            }
        }
    }
    found
}

fn in_dir(scope: Scope, dir: ByteString, prefix: ByteString, python: &[u8], shared: bool) -> Place {
    let python = python.strip_prefix(b"python").filter(|version| version.contains(&b'.')).map(ByteString::from);
    Place { scope, location: dir.clone(), dirs: vec![dir], prefix, python, shared }
}

/// `python3`, `python3.11` … in a library directory, the newest first.
fn pythons_in(root: &Root, library: &ByteString) -> Vec<ByteString> {
    let Ok(names) = root.dir(library).and_then(|dir| dir.list()) else { return Vec::new() };
    let mut pythons: Vec<ByteString> = names
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
/// The most directories that are searched; a home with more is reported as searched in part.
const MAX_DIRS: usize = 30_000;

/// Directories in which nobody keeps environments, and which can be very large.
const SKIPPED: [&str; 16] = [
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

/// Known places whose every directory, or every one so many deeper, can be an environment, below a home; a variable can
/// move some of them.
const KEPT: [(&str, &str, usize); 11] = [
    ("PIPX_HOME", ".local/share/pipx", 1),
    ("", ".local/pipx", 1),
    ("UV_TOOL_DIR", ".local/share/uv/tools", 1),
    ("WORKON_HOME", ".virtualenvs", 1),
    ("", ".local/share/virtualenvs", 1),
    ("", ".cache/pypoetry/virtualenvs", 1),
    // By project, the digest of where that lies, and name.
    ("", ".local/share/hatch/env/virtual", 3),
    ("", ".local/share/pdm/venvs", 1),
    ("", ".conda/envs", 1),
    ("", ".local/share/mamba/envs", 1),
    ("", ".pixi/envs", 1),
];

/// The environments of a user: in known places, in the home some directories deep, and behind the links in the
/// directories of programs.
pub fn environments_of(host: &Host, user: &User) -> Vec<ByteString> {
    let root = &host.root;
    let home = root.canonicalize_dir(&user.home);
    let mut found = Vec::new();
    for (variable, below, depth) in KEPT {
        let dir = host.user_dir(user, variable, below);
        let dir = if below.ends_with("pipx") { path::join(&dir, b"venvs") } else { dir };
        each_below(root, dir, depth, &mut found);
    }
    for version in version_dirs::versions_of(host, user, version_dirs::Language::Python) {
        each_in(root, &path::join(&version, b"envs"), &mut found);
        found.push(version);
    }
    let listed = root.read(&path::join(&home, b".conda/environments.txt"), Limit::SMALL).unwrap_or_default();
    let listed = listed.split(|&b| b == b'\n').map(<[u8]>::trim_ascii).filter(|line| line.starts_with(b"/"));
    found.extend(listed.map(|line| root.canonicalize_dir(line)));
    if home.len() > 1 {
        let mut left = MAX_DIRS;
        look(root, &home, DEEP, &mut left, &mut found);
        if left == 0 {
            root.note_gap(
                &home,
                format!("more than {MAX_DIRS} directories; virtual environments were not looked for in the rest"),
            );
        }
    }
    found.extend(behind_links(root, &[path::join(&home, b".local/bin"), path::join(&home, b"bin")]));
    found
}

/// The environments that are nobody's own.
pub fn environments_of_system(host: &Host) -> Vec<ByteString> {
    let mut found = Vec::new();
    each_in(&host.root, &"/opt/pipx/venvs".into(), &mut found);
    for start in ["/opt", "/srv"] {
        let start = host.root.canonicalize_dir(start.as_bytes());
        look(&host.root, &start, 3, &mut MAX_DIRS.clone(), &mut found);
    }
    found.extend(behind_links(&host.root, &["/usr/local/bin".into()]));
    found
}

fn each_in(root: &Root, dir: &ByteString, found: &mut Vec<ByteString>) {
    let Ok(names) = root.dir(dir).and_then(|dir| dir.list()) else { return };
    let inside = names.into_iter().filter(|(_, kind)| *kind != Kind::File);
    found.extend(inside.map(|(name, _)| root.canonicalize_dir(&path::join(dir, &name))));
}

/// What lies so many directories below one; 1 is what lies in it.
fn each_below(root: &Root, dir: ByteString, depth: usize, found: &mut Vec<ByteString>) {
    let mut dirs = vec![dir];
    for _ in 1..depth {
        let mut inside = Vec::new();
        dirs.iter().for_each(|dir| each_in(root, dir, &mut inside));
        dirs = inside;
    }
    dirs.iter().for_each(|dir| each_in(root, dir, found));
}

/// Environments below a directory. One inside another environment is not looked for.
fn look(root: &Root, dir: &ByteString, depth: usize, left: &mut usize, found: &mut Vec<ByteString>) {
    if *left == 0 {
        return;
    }
    *left -= 1;
    let Ok(names) = root.dir(dir).and_then(|dir| dir.list()) else { return };
    if names.iter().any(|(name, kind)| {
        (*kind == Kind::File && **name == *b"pyvenv.cfg") || (*kind == Kind::Dir && **name == *b"conda-meta")
    }) {
        found.push(dir.clone());
        // A conda installation keeps its environments in itself.
        each_in(root, &path::join(dir, b"envs"), found);
        return;
    }
    if depth == 0 {
        return;
    }
    for (name, _) in names.iter().filter(|(_, kind)| *kind == Kind::Dir) {
        if !SKIPPED.iter().any(|passed| passed.as_bytes() == &**name) {
            look(root, &path::join(dir, name), depth - 1, left, found);
        }
    }
}

/// The environments into which links in directories of programs lead.
fn behind_links(root: &Root, dirs: &[ByteString]) -> Vec<ByteString> {
    let mut found = Vec::new();
    for dir in dirs {
        let Ok(names) = root.dir(dir).and_then(|dir| dir.list()) else { continue };
        for (name, _) in names.iter().filter(|(_, kind)| *kind == Kind::Link) {
            let target = root.canonicalize_dir(&path::join(dir, name));
            if let Some(environment) = path::parent(&target).strip_suffix(b"/bin")
                && root.entry(&path::join(environment, b"pyvenv.cfg")).is_ok()
            {
                found.push(environment.into());
            }
        }
    }
    found
}

/// The environment or interpreter around a canonical path, within `border`.
pub fn around(root: &Root, canonical: &[u8], border: &[u8]) -> Option<Place> {
    const INSIDE: [&[u8]; 7] = [b"bin", b"lib", b"lib64", b"share", b"include", b"etc", b"man"];
    let mut below = path::name(canonical);
    let mut at = path::parent(canonical);
    while at.len() > border.len().max(1) && path::within(at, border) {
        let is_inside = INSIDE.contains(&below);
        if is_inside && let Some(place) = Place::environment(root, &at.into()) {
            return Some(place);
        }
        (below, at) = (path::name(at), path::parent(at));
    }
    None
}
