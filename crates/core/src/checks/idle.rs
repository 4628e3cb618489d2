//! Environments that nothing here starts, and interpreters of version managers that no project selects.
//!
//! Neither is proof: what a user types by its path, or keeps for later, is in no file. So both are told as probable, and
//! nothing that anything found here names is told at all.

use std::cell::OnceCell;

use hashbrown::HashSet;

use super::CheckContext;
use crate::backend::jobs::own_units;
use crate::backend::{Detail, Environment};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::host::User;
use crate::managers;
use crate::model::{Evidence, Finding, FindingKind, ManagerKind, Package, Scope, Severity};
use crate::resolve::Resolution;

/// Files beside an environment by which a project is known: whoever works there uses it.
const PROJECT_FILES: [&str; 10] = [
    ".git",
    "pyproject.toml",
    "setup.py",
    "setup.cfg",
    "requirements.txt",
    "Pipfile",
    "tox.ini",
    "noxfile.py",
    "environment.yml",
    ".envrc",
];

/// Directories below a home whose tools find an environment by a name that they compute.
const COMPUTED: [&str; 3] = [".cache", ".local/share/hatch", ".local/share/uv"];

/// Files of a user's in which a program can be named by its path.
const START_UP: [&str; 10] = [
    ".profile",
    ".bash_profile",
    ".bash_login",
    ".bashrc",
    ".bash_aliases",
    ".zshenv",
    ".zprofile",
    ".zshrc",
    ".config/fish/config.fish",
    ".envrc",
];

/// Directories of files in which a program can be named by its path.
const NAMING: [&str; 7] = [
    ".local/bin",
    "bin",
    ".local/share/applications",
    ".config/autostart",
    ".config/fish/conf.d",
    ".config/environment.d",
    ".shortcuts",
];

/// The same of the whole machine.
const NAMING_ALL: [&str; 7] = [
    "/usr/local/bin",
    "/usr/local/sbin",
    "/usr/local/share/applications",
    "/etc/systemd/system",
    "/etc/systemd/user",
    "/etc/cron.d",
    "/var/spool/cron/crontabs",
];

/// As much of a file as is looked through.
const MAX_START: usize = 64 << 10;
/// The most directories of one home that are searched for projects; in a larger one nothing is said of versions.
const MAX_DIRS: usize = 200_000;

/// A user's home, and what is read there once, and only if something may be idle.
struct Home<'h> {
    root: &'h Root,
    user: &'h User,
    naming: OnceCell<Vec<u8>>,
    selections: OnceCell<Option<Vec<Selection>>>,
}

/// The languages that a file can be about, and what it says.
type Selection = (&'static [&'static str], Vec<u8>);

impl<'h> Home<'h> {
    fn new(root: &'h Root, user: &'h User) -> Self {
        Home { root, user, naming: OnceCell::new(), selections: OnceCell::new() }
    }

    /// Whether anything that can name a program by its path names something in this directory.
    fn names(&self, dir: &[u8]) -> bool {
        let text = self.naming.get_or_init(|| naming(self.root, self.user));
        memchr::memmem::find(text, &[dir, b"/"].concat()).is_some()
    }

    /// What the files below it say that select versions; none where not all of it could be searched.
    fn selections(&self) -> Option<&[Selection]> {
        self.selections.get_or_init(|| selections(self.root, &self.user.home)).as_deref()
    }
}

/// `unreached-environment` and `unused-interpreter`.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let all: Vec<Environment> = cx.survey.environments().collect();
    let bases = bases(cx.survey.root(), &all);
    let mut found = Vec::new();
    for user in &cx.survey.host.users {
        let home = Home::new(cx.survey.root(), user);
        found.extend(environments(cx, &home, &all));
        found.extend(interpreters(cx, &home, &bases));
    }
    found
}

/// Everything of a user's, and of the machine's, that can name a program by its path.
fn naming(root: &Root, user: &User) -> Vec<u8> {
    let mut files: Vec<ByteString> = START_UP.iter().map(|file| path::join(&user.home, file.as_bytes())).collect();
    let mut text = Vec::new();
    let everyones = NAMING_ALL.iter().map(|dir| ByteString::from(*dir));
    let own = NAMING.iter().map(|dir| path::join(&user.home, dir.as_bytes()));
    for dir in everyones.chain(own).chain(own_units(user)) {
        for (name, kind) in root.names_in(&dir) {
            let file = path::join(&dir, &name);
            match kind {
                Kind::File => files.push(file),
                Kind::Link => Resolution::links(root, &file).paths().for_each(|step| {
                    text.extend([&step[..], b"\n"].concat());
                }),
                _ => {}
            }
        }
    }
    for file in files {
        text.extend(root.read_start(&file, MAX_START).unwrap_or_default());
        text.push(b'\n');
    }
    text
}

/// Environments in a home that nothing uses.
fn environments(cx: &CheckContext<'_, '_>, home: &Home<'_>, all: &[Environment]) -> Vec<Finding> {
    let (survey, root, user) = (cx.survey, home.root, home.user);
    let dir = root.canonicalize_dir(&user.home);
    let mut seen: HashSet<&ByteString> = HashSet::new();
    let is_idle = |place: &ByteString| {
        let is_computed = || COMPUTED.iter().any(|one| path::within(place, &path::join(&dir, one.as_bytes())));
        // Pipx's and other managers' own: theirs to keep or to remove.
        let is_anothers =
            || survey.ownership_of(place).is_some() || root.entry(&path::join(place, b"conda-meta")).is_ok();
        let is_searched = || {
            let mut entries = cx.all_searches().flat_map(|search| &search.entries);
            entries.any(|entry| path::within(&entry.canonical, place))
        };
        let is_named = || home.names(place) || home.names(&place[dir.len()..]);
        !(is_computed() || is_anothers() || is_searched() || is_in_project(root, place) || is_named())
    };
    let own = all.iter().filter(|one| one.user.as_ref() == Some(&user.name) && path::within(&one.location, &dir));
    let idle = own.map(|one| &one.location).filter(|place| seen.insert(place) && is_idle(place));
    let finding = |place: &ByteString| Finding {
        users: vec![user.name.clone()],
        paths: vec![place.clone()],
        evidence: vec![Evidence::whole(path::join(place, b"pyvenv.cfg"), "an environment of Python")],
        ..Finding::new(
            FindingKind::UnreachedEnvironment,
            Severity::Note,
            path::name(place),
            format!("no command, launcher, service or project here uses the environment {place}"),
            "it uses disk space, and its packages are upgraded by nobody",
        )
    };
    idle.map(finding).collect()
}

/// Whether an environment lies in a project, or is told to belong to one that exists.
fn is_in_project(root: &Root, place: &ByteString) -> bool {
    let around = path::parent(place);
    let told = root.read(&path::join(place, b".project"), Limit::SMALL).unwrap_or_default();
    let told = told.trim_ascii();
    PROJECT_FILES.iter().any(|name| root.entry(&path::join(around, name.as_bytes())).is_ok())
        || (told.starts_with(b"/") && root.dir(told).is_ok())
}

/// Files by which a project selects a version, each with the languages that it can be about; every one, where none is
/// named.
const SELECTING: [(&str, &[&str]); 12] = [
    (".python-version", &["python"]),
    (".ruby-version", &["ruby"]),
    ("Gemfile", &["ruby"]),
    (".node-version", &["node"]),
    (".nvmrc", &["node"]),
    ("package.json", &["node"]),
    (".java-version", &["java"]),
    (".sdkmanrc", &[]),
    (".tool-versions", &[]),
    ("mise.toml", &[]),
    (".mise.toml", &[]),
    ("config.toml", &[]),
];

/// Languages whose versions are kept for projects that name one; of anything else, several are kept on purpose.
const INTERPRETED: [&str; 4] = ["python", "ruby", "node", "java"];

/// Interpreters that are not the chosen one, that nothing recorded needs, and that no file of a project names.
fn interpreters(cx: &CheckContext<'_, '_>, home: &Home<'_>, bases: &[(&ByteString, ByteString)]) -> Vec<Finding> {
    let (survey, user) = (cx.survey, home.user);
    let mut found = Vec::new();
    for (holder, held) in (0..).zip(survey.installations()) {
        let location = held.location();
        let is_own = location.scope == Scope::User(user.name.clone()) && path::within(&location.dir, &user.home);
        if !is_own || managers::profile(location.manager).kind != ManagerKind::Versions {
            continue;
        }
        let is_interpreter = |name: &[u8]| INTERPRETED.iter().any(|language| is_of(name, language));
        let is_idle = |one: &Package| one.kind == "toolchain" && !one.active && is_interpreter(&one.name);
        let idle: Vec<_> = held.numbered(Detail::default()).into_iter().filter(|(_, one)| is_idle(one)).collect();
        if idle.is_empty() {
            continue;
        }
        let Some(selected) = home.selections() else { continue };
        let trees = held.trees();
        let is_used = |number: u32| {
            trees.iter().filter(|(of, _)| *of == number).any(|(_, tree)| {
                let is_base = bases.iter().any(|(of, base)| path::within(base, tree) && !path::within(of, tree));
                is_base || home.names(tree)
            })
        };
        for (number, one) in idle {
            let Some(version) = one.version.as_ref() else { continue };
            let is_selected = selected.iter().any(|(about, content)| {
                (about.is_empty() || about.iter().any(|language| is_of(&one.name, language)))
                    && memchr::memmem::find(content, series(version)).is_some()
            });
            if is_selected || is_used(number) || !survey.dependents_elsewhere(holder, &[number]).is_empty() {
                continue;
            }
            let summary = format!(
                "{} keeps {} {version}, which is not its choice, and no project below {} names it",
                location.manager, one.name, user.home
            );
            found.push(Finding {
                users: vec![user.name.clone()],
                packages: vec![held.owner(number).id],
                evidence: one.evidence.clone(),
                ..Finding::new(
                    FindingKind::UnusedInterpreter,
                    Severity::Note,
                    one.full_name(),
                    summary,
                    "it uses disk space; a project that is elsewhere, or a user who chooses it by hand, still needs it",
                )
            });
        }
    }
    found
}

/// What the interpreters of environments lead to, step by step, each with the environment.
fn bases<'e>(root: &Root, all: &'e [Environment]) -> Vec<(&'e ByteString, ByteString)> {
    let mut found = Vec::new();
    for one in all {
        let python = Resolution::links(root, &path::join(&one.location, b"bin/python3"));
        found.extend(python.paths().map(|step| (&one.location, step.clone())));
    }
    found
}

/// Whether a package is of a language: `node` also as `nodejs`.
fn is_of(package: &[u8], language: &str) -> bool {
    package.starts_with(language.as_bytes())
}

/// The part of a version that a project has to name at the least: `3.11` of `3.11.7`, `20` of `v20.1.0`.
fn series(version: &[u8]) -> &[u8] {
    let bare = version.strip_prefix(b"v").unwrap_or(version);
    let dots: Vec<usize> = memchr::memchr_iter(b'.', bare).collect();
    // Node's series is its first number; a version that begins with a small one has two.
    let end = match bare.iter().take_while(|byte| byte.is_ascii_digit()).count() {
        0 | 1 => dots.get(1).or(dots.first()),
        _ => dots.first(),
    };
    &bare[..end.copied().unwrap_or(bare.len())]
}

/// What the files of a home say that select versions; none where not all of it could be searched.
fn selections(root: &Root, home: &ByteString) -> Option<Vec<Selection>> {
    let mut found = Vec::new();
    let mut open = vec![home.clone()];
    let mut left = MAX_DIRS;
    while let Some(dir) = open.pop() {
        left = left.checked_sub(1)?;
        let listed = root.dir(&dir).and_then(|dir| dir.list()).ok()?;
        for (name, kind) in listed {
            let file = path::join(&dir, &name);
            let selecting = SELECTING.iter().find(|(known, _)| known.as_bytes() == &*name);
            match (kind, selecting) {
                (Kind::Dir, _) if !is_skipped(&name) => open.push(file),
                (Kind::File, Some((_, about))) => {
                    found.push((*about, root.read_start(&file, MAX_START).ok()?));
                }
                _ => {}
            }
        }
    }
    Some(found)
}

/// Directories in which nobody keeps projects of their own.
fn is_skipped(name: &[u8]) -> bool {
    const SKIPPED: [&[u8]; 14] = [
        b"node_modules",
        b".git",
        b".cache",
        b".cargo",
        b".rustup",
        b".npm",
        b".pyenv",
        b".rbenv",
        b".nodenv",
        b".nvm",
        b".sdkman",
        b".var",
        b"__pycache__",
        b"site-packages",
    ];
    SKIPPED.contains(&name)
}
