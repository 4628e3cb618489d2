//! Programs that are installed, and that no session finds.

use super::CheckContext;
use crate::bytes::{ByteString, path};
use crate::managers;
use crate::model::{Cause, Finding, FindingKind, ManagerKind, Package, Scope, Severity, Status};
use crate::resolve::SearchPath;

/// `unreachable-program`: one for each package of which no program is found in any context.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let packages = cx.survey.recorded();
    // Versions that are kept side by side are not meant to be found all at once, nor what an environment brings; apps
    // are started by launchers.
    let is_meant = |package: &&Package| {
        let kind = managers::profile(package.manager).kind;
        matches!(kind, ManagerKind::Language | ManagerKind::Prefix | ManagerKind::Store)
            && matches!(package.scope, Scope::System | Scope::User(_))
            && package.status == Status::Installed
            && package.active
            && !package.commands.is_empty()
    };
    let meant: Vec<&Package> = packages.iter().filter(is_meant).collect();
    let reached: Vec<bool> = meant.iter().map(|package| is_reached(cx, package)).collect();
    let mut found = Vec::new();
    for (package, _) in meant.iter().zip(&reached).filter(|(_, is_reached)| !**is_reached) {
        // If nothing of the installation is found, its directory was never put on a search path.
        let is_other = |other: &&Package| {
            (other.manager, &other.location, &other.scope) == (package.manager, &package.location, &package.scope)
        };
        let is_set_up = meant.iter().zip(&reached).any(|(other, is_reached)| *is_reached && is_other(other));
        found.push(unreached(package, is_set_up));
    }
    found
}

/// Whether any session of those for whom it is installed finds one of its programs.
fn is_reached(cx: &CheckContext<'_, '_>, package: &Package) -> bool {
    let root = cx.survey.root();
    let mut searches: Vec<&SearchPath> = cx.all_searches().collect();
    if let Scope::User(user) = &package.scope {
        searches.retain(|search| search.user.as_ref() == Some(user));
    }
    let programs = package.commands.iter().filter_map(|file| Some((file, root.target(file).ok()?)));
    let mut programs = programs.peekable();
    // Nothing can be said of sessions that are not looked at, nor of programs that are not there.
    if searches.is_empty() || programs.peek().is_none() || searches.iter().any(|search| !search.unknowns().is_empty()) {
        return true;
    }
    programs.any(|(file, meta)| {
        let dir = root.canonicalize_dir(path::parent(file));
        searches.iter().any(|search| {
            search.entries.iter().any(|entry| entry.canonical == dir)
                || search.reach(root, path::name(file)).copies.iter().any(|copy| copy.meta.identity == meta.identity)
        })
    })
}

fn unreached(package: &Package, is_set_up: bool) -> Finding {
    let dir = ByteString::from(path::parent(&package.commands[0]));
    let whose = match &package.scope {
        Scope::User(user) => format!(" of {user}"),
        _ => String::new(),
    };
    let name = package.full_name();
    let summary =
        format!("no session{whose} finds the programs of {} · {name}: {dir} is in no search path", package.manager);
    let severity = if is_set_up { Severity::Note } else { Severity::Warning };
    let consequence = "it can be started by its whole path only";
    Finding {
        packages: vec![package.id.clone()],
        paths: package.commands.clone(),
        evidence: package.evidence.clone(),
        causes: vec![Cause::Unsearched(dir)],
        ..Finding::new(FindingKind::UnreachableProgram, severity, name, summary, consequence)
    }
}
