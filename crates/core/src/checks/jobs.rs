//! Units of the service manager, cron jobs and autostart entries that start what is gone.
//!
//! Follows `systemd.unit(5)` (search path, `.wants/`, templates), `systemd.service(5)` (what stands before a program),
//! `crontab(5)` and the *Desktop Application Autostart Specification*. What a package brings is its package's matter.

use std::collections::BTreeMap;

use super::CheckContext;
use crate::backend::advice::delete_files;
use crate::backend::jobs::{self, BEFORE_PROGRAM};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::host::{Host, User};
use crate::model::{Cause, Evidence, Finding, FindingKind, Scope, Severity};
use crate::queries::launchers::{find, program_word};
use crate::resolve::Context;
use whodunit_formats::desktop_entry::{DesktopEntry, words};

/// Directories of units that an administrator fills, or a user for himself.
const LOCAL_UNITS: [&str; 4] =
    ["/etc/systemd/system", "/usr/local/lib/systemd/system", "/etc/systemd/user", "/usr/local/lib/systemd/user"];

/// Where Debian's packages note the links that enable their units: until they are purged, these are theirs.
const ENABLED_BY_PACKAGES: &str = "/var/lib/systemd/deb-systemd-helper-enabled";

/// `broken-job` of units and cron tables.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let host = cx.survey.host;
    let mut found = units(cx, &jobs::system_units(), None);
    found.extend(units(cx, &jobs::user_units(), None));
    for user in &host.users {
        let all: Vec<ByteString> = jobs::own_units(user).into_iter().chain(jobs::user_units()).collect();
        found.extend(units(cx, &all, Some(user)));
    }
    found.extend(cron(cx));
    found
}

/// `broken-launcher` of entries that a session starts by itself.
pub fn autostart(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let search = cx.searches().iter().find(|search| search.context == Context::Desktop).unwrap_or(cx.typed());
    let own = cx.user().map(|user| autostart_dir(survey.host, user));
    let mut found = Vec::new();
    for dir in own.into_iter().chain([ByteString::from("/etc/xdg/autostart")]) {
        for (name, file) in files(root, &dir, b".desktop") {
            let entry = root.read(&file, Limit::SMALL).ok().and_then(|content| DesktopEntry::parse(&content).ok());
            let Some(entry) = entry.filter(|entry| !entry.is_set("Hidden")) else { continue };
            let Some(exec) = entry.text("Exec").filter(|_| survey.ownership_of(&file).is_none()) else { continue };
            let words = words(&exec).unwrap_or_default();
            let Some(program) = program_word(&words).filter(|word| find(root, search, word).is_none()) else {
                continue;
            };
            let program = ByteString::from(program.as_str());
            let summary = format!("{file} starts {program} at each login, and there is no such program");
            let consequence = "the session starts nothing for it";
            let evidence = Evidence::line(file.clone(), entry.line("Exec"), format!("Exec={exec}"));
            found.push(Finding {
                paths: vec![file.clone()],
                causes: vec![if program.starts_with(b"/") { Cause::Missing(program) } else { Cause::Command(program) }],
                remedies: vec![delete_files(survey.host, &[file])],
                evidence: vec![evidence],
                ..Finding::new(FindingKind::BrokenLauncher, Severity::Warning, name, summary, consequence)
            });
        }
    }
    found
}

fn autostart_dir(host: &Host, user: &User) -> ByteString {
    path::join(&host.user_dir(user, "XDG_CONFIG_HOME", ".config"), b"autostart")
}

/// The regular files of a directory whose names end so.
fn files(root: &Root, dir: &ByteString, ending: &[u8]) -> Vec<(ByteString, ByteString)> {
    let names = root.names_in(dir);
    let files = names.into_iter().filter(|(name, kind)| *kind == Kind::File && name.ends_with(ending));
    files.map(|(name, _)| (name.clone(), path::join(dir, &name))).collect()
}

/// The links that enable units: of each unit's name those below `*.wants` and `*.requires`.
fn enabling(root: &Root, dirs: &[ByteString]) -> BTreeMap<ByteString, Vec<ByteString>> {
    let mut links: BTreeMap<ByteString, Vec<ByteString>> = BTreeMap::new();
    for dir in dirs {
        let entries = root.names_in(dir);
        for (name, _, link) in
            jobs::enabling(root, dir, &entries).into_iter().filter(|(_, kind, _)| *kind == Kind::Link)
        {
            links.entry(name).or_default().push(link);
        }
    }
    links
}

/// The template of a unit's instance: `tide@quay.service` is made of `tide@.service`.
fn template(name: &[u8]) -> Option<ByteString> {
    let (at, dot) = (memchr::memchr(b'@', name)?, memchr::memrchr(b'.', name)?);
    (at < dot).then(|| ByteString::from([&name[..=at], &name[dot..]].concat()))
}

/// The units of one manager of services: the user's whose it is, else the system's, or every user's.
fn units(cx: &CheckContext<'_, '_>, dirs: &[ByteString], user: Option<&User>) -> Vec<Finding> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let is_local = |dir: &&ByteString| match user {
        Some(user) => path::within(dir, &user.home),
        None => LOCAL_UNITS.iter().any(|local| local.as_bytes() == &***dir),
    };
    let local: Vec<ByteString> = dirs.iter().filter(is_local).cloned().collect();
    let links = enabling(root, &local);
    let users: Vec<ByteString> = user.iter().map(|user| user.name.clone()).collect();
    let mut found = Vec::new();
    for (name, file) in local.iter().flat_map(|dir| files(root, dir, b".service")) {
        let Some(texts) = jobs::unit(root, dirs, &name).filter(|texts| texts[0].0 == file) else { continue };
        let Some((at, line, program)) = gone(root, &texts, user) else { continue };
        if survey.ownership_of(&file).is_some() {
            continue;
        }
        let of_unit = links.get(&name).cloned().unwrap_or_default();
        let severity = if of_unit.is_empty() { Severity::Note } else { Severity::Warning };
        let summary = format!("{file} starts {program}, which does not exist");
        let evidence = Evidence::line(at, line, format!("ExecStart={program}"));
        let paths: Vec<ByteString> = std::iter::once(file).chain(of_unit).collect();
        found.push(Finding {
            users: users.clone(),
            remedies: vec![delete_files(survey.host, &paths)],
            paths,
            causes: vec![Cause::Missing(program)],
            evidence: vec![evidence],
            ..Finding::new(FindingKind::BrokenJob, severity, name, summary, "the service fails whenever it is started")
        });
    }
    let is_there = |name: &[u8]| dirs.iter().any(|dir| root.entry(&path::join(dir, name)).is_ok());
    for (name, links) in links {
        let is_known = is_there(&name) || template(&name).is_some_and(|template| is_there(&template));
        let note = path::join(ENABLED_BY_PACKAGES.as_bytes(), &[&name[..], b".dsh-also"].concat());
        let gone: Vec<ByteString> = links.into_iter().filter(|link| is_missing(root, link)).collect();
        if is_known || gone.is_empty() || root.entry(&note).is_ok() || survey.ownership_of(&gone[0]).is_some() {
            continue;
        }
        let target = root.read_link(&gone[0]).unwrap_or_default();
        let summary = format!("{} enables {name}, and there is no such unit", gone[0]);
        found.push(Finding {
            users: users.clone(),
            remedies: vec![delete_files(survey.host, &gone)],
            evidence: vec![Evidence::whole(gone[0].clone(), format!("is a link to {target}"))],
            paths: gone,
            ..Finding::new(FindingKind::BrokenJob, Severity::Note, name, summary, "nothing is started for it")
        });
    }
    found
}

/// The program that a unit starts and that does not exist, with its place; none where the unit asks first, or where it
/// may fail.
fn gone(root: &Root, texts: &[(ByteString, String)], user: Option<&User>) -> Option<(ByteString, u32, ByteString)> {
    const ASKS: [&str; 4] =
        ["ConditionPathExists", "ConditionFileIsExecutable", "AssertPathExists", "AssertFileIsExecutable"];
    if ASKS.iter().any(|key| !jobs::values(texts, key).is_empty()) {
        return None;
    }
    jobs::values(texts, "ExecStart").into_iter().find_map(|(file, line, command)| {
        let bare = command.trim_start_matches(BEFORE_PROGRAM);
        if command[..command.len() - bare.len()].contains('-') {
            return None;
        }
        let word = match bare.strip_prefix('"') {
            Some(quoted) => quoted.split('"').next(),
            None => bare.split_ascii_whitespace().next(),
        }?;
        let program = match user {
            Some(user) => word.replace("%h", &user.home.to_string()),
            None => word.to_owned(),
        };
        let is_plain = program.starts_with('/') && !program.contains(['%', '$', '\\']);
        let program = ByteString::from(program.as_str());
        (is_plain && is_missing(root, &program)).then_some((file, line, program))
    })
}

/// Lines of cron tables whose program does not exist.
fn cron(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let (survey, root) = (cx.survey, cx.survey.root());
    let lines = jobs::read(survey.host).into_iter().filter(|job| job.evidence.at.line().is_some());
    let broken = lines.filter(|job| !job.name.ends_with(b".timer")).filter_map(|job| {
        let word = job.commands.first()?.split_ascii_whitespace().next()?;
        let program = ByteString::from(word);
        let is_plain = word.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"/._+-@".contains(&byte));
        if !word.starts_with('/') || !is_plain || !is_missing(root, &program) {
            return None;
        }
        if survey.ownership_of(&job.name).is_some() {
            return None;
        }
        let summary = format!("{} starts {program} ({}), which does not exist", job.name, job.schedule);
        Some(Finding {
            users: match &job.scope {
                Scope::User(name) => vec![name.clone()],
                _ => Vec::new(),
            },
            paths: vec![job.name.clone()],
            causes: vec![Cause::Missing(program.clone())],
            evidence: vec![job.evidence],
            ..Finding::new(
                FindingKind::BrokenJob,
                Severity::Warning,
                path::name(&program),
                summary,
                "the job fails whenever it is due",
            )
        })
    });
    broken.collect()
}

fn is_missing(root: &Root, file: &ByteString) -> bool {
    root.target(file).is_err_and(|error| error.is_missing())
}
