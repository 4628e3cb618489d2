//! Where an interpreter of Python looks for modules, in order (Python's documentation, "The initialization of the
//! `sys.path` module search path", `site`): `PYTHONPATH`, its own library, the user's directory, the site directories,
//! and what `.pth` files in those add.
//!
//! Traps: a line of a `.pth` file that begins with `import` is run by the interpreter, and is not here; a `python3 -s`,
//! `-I` or `-E` in a script's first line leaves directories out; on Debian the site directories are called
//! `dist-packages`.

use std::collections::BTreeMap;

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::host::{Host, User};
use crate::model::Evidence;
use whodunit_formats::pyvenv::Pyvenv;
use whodunit_formats::shebang::Shebang;

/// One directory in which modules are looked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ModuleDir {
    /// The directory.
    pub dir: ByteString,
    /// Why it is looked into.
    pub because: Evidence,
    /// Whether it is the user's own, which some options leave out.
    pub is_users: bool,
    /// Whether it comes from the environment.
    pub is_inherited: bool,
}

/// A module that a name reaches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Module {
    /// Its file, or `__init__.py` of its directory.
    pub file: ByteString,
    /// Which of the directories reaches it, from 0.
    pub dir: usize,
}

/// The interpreters of the system: `/usr/bin/python3.11` and the like, and their versions.
#[must_use]
pub fn interpreters(root: &Root) -> Vec<(ByteString, String)> {
    let names = root.names_in(b"/usr/bin");
    let version = |name: &[u8]| {
        let version = name.strip_prefix(b"python3.")?;
        let is_number = !version.is_empty() && version.iter().all(u8::is_ascii_digit);
        is_number.then(|| format!("3.{}", String::from_utf8_lossy(version)))
    };
    names.into_iter().filter_map(|(name, _)| Some((path::join(b"/usr/bin", &name), version(&name)?))).collect()
}

/// The directories of an interpreter, as a user starts it; `python_path` is the variable that it is given.
#[must_use]
pub fn dirs(
    host: &Host,
    interpreter: &ByteString,
    version: &str,
    user: &User,
    python_path: Option<(&[u8], Evidence)>,
) -> Vec<ModuleDir> {
    let root = &host.root;
    let mut found: Vec<ModuleDir> = Vec::new();
    let mut add = |dir: ByteString, because: Evidence, is_users: bool, is_inherited: bool| {
        if !found.iter().any(|known| known.dir == dir) {
            found.push(ModuleDir { dir, because, is_users, is_inherited });
        }
    };
    let own = |what: &str| Evidence::compiled_in(interpreter.clone(), what.to_owned());
    if let Some((list, because)) = python_path.filter(|(list, _)| !list.is_empty()) {
        for part in list.split(|&b| b == b':') {
            add(path::absolute(part, &host.env.dir), because.clone(), false, true);
        }
    }
    let settings = environment(root, interpreter);
    let (prefix, base) = match &settings {
        Some((dir, read)) => {
            let home = read.home.clone().unwrap_or_else(|| "/usr/bin".into());
            (dir.clone(), ByteString::from(path::parent(&home)))
        }
        None => {
            let prefix = ByteString::from(path::parent(path::parent(interpreter)));
            (prefix.clone(), prefix)
        }
    };
    let library = path::join(&base, format!("lib/python{version}").as_bytes());
    let zip = format!("lib/python{}.zip", version.replace('.', ""));
    add(path::join(&base, zip.as_bytes()), own("its library, packed"), false, false);
    add(library.clone(), own("its library"), false, false);
    add(path::join(&library, b"lib-dynload"), own("its library's own binaries"), false, false);
    let sees_system = settings.as_ref().is_none_or(|(_, read)| read.sees_system);
    let mut sites: Vec<(ByteString, Evidence, bool)> = Vec::new();
    if let Some((dir, _)) = &settings {
        let because = Evidence::whole(path::join(dir, b"pyvenv.cfg"), "makes it a virtual environment");
        sites.push((path::join(dir, format!("lib/python{version}/site-packages").as_bytes()), because, false));
    }
    if sees_system {
        let user = host.user_dir(user, "PYTHONUSERBASE", ".local");
        let user = path::join(&user, format!("lib/python{version}/site-packages").as_bytes());
        sites.push((user, own("the user's own directory comes before the system's"), true));
        let is_systems = *base == *b"/usr";
        let names: Vec<ByteString> = match is_systems && super::contexts::is_like(host, b"debian") {
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
        sites.extend(names.into_iter().map(|dir| (dir, own("a system directory"), false)));
    }
    for (site, because, is_users) in sites {
        if root.target(&site).is_ok_and(|meta| meta.kind == Kind::Dir) {
            add(site.clone(), because, is_users, false);
            for (dir, because) in added(root, &site) {
                add(dir, because, is_users, false);
            }
        }
    }
    found
}

/// The environment around an interpreter: `pyvenv.cfg` beside it or one directory up.
fn environment(root: &Root, interpreter: &[u8]) -> Option<(ByteString, Pyvenv)> {
    let beside = path::parent(interpreter);
    [beside, path::parent(beside)].into_iter().find_map(|dir| {
        let content = root.read(&path::join(dir, b"pyvenv.cfg"), Limit::SMALL).ok()?;
        Some((dir.into(), Pyvenv::parse(&content)))
    })
}

/// The directories that `.pth` files of a site directory add, in the order of the files' names.
fn added(root: &Root, site: &ByteString) -> Vec<(ByteString, Evidence)> {
    let names = root.names_in(site);
    let mut names: Vec<ByteString> = names
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
            let dir = path::absolute(text, site);
            if root.target(&dir).is_ok() {
                found.push((dir, Evidence::line(file.clone(), line, "adds it")));
            }
        }
    }
    found
}

/// Every top-level name that several of the directories have, with its modules in the order in which they are found. A
/// directory without `__init__.py` only counts where no other one has the name, so it hides nothing.
#[must_use]
pub fn ambiguous(root: &Root, dirs: &[ModuleDir]) -> BTreeMap<ByteString, Vec<Module>> {
    let mut found = all(root, dirs);
    found.retain(|_, modules| modules.len() > 1);
    found
}

/// Every top-level name that the directories have, with its modules in the order in which they are found.
#[must_use]
pub fn all(root: &Root, dirs: &[ModuleDir]) -> BTreeMap<ByteString, Vec<Module>> {
    let mut found: BTreeMap<ByteString, Vec<Module>> = BTreeMap::new();
    for (number, one) in dirs.iter().enumerate() {
        let names = root.names_in(&one.dir);
        let mut of_dir: BTreeMap<ByteString, (u8, ByteString)> = BTreeMap::new();
        for (name, kind) in names {
            let at = path::join(&one.dir, &name);
            let (stem, rank, file) = if kind == Kind::File || kind == Kind::Link && name.contains(&b'.') {
                let is_binary = name.ends_with(b".so");
                let Some(dot) = memchr::memchr(b'.', &name) else { continue };
                if !is_binary && !name.ends_with(b".py") {
                    continue;
                }
                (ByteString::from(&name[..dot]), if is_binary { 1 } else { 2 }, at)
            } else {
                (name.clone(), 0, path::join(&at, b"__init__.py"))
            };
            if !whodunit_shell::syntax::is_name(&stem) || *stem == *b"__pycache__" {
                continue;
            }
            if rank == 0 && root.target(&file).is_err() {
                continue;
            }
            let known = of_dir.entry(stem).or_insert_with(|| (rank, file.clone()));
            if rank < known.0 {
                *known = (rank, file);
            }
        }
        for (stem, (_, file)) in of_dir {
            found.entry(stem).or_default().push(Module { file, dir: number });
        }
    }
    found
}

/// Whether a script's first line lets its interpreter see a directory.
#[must_use]
pub fn sees(shebang: &Shebang<'_>, dir: &ModuleDir) -> bool {
    let options =
        shebang.argument.split(|b| *b == b' ').filter(|word| word.starts_with(b"-") && !word.starts_with(b"--"));
    let has = |letter: u8| options.clone().any(|word| word.contains(&letter));
    let isolated = has(b'I');
    !(dir.is_users && (isolated || has(b's'))) && !(dir.is_inherited && (isolated || has(b'E')))
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
