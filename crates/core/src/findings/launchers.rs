//! Problems with launchers.

use hashbrown::HashMap;

use crate::backend::advice::addressed;
use crate::backend::advice::delete_files;
use crate::bytes::{ByteString, path};
use crate::host::{Host, User};
use crate::model::{
    Actor, Cause, CommandLine, Evidence, Finding, FindingKind, HiddenReason, Launcher, Remedy, RemedyKind, Severity,
};

/// Adds to each launcher what a maintainer should know of it.
pub fn add(host: &Host, user: Option<&User>, launchers: &mut [Launcher]) {
    let mut by_name: HashMap<String, Vec<ByteString>> = HashMap::new();
    for launcher in launchers.iter().filter(|launcher| launcher.shown) {
        if let Some(name) = &launcher.name {
            by_name.entry(name.clone()).or_default().push(launcher.id.clone());
        }
    }
    for launcher in launchers {
        let found: Vec<Finding> = [
            masked(launcher),
            duplicate(launcher, &by_name),
            runs_other(launcher),
            broken(host, launcher),
            invisible(host, user, launcher),
        ]
        .into_iter()
        .flatten()
        .collect();
        launcher.findings = found;
    }
}

fn finding(launcher: &Launcher, kind: FindingKind, severity: Severity, summary: String, consequence: &str) -> Finding {
    let owners = launcher.owner.iter().chain(&launcher.starts.owner);
    let mut packages: Vec<ByteString> = owners.map(|owner| owner.id.clone()).collect();
    packages.dedup();
    Finding {
        packages,
        paths: vec![launcher.file.clone()],
        evidence: launcher.evidence.clone(),
        ..Finding::new(kind, severity, launcher.id.clone(), summary, consequence)
    }
}

fn masked(launcher: &Launcher) -> Option<Finding> {
    let first = launcher.masks.first()?;
    let summary = format!("{} masks {first}", launcher.file);
    let mut found =
        finding(launcher, FindingKind::MaskedLauncher, Severity::Note, summary, "the menu uses only the first file");
    found.paths.extend(launcher.masks.iter().cloned());
    Some(found)
}

/// So many launchers of one name are told by their ids.
const MAX_NAMED: usize = 8;

fn duplicate(launcher: &Launcher, by_name: &HashMap<String, Vec<ByteString>>) -> Option<Finding> {
    let name = launcher.name.as_ref().filter(|_| launcher.shown)?;
    let all = by_name.get(name)?;
    let others = all.iter().filter(|id| **id != launcher.id).take(MAX_NAMED);
    let others: Vec<String> = others.map(ToString::to_string).collect();
    if others.is_empty() {
        return None;
    }
    let name = ByteString::from(name.as_str());
    let more = match (all.len() - 1).saturating_sub(others.len()) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    let summary = format!("the menu also shows {name} for {}{more}", others.join(", "));
    Some(finding(
        launcher,
        FindingKind::DuplicateLauncher,
        Severity::Warning,
        summary,
        "which copy starts depends on the entry that is chosen, and they look alike",
    ))
}

/// The launcher of one package starts the program of another.
fn runs_other(launcher: &Launcher) -> Option<Finding> {
    let (file, program) = (launcher.owner.as_ref()?, launcher.starts.path.as_ref()?);
    let other = match &launcher.starts.owner {
        Some(owner) if owner.id == file.id => return None,
        // Part of one software: a package of data or of launchers beside that of the program.
        Some(owner) if owner.manager == file.manager => return None,
        Some(owner) => format!("{}'s {}", owner.manager, owner.name),
        None => "a program that no manager claims".to_owned(),
    };
    let summary = format!("the launcher of {}'s {} starts {other}, {program}", file.manager, file.name);
    Some(finding(
        launcher,
        FindingKind::LauncherRunsOther,
        Severity::Warning,
        summary,
        "the menu starts a different copy from the one that was installed with the launcher",
    ))
}

fn broken(host: &Host, launcher: &Launcher) -> Option<Finding> {
    let why = launcher.why_hidden.as_ref()?;
    if !why.is_broken() {
        return None;
    }
    // A launcher that asks to be left out where its program is not is no trouble of its own.
    let severity = if matches!(why, HiddenReason::TryExec(_)) { Severity::Note } else { Severity::Warning };
    let summary = format!("{} cannot be used: {why}", launcher.file);
    let mut found = finding(
        launcher,
        FindingKind::BrokenLauncher,
        severity,
        summary,
        "the menu does not show it, and ignores every later file with the same id",
    );
    found.evidence.push(Evidence::at(launcher.file.clone(), "launcher", why.to_string()));
    if let HiddenReason::NoProgram(program) | HiddenReason::TryExec(program) = why {
        let is_path = program.starts_with('/');
        let program = ByteString::from(program.as_str());
        found.causes.push(if is_path { Cause::Missing(program) } else { Cause::Command(program) });
    }
    if launcher.owner.is_none() {
        found.remedies.push(delete_files(host, std::slice::from_ref(&launcher.file)));
    }
    Some(found)
}

fn invisible(host: &Host, user: Option<&User>, launcher: &Launcher) -> Option<Finding> {
    if launcher.why_hidden != Some(HiddenReason::NotSearched) {
        return None;
    }
    let summary = format!("{} is installed, but its launcher is in no directory that is searched", launcher.id);
    let consequence = "the menu does not show the application";
    let mut found = finding(launcher, FindingKind::InvisibleLauncher, Severity::Warning, summary, consequence);
    let dir = memchr::memmem::rfind(&launcher.file, b"/applications/").map(|at| ByteString::from(&launcher.file[..at]));
    found.causes.extend(dir.clone().map(Cause::Unsearched));
    found.remedies.extend(dir.and_then(|dir| search_too(host, user, &dir)));
    Some(found)
}

/// Has a user's sessions search one more data directory, where a login shell reads `~/.profile`.
fn search_too(host: &Host, user: Option<&User>, dir: &ByteString) -> Option<Remedy> {
    let user = user.or(host.default_user())?;
    let reads_profile = matches!(path::name(&user.shell), b"" | b"sh" | b"dash" | b"bash");
    let is_overridden = [&b".bash_profile"[..], b".bash_login"]
        .iter()
        .any(|name| host.root.entry(&path::join(&user.home, name)).is_ok());
    if !reads_profile || is_overridden || !dir.iter().all(|byte| byte.is_ascii_alphanumeric() || b"/._-".contains(byte))
    {
        return None;
    }
    let list = format!(r#"\"\${{XDG_DATA_DIRS:-/usr/local/share:/usr/share}}:{dir}\""#);
    let append = format!(r#"echo "export XDG_DATA_DIRS={list}" >> ~/.profile"#);
    let remedy = Remedy::new(RemedyKind::Configure, CommandLine::new("sh -c").arg(append));
    Some(addressed(host, &Actor::User(user.name.clone()), remedy.to("show it after the next login")))
}
