//! Findings from the managers' own records: half-installed packages, remaining settings, unusual choices.

use hashbrown::HashSet;

use super::CheckContext;
use crate::backend::advice::at_path;
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::managers;
use crate::model::{
    CommandLine, CoverageState, Evidence, Finding, FindingKind, ManagerId, Package, Remedy, RemedyKind, Severity,
    Status,
};

/// `diverted-program`, `chosen-by-hand` and the like: what a manager tells of itself.
pub fn diagnostics(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    cx.survey.diagnostics().to_vec()
}

/// `half-installed`, `broken-package`, `settings-left`, `data-left` and `not-executable`.
pub fn states(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let packages = cx.survey.recorded();
    // What a record is wrong about is told of the record.
    let disagree = cx.survey.diagnostics().iter().filter(|finding| finding.kind == FindingKind::RecordDisagrees);
    let wrong: HashSet<&ByteString> = disagree.flat_map(|finding| &finding.packages).collect();
    let sound = packages.iter().filter(|package| !wrong.contains(&package.id));
    let mut found: Vec<Finding> = sound.filter_map(|package| of_package(cx, package)).collect();
    let removed = packages.iter().filter(|package| package.status == Status::ConfigRemains);
    found.extend(removed.flat_map(|package| data_left(cx, package)));
    found
}

/// Where programs keep what they write for a user, below a home (*XDG Base Directory Specification*).
const DATA: [&str; 4] = [".config", ".local/share", ".local/state", ".cache"];

/// Data that a removed package's program left in users' homes.
fn data_left(cx: &CheckContext<'_, '_>, package: &Package) -> Vec<Finding> {
    let root = cx.survey.root();
    let dirs = cx.survey.host.users.iter().flat_map(|user| {
        let of = move |below: &&str| path::join(&path::join(&user.home, below.as_bytes()), &package.name);
        DATA.iter().map(of)
    });
    let there = dirs.filter(|dir| root.entry(dir).is_ok_and(|meta| meta.kind == Kind::Dir));
    let told = there.map(|dir| {
        let gone = format!("{}, which {} removed", package.name, package.manager);
        let mut found = left(cx, dir, &package.name, &gone, "program", format!("has the name of {}", package.name));
        found.packages.push(package.id.clone());
        found.evidence.extend(package.evidence.iter().cloned());
        found
    });
    told.collect()
}

/// Data that a sandboxed format keeps for packages which are gone, each in a directory that has the package's name.
pub fn sandbox_data(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let coverage = cx.survey.coverage();
    // What could not be read may well be installed.
    let is_read = |manager: ManagerId| {
        coverage.iter().filter(|part| part.manager == Some(manager)).all(|part| part.state == CoverageState::Read)
    };
    let keeping = managers::ALL.iter().filter_map(|one| Some((one.id(), one.profile().keeps_data_in?)));
    keeping.filter(|(manager, _)| is_read(*manager)).flat_map(|(manager, dir)| left_of(cx, manager, dir)).collect()
}

/// The directories of users below `dir` that have the name of no package of the manager.
fn left_of(cx: &CheckContext<'_, '_>, manager: ManagerId, dir: &str) -> Vec<Finding> {
    let of_it = cx.survey.recorded().iter().filter(|package| package.manager == manager);
    let installed: HashSet<&ByteString> = of_it.map(|package| &package.name).collect();
    let mut found = Vec::new();
    for user in &cx.survey.host.users {
        let place = path::join(&user.home, dir.as_bytes());
        let mut names = cx.survey.root().names_in(&place);
        names.retain(|(name, kind)| *kind == Kind::Dir && !name.starts_with(b".") && !installed.contains(name));
        names.sort_by(|(a, _), (b, _)| a.cmp(b));
        found.extend(names.into_iter().map(|(name, _)| {
            let gone = format!("{name}, which {manager} does not have any more");
            let says = format!("{manager} keeps the data of {name} here, and no installation has it");
            left(cx, path::join(&place, &name), &name, &gone, "application", says)
        }));
    }
    found
}

/// `data-left`: a directory that software which is gone has left behind.
pub(super) fn left(
    cx: &CheckContext<'_, '_>,
    dir: ByteString,
    name: &ByteString,
    gone: &str,
    kind: &str,
    says: String,
) -> Finding {
    let summary = format!("{dir} is left of {gone}");
    let consequence =
        format!("it uses disk space until someone deletes it, and is used again if the {kind} is reinstalled");
    Finding {
        paths: vec![dir.clone()],
        remedies: vec![delete(cx, &dir)],
        evidence: vec![Evidence::directory(dir, says)],
        ..Finding::new(FindingKind::DataLeft, Severity::Note, name.clone(), summary, consequence)
    }
}

/// Deletes a directory of a user's.
fn delete(cx: &CheckContext<'_, '_>, dir: &ByteString) -> Remedy {
    let remedy = Remedy::new(RemedyKind::Remove, CommandLine::new("rm -r --").arg(dir.clone())).to("delete it");
    at_path(cx.survey.host, dir, remedy.losing(format!("everything in {dir}")))
}

/// Makes a file executable.
fn make_executable(cx: &CheckContext<'_, '_>, file: &ByteString) -> Remedy {
    let remedy = Remedy::new(RemedyKind::Permissions, CommandLine::new("chmod +x --").arg(file.clone()));
    let undo = CommandLine::new("chmod a-x --").arg(file.clone());
    at_path(cx.survey.host, file, remedy.to("make it executable").undone_by(undo))
}

fn of_package(cx: &CheckContext<'_, '_>, package: &Package) -> Option<Finding> {
    let ways = || cx.survey.remedies_by_id(&package.name, &package.id);
    let version = package.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let name = package.full_name();
    let with = |kind, severity, summary: String, consequence: &str, remedies: Vec<Remedy>| Finding {
        packages: vec![package.id.clone()],
        remedies,
        evidence: package.evidence.clone(),
        ..Finding::new(kind, severity, name.clone(), summary, consequence)
    };
    match package.status {
        Status::Broken => {
            let repairs = ways().into_iter().filter(|way| way.kind == RemedyKind::Repair).collect();
            let summary = format!("{} · {name}{version} is not completely installed", package.manager);
            let consequence = "its programs may be missing or not configured, and its manager may refuse other operations until this is repaired";
            if managers::is_system(package.manager) {
                return Some(with(FindingKind::HalfInstalled, Severity::Error, summary, consequence, repairs));
            }
            let summary = format!("{} · {name}{version} is broken", package.manager);
            let consequence = "its programs do not start, or lack a part that they need";
            Some(with(FindingKind::BrokenPackage, Severity::Error, summary, consequence, repairs))
        }
        Status::ConfigRemains => {
            let summary = format!("{} removed {name}{version} and kept its configuration files", package.manager);
            let consequence = "they are used again if the package is reinstalled";
            Some(with(FindingKind::SettingsLeft, Severity::Note, summary, consequence, ways()))
        }
        Status::Disabled if package.kind == "bundle" => {
            let file =
                package.commands.first().cloned().or_else(|| package.evidence.first().map(|one| one.file.clone()))?;
            Some(Finding { paths: vec![file.clone()], ..not_executable(cx, &file, &name, package) })
        }
        _ => None,
    }
}

fn not_executable(cx: &CheckContext<'_, '_>, file: &ByteString, name: &ByteString, package: &Package) -> Finding {
    let version = package.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let summary = format!("{file} ({name}{version}) is not executable");
    let consequence = "it cannot be started until it is made executable";
    Finding {
        packages: vec![package.id.clone()],
        remedies: vec![make_executable(cx, file)],
        evidence: package.evidence.clone(),
        ..Finding::new(FindingKind::NotExecutable, Severity::Warning, name.clone(), summary, consequence)
    }
}

/// `not-executable`, of files where users put programs of their own.
pub fn not_programs(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let root = cx.survey.root();
    let mut dirs: Vec<&ByteString> =
        cx.all_searches().flat_map(|search| &search.entries).map(|entry| &entry.canonical).collect();
    dirs.sort();
    dirs.dedup();
    let is_own = |dir: &&&ByteString| dir.starts_with(b"/usr/local/") || cx.survey.host.home_owner(dir).is_some();
    let mut found = Vec::new();
    for dir in dirs.iter().filter(is_own) {
        let names = root.names_in(dir);
        for (name, _) in names.into_iter().filter(|(_, kind)| *kind == Kind::File) {
            let file = path::join(dir, &name);
            let Ok(meta) = root.entry(&file) else { continue };
            if meta.mode & 0o111 != 0 {
                continue;
            }
            let start = root.read_start(&file, 4).unwrap_or_default();
            if start != b"\x7fELF" && !start.starts_with(b"#!") {
                continue;
            }
            let summary = format!("{file} is a program but is not executable");
            let consequence = "the shell skips it: another copy runs, or none";
            found.push(Finding {
                paths: vec![file.clone()],
                remedies: vec![make_executable(cx, &file)],
                evidence: vec![Evidence::at(file.clone(), "mode", format!("{:04o}", meta.mode))],
                ..Finding::new(FindingKind::NotExecutable, Severity::Warning, name, summary, consequence)
            });
        }
    }
    found
}
