//! Nothing is lost in silence: whatever a record is replaced by, an answer that changes says that something was not read.

#![expect(clippy::disallowed_methods, reason = "damages the trees that are read")]

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use whodunit_core::backend::Detail;
use whodunit_core::fs::Root;
use whodunit_core::host::{Host, ProcessEnv, UserSelection};
use whodunit_core::model::Package;
use whodunit_core::queries::sources::sources;
use whodunit_core::queries::timeline::{Span, timeline};
use whodunit_core::resolve::contexts::resolve_contexts;
use whodunit_core::resolve::{Context, Overrides, SearchPath};
use whodunit_core::survey::Survey;
use whodunit_demo::{Scale, WriteError, write, write_laptop, write_workshop};

/// What is told of a machine, a line for each thing, and everything that is said to be unknown of it.
#[derive(Debug, PartialEq, Eq)]
struct Told {
    things: BTreeSet<String>,
    unknown: BTreeSet<String>,
}

fn told(tree: &Path) -> Told {
    let host = Host::new(Root::offline(tree).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
    let survey = Survey::of(&host);
    let packages = survey.packages(Detail::FULL);
    let package = |one: &Package| format!("{} {:?} {:?} {:?}", one.id, one.version, one.status, one.commands);
    let mut things: BTreeSet<String> = packages.iter().map(package).collect();
    let sources = sources(&survey, &[]).sources;
    things.extend(
        sources.iter().map(|one| format!("source {} {:?} {}", one.source.name, one.source.url, one.source.enabled)),
    );
    let mut unknown = BTreeSet::new();
    for user in &host.users {
        for resolved in resolve_contexts(&host, &Context::ALL, user, &Overrides::default()) {
            let search = SearchPath::in_context(&host, &resolved);
            let dirs: Vec<String> = search.entries.iter().map(|entry| entry.dir.to_string()).collect();
            things.insert(format!("{} of {}: {}", resolved.context.word(), user.name, dirs.join(":")));
            unknown.extend(resolved.unknowns.iter().map(|one| format!("{}: {}", one.file, one.says)));
        }
    }
    for dir in survey.program_dirs() {
        for (name, _) in survey.root().names_in(&dir) {
            let owner = survey.ownership_of(&[&*dir, b"/", &*name].concat()).map(|one| one.id.to_string());
            things.insert(format!("{dir}/{name} of {owner:?}"));
        }
    }
    let events = timeline(&survey, &Span::default()).events;
    things.extend(events.iter().map(|one| format!("{:?} {:?} {}", one.manager, one.action, one.name)));
    unknown.extend(survey.coverage().iter().flat_map(|one| &one.notes).map(ToString::to_string));
    Told { things, unknown }
}

/// What programs have in their path, and what is started as one.
const PROGRAMS: [&str; 6] = ["/bin/", "/escripts/", "/libexec/", "/MacOS/", "/Toolbox/scripts/", "/pnpm/davitlift"];
/// Texts without an end: half of one is a whole one.
const WITHOUT_END: [&str; 18] = [
    ".container",
    ".pm",
    ".terraformrc",
    "extension-release.dockbell",
    ".sdkman/var/version",
    "/etc/paths",
    "/60-tidelamp",
    "/login.defs",
    "/os-release",
    "rivetcount-2.0-x86_64-1_quay",
    "/default-display-manager",
    "/breakwater.sources",
    "/ferry.list",
    "/sudoers",
    "/repo/config",
    "/pip.conf",
    ".packlist",
    "/dpkg.log",
];
/// What is skipped where it is a directory, by its own program as well: `sources.list(5)`, podman's generator.
const SKIPPED: [&str; 3] = ["/breakwater.sources", "/ferry.list", ".container"];

/// Whether a damage of a file is as good as its absence, or cannot be seen in what is left.
fn is_beyond_telling(file: &str, damage: Damage) -> bool {
    let ends = |endings: &[&str]| endings.iter().any(|ending| file.ends_with(ending));
    // What is no program any more is none, and not a record of one.
    let is_program = PROGRAMS.iter().any(|part| file.contains(part)) || file.ends_with(".AppImage");
    let is_hidden = match damage {
        Damage::Half => ends(&WITHOUT_END),
        Damage::Directory => ends(&SKIPPED),
        Damage::Loop | Damage::Zeros => false,
    };
    is_program || is_hidden
}

/// Every regular file below a directory.
fn files_below(dir: &Path, found: &mut Vec<PathBuf>) {
    let mut entries: Vec<PathBuf> = fs::read_dir(dir).unwrap().map(|entry| entry.unwrap().path()).collect();
    entries.sort();
    for path in entries {
        let meta = fs::symlink_metadata(&path).unwrap();
        if meta.is_dir() {
            files_below(&path, found);
        } else if meta.is_file() {
            found.push(path);
        }
    }
}

/// What becomes of a record.
#[derive(Debug, Clone, Copy)]
enum Damage {
    /// A directory has its name.
    Directory,
    /// A link that leads to itself.
    Loop,
    /// As long as before, and nothing but zero bytes, as after a crash.
    Zeros,
    /// The first half of it.
    Half,
}

impl Damage {
    const ALL: [Damage; 4] = [Damage::Directory, Damage::Loop, Damage::Zeros, Damage::Half];

    fn put(self, file: &Path, content: &[u8]) {
        match self {
            Damage::Directory => fs::create_dir(file).unwrap(),
            Damage::Loop => symlink(file.file_name().unwrap(), file).unwrap(),
            Damage::Zeros => fs::write(file, vec![0; content.len()]).unwrap(),
            Damage::Half => fs::write(file, &content[..content.len() / 2]).unwrap(),
        }
    }

    fn undo(self, file: &Path) {
        match self {
            Damage::Directory => fs::remove_dir(file).unwrap(),
            _ => fs::remove_file(file).unwrap(),
        }
    }
}

fn nothing_is_lost(write: impl FnOnce(&Path) -> Result<(), WriteError>) {
    let dir = tempfile::tempdir().unwrap();
    write(dir.path()).unwrap();
    let whole = told(dir.path());
    let mut files = Vec::new();
    files_below(dir.path(), &mut files);
    let mut silent = Vec::new();
    let aside = dir.path().join("aside");
    for file in files {
        let content = fs::read(&file).unwrap();
        let name = format!("/{}", file.strip_prefix(dir.path()).unwrap().display());
        for damage in Damage::ALL.into_iter().filter(|damage| !is_beyond_telling(&name, *damage)) {
            fs::rename(&file, &aside).unwrap();
            damage.put(&file, &content);
            let found = told(dir.path());
            if found.things != whole.things && found.unknown == whole.unknown {
                let differs: Vec<&String> = found.things.symmetric_difference(&whole.things).take(3).collect();
                silent.push(format!("{name} {damage:?}: {differs:?}"));
            }
            damage.undo(&file);
            fs::rename(&aside, &file).unwrap();
        }
    }
    assert!(silent.is_empty(), "{} of them\n{}", silent.len(), silent.join("\n"));
}

#[test]
fn of_the_workstation() {
    nothing_is_lost(|dir| write(dir, Scale::default()).map(drop));
}

#[test]
fn of_the_workshop() {
    nothing_is_lost(write_workshop);
}

#[test]
fn of_the_laptop() {
    nothing_is_lost(write_laptop);
}
