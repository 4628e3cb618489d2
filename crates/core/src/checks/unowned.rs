//! Programs without an owner where a distribution's manager alone should put some.

use super::CheckContext;
use crate::backend::advice::{MANAGED_DIRS, is_sealed, local_dir};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::model::{Actor, CommandLine, Evidence, Finding, FindingKind, Remedy, RemedyKind, Severity};
use crate::queries::unowned::{FileKind, Group, UnownedFile, unowned};
use crate::survey::Survey;

/// Files that a distribution's own tools look for there, and that the administrator puts there (Debian Policy,
/// "invoke-rc.d").
const LOCAL_HOOKS: [&[u8]; 1] = [b"/usr/sbin/policy-rc.d"];

/// `unowned-in-managed-dir`: one for each piece of software.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let root = cx.survey.root();
    let managed = MANAGED_DIRS.iter().filter(|dir| root.dir(dir).is_ok()).map(|dir| root.canonicalize_dir(dir));
    let mut managed: Vec<_> = managed.collect();
    managed.sort();
    managed.dedup();
    let answer = unowned(cx.survey, &[cx.typed()], &managed);
    // Without the records nobody can be said not to own it.
    if !answer.certain && cx.survey.managers().is_empty() {
        return Vec::new();
    }
    let found = answer.groups.into_iter().filter_map(|group| {
        let is_managed = |file: &&UnownedFile| managed.iter().any(|dir| path::parent(&file.path) == &**dir);
        let is_local = |file: &&UnownedFile| LOCAL_HOOKS.iter().any(|hook| **hook == *file.path);
        let files: Vec<_> = group.files.iter().filter(is_managed).filter(|file| !is_local(file)).collect();
        let first = files.first()?;
        let more = if files.len() > 1 { format!(" and {} more", files.len() - 1) } else { String::new() };
        let summary = format!("{}{more}: no manager claims it ({})", first.path, group.guess);
        let consequence = "it gets no upgrades, and a package that contains a file of that name overwrites it";
        let mut evidence = group.evidence.clone();
        if evidence.is_empty() {
            evidence.push(Evidence::at(first.path.clone(), "lookup", "no record of any manager has it"));
        }
        Some(Finding {
            paths: files.iter().map(|file| file.path.clone()).collect(),
            remedies: move_to_local(cx.survey, &group).into_iter().collect(),
            evidence,
            ..Finding::new(FindingKind::UnownedInManagedDirectory, Severity::Warning, group.name, summary, consequence)
        })
    });
    found.collect()
}

/// Moves the programs of a group to the directory for local programs, where no file of theirs is overwritten and none
/// breaks: a program that has files of its own elsewhere, or that is known by its path, stays where it is.
fn move_to_local(survey: &Survey<'_>, group: &Group) -> Option<Remedy> {
    let root = survey.root();
    if group.files.iter().any(|file| is_sealed(survey.host, &file.path)) {
        return None;
    }
    let is_plain = |kind| matches!(kind, FileKind::Program | FileKind::Script);
    if group.files.iter().any(|file| !is_plain(file.kind)) {
        return None;
    }
    let dirs: Vec<&[u8]> = group.files.iter().map(|file| path::parent(&file.path)).collect();
    let dir = *dirs.first().filter(|first| dirs.iter().all(|dir| dir == *first))?;
    let to = local_dir(dir);
    root.dir(to.as_bytes()).ok()?;
    for file in &group.files {
        let name = path::name(&file.path);
        let own = [&b"/usr/share/"[..], b"/usr/lib/", b"/etc/"].map(|above| [above, name].concat());
        let is_alone = own.iter().all(|dir| root.entry(dir).is_err());
        let is_free = root.entry(&path::join(to.as_bytes(), name)).is_err_and(|error| error.is_missing());
        if !is_alone || !is_free || is_known_by_path(survey, &file.path) {
            return None;
        }
    }
    let line = CommandLine::new("mv -n -t").arg(to).words("--");
    let line = group.files.iter().fold(line, |line, file| line.arg(file.path.clone()));
    let back = CommandLine::new("mv -n -t").arg(dir).words("--");
    let back = group.files.iter().fold(back, |line, file| line.arg(path::join(to.as_bytes(), path::name(&file.path))));
    let remedy = Remedy::new(RemedyKind::Move, line).by(Actor::Root).undone_by(back);
    Some(survey.typed(remedy.to("move it to the directory for local programs")))
}

/// Whether a link or a unit of the service manager starts a program by its path.
fn is_known_by_path(survey: &Survey<'_>, program: &ByteString) -> bool {
    let root = survey.root();
    let links = [&b"/usr/bin"[..], b"/usr/sbin", b"/usr/local/bin", b"/usr/local/sbin"];
    let is_linked = links.iter().any(|dir| {
        let names = root.names_in(dir);
        let mut names = names.into_iter().filter(|(_, kind)| *kind == Kind::Link);
        names.any(|(name, _)| root.canonicalize_dir(&path::join(dir, &name)) == *program)
    });
    let units = [&b"/etc/systemd/system"[..], b"/etc/systemd/user", b"/etc/cron.d", b"/etc/xdg/autostart"];
    is_linked
        || units.iter().any(|dir| {
            let names = root.names_in(dir);
            let mut files = names.into_iter().filter(|(_, kind)| *kind == Kind::File);
            files.any(|(name, _)| {
                let content = root.read(&path::join(dir, &name), Limit::SMALL).unwrap_or_default();
                memchr::memmem::find(&content, program).is_some()
            })
        })
}
