//! Environments that nothing here starts, and interpreters of version managers that no project selects.
//!
//! Neither is proof: what a user types by its path, or keeps for later, is in no file. So both are told as probable, and
//! nothing that anything found here names is told at all.

use hashbrown::HashSet;

use super::CheckContext;
use crate::backend::jobs::own_units;
use crate::backend::{Detail, Environments};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::host::User;
use crate::managers;
use crate::model::{Evidence, Finding, FindingKind, ManagerKind, Package, Severity};
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

/// `unreached-environment` and `unused-interpreter`.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let mut found = environments(cx);
    found.extend(interpreters(cx));
    found
}

/// Everything of a user's, and of the machine's, that can name a program by its path.
fn naming(root: &Root, user: Option<&User>) -> Vec<u8> {
    let mut files: Vec<ByteString> = Vec::new();
    let mut text = Vec::new();
    let mut dirs: Vec<ByteString> = NAMING_ALL.iter().map(|dir| ByteString::from(*dir)).collect();
    if let Some(user) = user {
        files.extend(START_UP.iter().map(|file| path::join(&user.home, file.as_bytes())));
        dirs.extend(NAMING.iter().map(|dir| path::join(&user.home, dir.as_bytes())));
        dirs.extend(own_units(user));
    }
    for dir in dirs {
        for (name, kind) in root.dir(&dir).and_then(|dir| dir.list()).unwrap_or_default() {
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

fn environments(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let held = survey.installations().iter().filter_map(|held| held.environments());
    let all: Vec<_> = held.flat_map(Environments::environments).collect();
    let searched: Vec<&ByteString> =
        cx.all_searches().flat_map(|search| &search.entries).map(|entry| &entry.canonical).collect();
    let mut seen: HashSet<ByteString> = HashSet::new();
    let mut found = Vec::new();
    for user in &survey.host.users {
        let home = root.canonicalize_dir(&user.home);
        let text = naming(root, Some(user));
        for one in all.iter().filter(|one| one.user.as_ref() == Some(&user.name) && path::within(&one.location, &home))
        {
            let place = &one.location;
            let below = ByteString::from(&place[home.len()..]);
            let is_named =
                [place, &below].iter().any(|name| memchr::memmem::find(&text, &[&name[..], b"/"].concat()).is_some());
            let is_searched = searched.iter().any(|dir| path::within(dir, place));
            let is_computed = COMPUTED.iter().any(|dir| path::within(place, &path::join(&home, dir.as_bytes())));
            // Pipx's and other managers' own: theirs to keep or to remove.
            let is_anothers =
                survey.ownership_of(place).is_some() || root.entry(&path::join(place, b"conda-meta")).is_ok();
            if is_named
                || is_searched
                || is_computed
                || is_anothers
                || project(root, place)
                || !seen.insert(place.clone())
            {
                continue;
            }
            let summary = format!("no command, launcher, service or project here uses the environment {place}");
            found.push(Finding {
                users: vec![user.name.clone()],
                paths: vec![place.clone()],
                evidence: vec![Evidence::whole(path::join(place, b"pyvenv.cfg"), "an environment of Python")],
                ..Finding::new(
                    FindingKind::UnreachedEnvironment,
                    Severity::Note,
                    path::name(place),
                    summary,
                    "it uses disk space, and its packages are upgraded by nobody",
                )
            });
        }
    }
    found
}

/// Whether an environment lies in a project, or is told to belong to one that exists.
fn project(root: &Root, place: &ByteString) -> bool {
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
fn interpreters(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let survey = cx.survey;
    let bases = bases(cx);
    let mut found = Vec::new();
    for (holder, held) in (0..).zip(survey.installations()) {
        let location = held.location();
        let Some(user) = survey.host.users.iter().find(|user| path::within(&location.dir, &user.home)) else {
            continue;
        };
        if managers::profile(location.manager).kind != ManagerKind::Versions {
            continue;
        }
        let packages = held.numbered(Detail::default());
        let is_interpreter = |name: &[u8]| INTERPRETED.iter().any(|language| is_of(name, language));
        let is_idle = |one: &Package| one.kind == "toolchain" && !one.active && is_interpreter(&one.name);
        let idle: Vec<_> = packages.into_iter().filter(|(_, one)| is_idle(one)).collect();
        if idle.is_empty() {
            continue;
        }
        let Some(selected) = selections(survey.root(), &user.home) else { continue };
        let trees = held.trees();
        let text = naming(survey.root(), Some(user));
        let is_used = |number: u32| {
            let of_it = trees.iter().filter(|(of, _)| *of == number).map(|(_, tree)| tree);
            of_it.into_iter().any(|tree| {
                let is_base = bases.iter().any(|(of, base)| path::within(base, tree) && !path::within(of, tree));
                is_base || memchr::memmem::find(&text, &[&tree[..], b"/"].concat()).is_some()
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
            let owner = held.owner(number);
            let summary = format!(
                "{} keeps {} {version}, which is not its choice, and no project below {} names it",
                location.manager, one.name, user.home
            );
            found.push(Finding {
                users: vec![user.name.clone()],
                packages: vec![owner.id],
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
fn bases(cx: &CheckContext<'_, '_>) -> Vec<(ByteString, ByteString)> {
    let held = cx.survey.installations().iter().filter_map(|held| held.environments());
    let mut found = Vec::new();
    for one in held.flat_map(Environments::environments) {
        let python = Resolution::links(cx.survey.root(), &path::join(&one.location, b"bin/python3"));
        found.extend(python.paths().map(|step| (one.location.clone(), step.clone())));
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
fn selections(root: &Root, home: &ByteString) -> Option<Vec<(&'static [&'static str], Vec<u8>)>> {
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
