//! Manual pages and completions of commands that are gone: what somebody put there by hand, as `make install` does, and
//! nobody took away with the program.
//!
//! A page or a completion is about a command by its name alone, so this is told as probable. What belongs to a package is
//! left out, and so is what is about a part of a command that is there: `git-tide.1` where there is a `git`.

use std::collections::BTreeMap;

use hashbrown::HashSet;
use whodunit_shell::eval::is_builtin;
use whodunit_shell::syntax::Dialect;

use super::CheckContext;
use crate::backend::advice::at_path;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Root};
use crate::host::User;
use crate::model::{CommandLine, Evidence, Finding, FindingKind, Remedy, RemedyKind, Severity};

/// How a file says by its name which command it is about; `None` for a file that says so in another way.
type Named = fn(&[u8]) -> Option<&[u8]>;

/// Directories below `/usr/local/share` and below `~/.local/share`, which hand installations share out alike.
const SHARED: [(&str, &str, Named); 6] = [
    ("man/man1", "manual page", of_page),
    ("man/man6", "manual page", of_page),
    ("man/man8", "manual page", of_page),
    ("bash-completion/completions", "completion of bash", of_bash),
    ("zsh/site-functions", "completion of zsh", of_zsh),
    ("fish/vendor_completions.d", "completion of fish", of_fish),
];

/// Where a user's own completions of fish are.
const OWN_OF_FISH: (&str, &str, Named) = (".config/fish/completions", "completion of fish", of_fish);

/// Directories with functions of fish, each a command: of all users, and below a home.
const FUNCTIONS: [&str; 3] =
    ["/usr/share/fish/functions", "/usr/local/share/fish/vendor_functions.d", "/etc/fish/functions"];
const OWN_FUNCTIONS: &str = ".config/fish/functions";

/// `tide` of `tide.1.gz`.
fn of_page(name: &[u8]) -> Option<&[u8]> {
    let packed = [&b".gz"[..], b".xz", b".bz2", b".zst"];
    let name = packed.iter().find_map(|ending| name.strip_suffix(*ending)).unwrap_or(name);
    let dot = memchr::memrchr(b'.', name)?;
    name.get(dot + 1).is_some_and(u8::is_ascii_digit).then(|| &name[..dot])
}

fn of_bash(name: &[u8]) -> Option<&[u8]> {
    let name = name.strip_prefix(b"_").unwrap_or(name);
    Some(name.strip_suffix(b".bash").unwrap_or(name))
}

fn of_zsh(name: &[u8]) -> Option<&[u8]> {
    name.strip_prefix(b"_")
}

fn of_fish(name: &[u8]) -> Option<&[u8]> {
    name.strip_suffix(b".fish")
}

/// A file that is about a command.
struct Companion {
    /// Whose it is; none where it is for all users.
    user: Option<ByteString>,
    command: ByteString,
    file: ByteString,
    what: &'static str,
}

/// `stray-companion`: one for each command that is gone, and for each user.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let survey = cx.survey;
    let (root, host) = (survey.root(), survey.host);
    let mut all = Vec::new();
    for share in ["/usr/local/share", "/usr/local"] {
        in_share(root, share.as_bytes(), None, &mut all);
    }
    for user in &host.users {
        in_share(root, &host.user_dir(user, "XDG_DATA_HOME", ".local/share"), Some(user), &mut all);
        let (below, what, named) = OWN_OF_FISH;
        in_dir(root, &path::join(&user.home, below.as_bytes()), what, named, Some(user), &mut all);
    }
    let mut seen = HashSet::new();
    all.retain(|one| seen.insert(root.canonicalize(&one.file)));
    if all.is_empty() {
        return Vec::new();
    }
    let known = commands(cx);
    all.retain(|one| !is_known(&known, &one.command));
    let files: Vec<ByteString> = all.iter().map(|one| root.canonicalize(&one.file)).collect();
    let index = survey.claims(files.iter().map(|file| &**file));
    let mut stray: BTreeMap<(Option<ByteString>, ByteString), Vec<Companion>> = BTreeMap::new();
    for (one, canonical) in all.into_iter().zip(&files) {
        if survey.ownership(&index, canonical).packages.is_empty() && !names_another(root, &known, &one) {
            stray.entry((one.user.clone(), one.command.clone())).or_default().push(one);
        }
    }
    stray.into_iter().map(|((user, command), companions)| finding(cx, user, command, &companions)).collect()
}

fn in_share(root: &Root, share: &[u8], user: Option<&User>, found: &mut Vec<Companion>) {
    for (below, what, named) in SHARED {
        in_dir(root, &path::join(share, below.as_bytes()), what, named, user, found);
    }
}

fn in_dir(
    root: &Root,
    dir: &ByteString,
    what: &'static str,
    named: Named,
    user: Option<&User>,
    found: &mut Vec<Companion>,
) {
    let files = root.names_in(dir).into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link));
    let about = files.filter_map(|(name, _)| {
        let command = ByteString::from(named(&name)?);
        Some(Companion { user: user.map(|user| user.name.clone()), command, file: path::join(dir, &name), what })
    });
    found.extend(about.filter(|one| !one.command.is_empty()));
}

/// Everything that can be typed in any context, or that a manager has as a program.
fn commands(cx: &CheckContext<'_, '_>) -> HashSet<ByteString> {
    let root = cx.survey.root();
    let mut known: HashSet<ByteString> = HashSet::new();
    for dir in cx.program_dirs() {
        known.extend(root.names_in(&dir).into_iter().map(|(name, _)| name));
    }
    let programs = cx.survey.titled().packages.iter().flat_map(|package| &package.commands);
    known.extend(programs.map(|program| ByteString::from(path::name(program))));
    for context in cx.resolved {
        let state = &context.state;
        known.extend(state.functions.keys().chain(state.aliases.keys()).map(|name| ByteString::from(&name[..])));
    }
    let own = cx.survey.host.users.iter().map(|user| path::join(&user.home, OWN_FUNCTIONS.as_bytes()));
    for dir in FUNCTIONS.into_iter().map(ByteString::from).chain(own) {
        known.extend(root.names_in(&dir).iter().filter_map(|(name, _)| Some(ByteString::from(of_fish(name)?))));
    }
    known
}

/// Whether there is this command, or one that it is a part of by its name.
fn is_known(known: &HashSet<ByteString>, command: &[u8]) -> bool {
    let parts = memchr::memchr3_iter(b'-', b'_', b'.', command).map(|at| &command[..at]);
    let is_there = |name: &[u8]| {
        known.contains(name) || [Dialect::Bash, Dialect::Zsh].iter().any(|dialect| is_builtin(*dialect, name))
    };
    parts.chain([command]).filter(|name| !name.is_empty()).any(is_there)
}

/// Whether a completion of zsh says that it is about a command that is there: `#compdef tide gauge`.
fn names_another(root: &Root, known: &HashSet<ByteString>, one: &Companion) -> bool {
    let start = root.read_start(&one.file, 4096).unwrap_or_default();
    let line = start.split(|&b| b == b'\n').next().unwrap_or_default();
    let Some(names) = line.strip_prefix(b"#compdef") else { return false };
    names.split(u8::is_ascii_whitespace).filter(|name| !name.starts_with(b"-")).any(|name| {
        let name = name.split(|&b| b == b'=').next().unwrap_or_default();
        !name.is_empty() && is_known(known, name)
    })
}

fn finding(cx: &CheckContext<'_, '_>, user: Option<ByteString>, command: ByteString, all: &[Companion]) -> Finding {
    let what: Vec<String> = all.iter().map(|one| format!("a {}", one.what)).collect();
    let are = if what.len() == 1 { "is" } else { "are" };
    let summary = format!("there {are} {} for {command}, and no such command", what.join(" and "));
    let files: Vec<ByteString> = all.iter().map(|one| one.file.clone()).collect();
    let line = files.iter().fold(CommandLine::new("rm --"), |line, file| line.arg(file.clone()));
    let remedy = Remedy::new(RemedyKind::Remove, line).to(if files.len() == 1 { "delete it" } else { "delete them" });
    Finding {
        remedies: vec![at_path(cx.survey.host, &files[0], remedy)],
        evidence: all.iter().map(|one| Evidence::file_name(one.file.clone(), format!("a {}", one.what))).collect(),
        users: user.into_iter().collect(),
        paths: files,
        ..Finding::new(
            FindingKind::StrayCompanion,
            Severity::Note,
            command,
            summary,
            "it is found by whoever looks for it, and starts nothing",
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_about_the_command_that_they_are_named_after() {
        for (named, file, command) in [
            (of_page as Named, "tide.1", Some("tide")),
            (of_page, "tide.gauge.8.gz", Some("tide.gauge")),
            (of_page, "tide.1p.xz", Some("tide")),
            (of_page, "notes.txt", None),
            (of_page, "notes", None),
            (of_bash, "_tide", Some("tide")),
            (of_bash, "tide.bash", Some("tide")),
            (of_zsh, "_tide", Some("tide")),
            (of_zsh, "tide", None),
            (of_fish, "tide.fish", Some("tide")),
            (of_fish, "tide", None),
        ] {
            assert_eq!(named(file.as_bytes()), command.map(str::as_bytes), "{file}");
        }
        let known: HashSet<ByteString> = [ByteString::from("git")].into_iter().collect();
        for (command, expected) in [("git", true), ("git-tide", true), ("gitk", false), ("cd", true), ("-x", false)] {
            assert_eq!(is_known(&known, command.as_bytes()), expected, "{command}");
        }
    }
}
