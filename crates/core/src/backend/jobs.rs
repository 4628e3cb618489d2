//! What a machine does by itself at set times: timers of systemd that are enabled, and cron jobs.
//!
//! Follows `systemd.timer(5)`, `systemd.unit(5)` (search path, `.wants/`, masking by a link to `/dev/null`, drop-ins),
//! `crontab(5)` and `anacron(8)`.
//!
//! | what | where |
//! |---|---|
//! | timers in use | links in `*.wants/` below `/etc/systemd/system`, `/usr/lib/systemd/system`; of users below `/etc/systemd/user`, `/usr/lib/systemd/user`, `~/.config/systemd/user` |
//! | cron jobs | `/etc/crontab`, `/etc/cron.d`, `/etc/cron.hourly` to `monthly`, `/var/spool/cron` |
//!
//! A job is what it says, not what it does: a script that it starts is looked into one level deep, and not run.

use hashbrown::HashSet;

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::host::{Host, User};
use crate::model::{Evidence, Scope};

/// Something that is done at set times.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Job {
    /// What it is called: the timer, or the file of the cron job.
    pub name: ByteString,
    /// Whose it is.
    pub scope: Scope,
    /// When, as it is written: `daily`, `*-*-* 6,18:00`, `0 4 * * *`.
    pub schedule: String,
    /// The commands, as they are written.
    pub commands: Vec<String>,
    /// Where it stands.
    pub evidence: Evidence,
}

/// Directories of units of the system, the strongest first.
const SYSTEM_UNITS: [&str; 5] = [
    "/etc/systemd/system",
    "/run/systemd/system",
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
];

/// The same of users' managers.
const USER_UNITS: [&str; 4] =
    ["/etc/systemd/user", "/run/systemd/user", "/usr/local/lib/systemd/user", "/usr/lib/systemd/user"];

/// Directories of units of the system, the strongest first.
pub(crate) fn system_units() -> Vec<ByteString> {
    SYSTEM_UNITS.map(ByteString::from).to_vec()
}

/// Directories of units for every user, the strongest first.
pub(crate) fn user_units() -> Vec<ByteString> {
    USER_UNITS.map(ByteString::from).to_vec()
}

/// The links that enable units, below `*.wants` and `*.requires` in a directory of units whose entries these are: the
/// unit's name, what sort of entry it is, and where it is.
pub(crate) fn enabling(root: &Root, dir: &[u8], entries: &[(ByteString, Kind)]) -> Vec<(ByteString, Kind, ByteString)> {
    let is_of_target = |name: &ByteString, kind: Kind| {
        kind != Kind::File && (name.ends_with(b".wants") || name.ends_with(b".requires"))
    };
    let mut found = Vec::new();
    for (target, _) in entries.iter().filter(|(name, kind)| is_of_target(name, *kind)) {
        let target = path::join(dir, target);
        let names = root.names_in(&target);
        found.extend(names.into_iter().map(|(name, kind)| (name.clone(), kind, path::join(&target, &name))));
    }
    found
}

/// Directories of a user's own units, the strongest first.
pub(crate) fn own_units(user: &User) -> [ByteString; 2] {
    [".config/systemd/user", ".local/share/systemd/user"].map(|dir| path::join(&user.home, dir.as_bytes()))
}

/// Directories whose scripts run at set times.
const CRON_DIRS: [(&str, &str); 4] = [
    ("/etc/cron.hourly", "hourly"),
    ("/etc/cron.daily", "daily"),
    ("/etc/cron.weekly", "weekly"),
    ("/etc/cron.monthly", "monthly"),
];

/// What stands between the words of a command of a shell's, as far as programs are looked for in it.
const BETWEEN_WORDS: [char; 10] = [' ', '\t', ';', '&', '|', '(', ')', '\'', '"', '='];
/// What can stand before a program in a unit.
pub(crate) const BEFORE_PROGRAM: [char; 5] = ['@', '-', ':', '+', '!'];

/// Every job of the machine and of its users.
pub(crate) fn read(host: &Host) -> Vec<Job> {
    let mut jobs = timers(host, &system_units(), &Scope::System);
    for user in &host.users {
        let all: Vec<ByteString> = own_units(user).into_iter().chain(user_units()).collect();
        jobs.extend(timers(host, &all, &Scope::User(user.name.clone())));
    }
    cron(host, &mut jobs);
    jobs
}

impl Job {
    /// Whether it calls a program with one of these words behind it; without words, whether it calls the program.
    pub(crate) fn calls(&self, program: &str, words: &[&str]) -> bool {
        self.commands.iter().any(|command| {
            let parts = || command.split(BETWEEN_WORDS);
            // What systemd may put before a program counts for nothing here (`systemd.service(5)`).
            let is_program =
                |word: &str| path::name(word.trim_start_matches(BEFORE_PROGRAM).as_bytes()) == program.as_bytes();
            let has = |word: &&str| parts().any(|part| part == *word);
            parts().any(is_program) && (words.is_empty() || words.iter().any(has))
        })
    }
}

/// The value of a key in a unit with its drop-ins: every one that is set, an empty one takes the others back.
pub(crate) fn values(texts: &[(ByteString, String)], key: &str) -> Vec<(ByteString, u32, String)> {
    let mut found = Vec::new();
    for (file, text) in texts {
        for (number, line) in (1..).zip(text.lines()) {
            let Some((_, value)) = line.trim().split_once('=').filter(|(name, _)| name.trim_end() == key) else {
                continue;
            };
            match value.trim() {
                "" => found.clear(),
                value => found.push((file.clone(), number, value.to_owned())),
            }
        }
    }
    found
}

/// A unit's file in the strongest directory, and its drop-ins; none where it is masked.
pub(crate) fn unit(root: &Root, dirs: &[ByteString], name: &[u8]) -> Option<Vec<(ByteString, String)>> {
    let text = |file: &ByteString| {
        let content = root.read(file, Limit::SMALL).ok()?;
        Some((file.clone(), String::from_utf8_lossy(&content).into_owned()))
    };
    let file = dirs.iter().map(|dir| path::join(dir, name)).find(|file| root.entry(file).is_ok())?;
    if root.read_link(&file).is_ok_and(|target| *target == *b"/dev/null") {
        return None;
    }
    let mut texts = vec![text(&file)?];
    for dir in dirs.iter().rev() {
        let dir = path::join(dir, &[name, b".d"].concat());
        let names = root.names_in(&dir);
        let more = names.into_iter().filter(|(name, _)| name.ends_with(b".conf"));
        texts.extend(more.filter_map(|(name, _)| text(&path::join(&dir, &name))));
    }
    Some(texts)
}

fn timers(host: &Host, dirs: &[ByteString], scope: &Scope) -> Vec<Job> {
    let mut jobs = Vec::new();
    let mut seen: HashSet<ByteString> = HashSet::new();
    for dir in dirs {
        let names = host.root.names_in(dir);
        for (wants, _) in names.iter().filter(|(name, _)| name.ends_with(b".wants")) {
            let of_target = path::join(dir, wants);
            let timers = host.root.names_in(&of_target);
            for (name, _) in timers.into_iter().filter(|(name, _)| name.ends_with(b".timer")) {
                if seen.insert(name.clone()) {
                    jobs.extend(timer(host, dirs, scope, &name, &path::join(&of_target, &name)));
                }
            }
        }
    }
    jobs
}

/// Keys that say when a timer elapses.
const WHEN: [&str; 6] =
    ["OnCalendar", "OnUnitActiveSec", "OnUnitInactiveSec", "OnBootSec", "OnStartupSec", "OnActiveSec"];

fn timer(host: &Host, dirs: &[ByteString], scope: &Scope, name: &ByteString, link: &ByteString) -> Option<Job> {
    let texts = unit(&host.root, dirs, name)?;
    let when = WHEN.iter().find_map(|key| {
        let set = values(&texts, key);
        let schedule = set.iter().map(|(.., value)| value.clone()).collect::<Vec<_>>().join(", ");
        let every = if key.starts_with("OnUnit") { "every " } else { "" };
        set.first().map(|(file, line, _)| (file.clone(), *line, format!("{every}{schedule}")))
    });
    let started = values(&texts, "Unit").pop().map(|(.., unit)| unit);
    let stem = name.strip_suffix(b".timer").unwrap_or(name);
    let service = started.unwrap_or_else(|| format!("{}.service", ByteString::from(stem)));
    let service = unit(&host.root, dirs, service.as_bytes())?;
    let commands: Vec<String> = values(&service, "ExecStart").into_iter().map(|(.., command)| command).collect();
    let (file, line, schedule) = when.unwrap_or_else(|| (link.clone(), 1, "at times that are not written".to_owned()));
    let evidence = Evidence::line(file, line, format!("{name} is enabled by {link}"));
    Some(Job { name: name.clone(), scope: scope.clone(), schedule, commands: looked_into(host, &commands), evidence })
}

/// The commands, with the text of a script that one of them starts.
fn looked_into(host: &Host, commands: &[String]) -> Vec<String> {
    let mut all = commands.to_vec();
    for command in commands {
        let program = command.trim_start_matches(BEFORE_PROGRAM).split_ascii_whitespace().next();
        let Some(program) = program.filter(|program| program.starts_with('/')) else { continue };
        all.extend(script(host, program.as_bytes()));
    }
    all
}

/// The lines of a script, without comments.
fn script(host: &Host, file: &[u8]) -> Vec<String> {
    let is_small = host.root.target(file).is_ok_and(|meta| meta.kind == Kind::File && meta.size < (256 << 10));
    let content = if is_small { host.root.read(file, Limit::SMALL).unwrap_or_default() } else { Vec::new() };
    if !content.starts_with(b"#!") {
        return Vec::new();
    }
    let text = String::from_utf8_lossy(&content).into_owned();
    text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#')).map(str::to_owned).collect()
}

fn cron(host: &Host, jobs: &mut Vec<Job>) {
    let list = |dir: &str| {
        let names = host.root.names_in(dir.as_bytes());
        names.into_iter().filter(|(_, kind)| *kind != Kind::Dir).map(|(name, _)| name).collect::<Vec<_>>()
    };
    let mut tables: Vec<(ByteString, Option<ByteString>)> = vec![("/etc/crontab".into(), None)];
    tables.extend(list("/etc/cron.d").into_iter().map(|name| (path::join(b"/etc/cron.d", &name), None)));
    for dir in ["/var/spool/cron/crontabs", "/var/spool/cron", "/var/spool/cron/tabs"] {
        tables.extend(list(dir).into_iter().map(|user| (path::join(dir.as_bytes(), &user), Some(user))));
    }
    for (file, user) in tables {
        let content = host.root.read(&file, Limit::SMALL).unwrap_or_default();
        for (number, line) in (1..).zip(String::from_utf8_lossy(&content).lines()) {
            let Some((schedule, user, command)) = cron_line(line, user.as_ref()) else { continue };
            let scope = if *user == *b"root" { Scope::System } else { Scope::User(user) };
            let evidence = Evidence::line(file.clone(), number, command.clone());
            let commands = looked_into(host, &[command]);
            jobs.push(Job { name: file.clone(), scope, schedule, commands, evidence });
        }
    }
    for (dir, schedule) in CRON_DIRS {
        for name in list(dir) {
            let file = path::join(dir.as_bytes(), &name);
            let commands = script(host, &file);
            if commands.is_empty() {
                continue;
            }
            let evidence = Evidence::at(file.clone(), "its directory", format!("runs {schedule}"));
            jobs.push(Job { name: file, scope: Scope::System, schedule: schedule.to_owned(), commands, evidence });
        }
    }
}

/// When, as whom, what; `user` is whose table it is, and in the system's tables the line names the user.
fn cron_line(line: &str, user: Option<&ByteString>) -> Option<(String, ByteString, String)> {
    let line = line.trim();
    if line.is_empty() || line.starts_with('#') {
        return None;
    }
    let fields = if line.starts_with('@') { 1 } else { 5 };
    let mut rest = line;
    let mut schedule = Vec::new();
    for _ in 0..fields {
        let (word, after) = rest.split_once([' ', '\t'])?;
        schedule.push(word);
        rest = after.trim_start();
    }
    // A line that sets a variable is none.
    if schedule[0].contains('=') {
        return None;
    }
    let (user, command) = match user {
        Some(user) => (user.clone(), rest),
        None => rest.split_once([' ', '\t']).map(|(user, command)| (user.into(), command.trim_start()))?,
    };
    Some((schedule.join(" "), user, command.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_tables_and_calls_are_understood() {
        for (line, user, expected) in [
            ("0 4 * * * root apt-get -y upgrade", None, Some("0 4 * * *|root|apt-get -y upgrade")),
            ("@daily\troot  test -x /x && /x", None, Some("@daily|root|test -x /x && /x")),
            ("*/5 * * * * flatpak update", Some("maren"), Some("*/5 * * * *|maren|flatpak update")),
            ("PATH=/usr/bin:/bin a b c d e f", None, None),
            ("# 0 4 * * * root x", None, None),
            ("@daily", None, None),
        ] {
            let read = cron_line(line, user.map(ByteString::from).as_ref());
            let shown = read.map(|(schedule, user, command)| format!("{schedule}|{user}|{command}"));
            assert_eq!(shown.as_deref(), expected, "{line}");
        }
        for (command, program, words, expected) in [
            ("/usr/bin/apt-get -y dist-upgrade", "apt-get", &["upgrade", "dist-upgrade"][..], true),
            ("apt-get update", "apt-get", &["upgrade"], false),
            ("-/usr/bin/dnf-automatic", "dnf-automatic", &[], true),
            ("[ -x /usr/bin/snap ] && snap refresh", "snap", &["refresh"], true),
            ("echo snapshot refresh", "snap", &["refresh"], false),
            ("sh -c 'flatpak update -y'", "flatpak", &["update"], true),
        ] {
            let job = Job {
                name: "x".into(),
                scope: Scope::System,
                schedule: String::new(),
                commands: vec![command.to_owned()],
                evidence: Evidence::at("x", "x", "x"),
            };
            assert_eq!(job.calls(program, words), expected, "{command}");
        }
    }
}
