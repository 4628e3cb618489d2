//! Where an interpreter of Python looks for modules, in order (Python's documentation, "The initialization of the `sys.path`
//! module search path", `site`): `PYTHONPATH`, its own library, the person's folder, the site folders, and what `.pth` files
//! in those add.
//!
//! Traps: a line of a `.pth` file that begins with `import` is run by the interpreter, and is not here; a `python3 -s`,
//! `-I` or `-E` in a script's first line leaves folders out; on Debian the site folders are called `dist-packages`.

use std::collections::BTreeMap;

use crate::formats::pyvenv::Pyvenv;
use crate::formats::shebang::Shebang;
use crate::model::Evidence;
use crate::root::{Kind, Limit, Root};
use crate::scene::{Person, Scene};
use crate::text::{Text, path};

/// One folder in which modules are looked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ModuleFolder {
    /// The folder.
    pub folder: Text,
    /// Why it is looked into.
    pub because: Evidence,
    /// Whether it is the person's own, which some options leave out.
    pub is_users: bool,
    /// Whether it comes from the environment.
    pub is_inherited: bool,
}

/// A module that a name reaches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Module {
    /// Its file, or `__init__.py` of its folder.
    pub file: Text,
    /// Which of the folders reaches it, from 0.
    pub folder: usize,
}

/// The interpreters of the system: `/usr/bin/python3.11` and the like, and their versions.
#[must_use]
pub fn interpreters(root: &Root) -> Vec<(Text, String)> {
    let names = root.folder(b"/usr/bin").and_then(|folder| folder.list()).unwrap_or_default();
    let version = |name: &[u8]| {
        let version = name.strip_prefix(b"python3.")?;
        let is_number = !version.is_empty() && version.iter().all(u8::is_ascii_digit);
        is_number.then(|| format!("3.{}", String::from_utf8_lossy(version)))
    };
    names.into_iter().filter_map(|(name, _)| Some((path::join(b"/usr/bin", &name), version(&name)?))).collect()
}

/// The folders of an interpreter, as a person starts it; `python_path` is the variable that it is given.
#[must_use]
pub fn folders(
    scene: &Scene,
    interpreter: &Text,
    version: &str,
    person: &Person,
    python_path: Option<(&[u8], Evidence)>,
) -> Vec<ModuleFolder> {
    let root = &scene.root;
    let mut found: Vec<ModuleFolder> = Vec::new();
    let mut add = |folder: Text, because: Evidence, is_users: bool, is_inherited: bool| {
        if !found.iter().any(|known| known.folder == folder) {
            found.push(ModuleFolder { folder, because, is_users, is_inherited });
        }
    };
    let own = |what: &str| Evidence::at(interpreter.clone(), "compiled in", what.to_owned());
    if let Some((list, because)) = python_path.filter(|(list, _)| !list.is_empty()) {
        for part in list.split(|&b| b == b':') {
            add(path::absolute(part, &scene.here.folder), because.clone(), false, true);
        }
    }
    let settings = environment(root, interpreter);
    let (prefix, base) = match &settings {
        Some((folder, read)) => {
            let home = read.home.clone().unwrap_or_else(|| "/usr/bin".into());
            (folder.clone(), Text::from(path::folder(&home)))
        }
        None => {
            let prefix = Text::from(path::folder(path::folder(interpreter)));
            (prefix.clone(), prefix)
        }
    };
    let library = path::join(&base, format!("lib/python{version}").as_bytes());
    let zip = format!("lib/python{}.zip", version.replace('.', ""));
    add(path::join(&base, zip.as_bytes()), own("its library, packed"), false, false);
    add(library.clone(), own("its library"), false, false);
    add(path::join(&library, b"lib-dynload"), own("its library's own binaries"), false, false);
    let sees_system = settings.as_ref().is_none_or(|(_, read)| read.sees_system);
    let mut sites: Vec<(Text, Evidence, bool)> = Vec::new();
    if let Some((folder, _)) = &settings {
        let because = Evidence::at(path::join(folder, b"pyvenv.cfg"), "whole file", "makes it an environment");
        sites.push((path::join(folder, format!("lib/python{version}/site-packages").as_bytes()), because, false));
    }
    if sees_system {
        let user = scene.folder_of(person, "PYTHONUSERBASE", ".local");
        let user = path::join(&user, format!("lib/python{version}/site-packages").as_bytes());
        sites.push((user, own("the person's own folder comes before the system's"), true));
        let is_systems = *base == *b"/usr";
        let names: Vec<Text> = match is_systems && super::contexts::is_like(scene, b"debian") {
            true => vec![
                format!("/usr/local/lib/python{version}/dist-packages").into(),
                "/usr/lib/python3/dist-packages".into(),
                format!("/usr/lib/python{version}/dist-packages").into(),
            ],
            false => {
                let below =
                    [format!("lib64/python{version}/site-packages"), format!("lib/python{version}/site-packages")];
                let at_prefix = below.iter().map(|name| path::join(&prefix, name.as_bytes()));
                let local = below.iter().map(|name| path::join(b"/usr/local", name.as_bytes()));
                local.filter(|_| is_systems).chain(at_prefix).collect()
            }
        };
        sites.extend(names.into_iter().map(|folder| (folder, own("a folder of the system's"), false)));
    }
    for (site, because, is_users) in sites {
        if root.target(&site).is_ok_and(|meta| meta.kind == Kind::Folder) {
            add(site.clone(), because, is_users, false);
            for (folder, because) in added(root, &site) {
                add(folder, because, is_users, false);
            }
        }
    }
    found
}

/// The environment around an interpreter: `pyvenv.cfg` beside it or one folder up.
fn environment(root: &Root, interpreter: &[u8]) -> Option<(Text, Pyvenv)> {
    let beside = path::folder(interpreter);
    [beside, path::folder(beside)].into_iter().find_map(|folder| {
        let content = root.read(&path::join(folder, b"pyvenv.cfg"), Limit::SMALL).ok()?;
        Some((folder.into(), Pyvenv::parse(&content)))
    })
}

/// The folders that `.pth` files of a site folder add, in the order of the files' names.
fn added(root: &Root, site: &Text) -> Vec<(Text, Evidence)> {
    let names = root.folder(site).and_then(|folder| folder.list()).unwrap_or_default();
    let mut names: Vec<Text> = names
        .into_iter()
        .map(|(name, _)| name)
        .filter(|name| name.ends_with(b".pth") && !name.starts_with(b"."))
        .collect();
    names.sort();
    let mut found = Vec::new();
    for name in names {
        let file = path::join(site, &name);
        let content = root.read(&file, Limit::SMALL).unwrap_or_default();
        for (line, text) in (1..).zip(content.split(|&b| b == b'\n')) {
            let text = text.trim_ascii_end();
            if text.is_empty()
                || text.starts_with(b"#")
                || text.starts_with(b"import ")
                || text.starts_with(b"import\t")
            {
                continue;
            }
            let folder = path::absolute(text, site);
            if root.target(&folder).is_ok() {
                found.push((folder, Evidence::line(file.clone(), line, "adds it")));
            }
        }
    }
    found
}

/// Every top-level name that several of the folders have, with its modules in the order in which they are found. A folder
/// without `__init__.py` only counts where no other one has the name, so it hides nothing.
#[must_use]
pub fn crowded(root: &Root, folders: &[ModuleFolder]) -> BTreeMap<Text, Vec<Module>> {
    let mut found = all(root, folders);
    found.retain(|_, modules| modules.len() > 1);
    found
}

/// Every top-level name that the folders have, with its modules in the order in which they are found.
#[must_use]
pub fn all(root: &Root, folders: &[ModuleFolder]) -> BTreeMap<Text, Vec<Module>> {
    let mut found: BTreeMap<Text, Vec<Module>> = BTreeMap::new();
    for (number, one) in folders.iter().enumerate() {
        let names = root.folder(&one.folder).and_then(|folder| folder.list()).unwrap_or_default();
        let mut of_folder: BTreeMap<Text, (u8, Text)> = BTreeMap::new();
        for (name, kind) in names {
            let at = path::join(&one.folder, &name);
            let (stem, rank, file) = if kind == Kind::File || kind == Kind::Link && name.contains(&b'.') {
                let is_binary = name.ends_with(b".so");
                let Some(dot) = memchr::memchr(b'.', &name) else { continue };
                if !is_binary && !name.ends_with(b".py") {
                    continue;
                }
                (Text::from(&name[..dot]), if is_binary { 1 } else { 2 }, at)
            } else {
                (name.clone(), 0, path::join(&at, b"__init__.py"))
            };
            if !crate::formats::shell::is_name(&stem) || *stem == *b"__pycache__" {
                continue;
            }
            if rank == 0 && root.target(&file).is_err() {
                continue;
            }
            let known = of_folder.entry(stem).or_insert_with(|| (rank, file.clone()));
            if rank < known.0 {
                *known = (rank, file);
            }
        }
        for (stem, (_, file)) in of_folder {
            found.entry(stem).or_default().push(Module { file, folder: number });
        }
    }
    found
}

/// Whether a script's first line lets its interpreter see a folder.
#[must_use]
pub fn sees(shebang: &Shebang<'_>, folder: &ModuleFolder) -> bool {
    let options =
        shebang.argument.split(|b| *b == b' ').filter(|word| word.starts_with(b"-") && !word.starts_with(b"--"));
    let has = |letter: u8| options.clone().any(|word| word.contains(&letter));
    let isolated = has(b'I');
    !(folder.is_users && (isolated || has(b's'))) && !(folder.is_inherited && (isolated || has(b'E')))
}

/// Whether a script's text takes in a module at its top level or anywhere else.
#[must_use]
pub fn imports(text: &[u8], module: &[u8]) -> bool {
    text.split(|&b| b == b'\n').any(|line| {
        let line = line.trim_ascii();
        let rest = line.strip_prefix(b"from ").or_else(|| line.strip_prefix(b"import "));
        rest.is_some_and(|rest| {
            rest.split(|&b| b == b',').any(|one| {
                let one = one.trim_ascii();
                let end = one.iter().position(|b| !(b.is_ascii_alphanumeric() || *b == b'_')).unwrap_or(one.len());
                one[..end] == *module
            })
        })
    })
}
