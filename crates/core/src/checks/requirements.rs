//! What Python's distributions require, against what an interpreter would import.
//!
//! Each environment is looked at by itself; each interpreter of the system once with the machine's own directories, and
//! once more for every user who has a directory of modules that comes before them. Of a name that several directories
//! have, the first is imported.

use hashbrown::HashMap;
use rayon::prelude::*;

use super::CheckContext;
use crate::backend::Environment;
use crate::backend::advice::at_path;
use crate::bytes::{ByteString, path};
use crate::fs::Root;
use crate::host::User;
use crate::managers;
use crate::managers::language::python::requirement::Facts;
use crate::managers::language::python::requirements::{Declared, Loss, in_dir};
use crate::model::{CommandLine, Evidence, Finding, FindingKind, Language, Owner, Remedy, RemedyKind, Severity};
use crate::queries::advice;
use crate::resolve::modules;
use crate::survey::Survey;

/// The modules that one interpreter imports when started in one way.
#[derive(Debug, Clone)]
pub struct View {
    /// The name that users know it by.
    pub name: ByteString,
    /// The user whose directory comes first, if there is one.
    pub user: Option<ByteString>,
    /// The directories, in order.
    pub dirs: Vec<ByteString>,
    /// The environment's directory; none for an interpreter of the system.
    pub environment: Option<ByteString>,
    facts: Facts,
}

/// A requirement that is not met.
#[derive(Debug, Clone)]
pub struct Unmet {
    /// The distribution that requires it.
    pub by: Declared,
    /// As it is written, and on which line.
    pub text: ByteString,
    /// The line of `by.file`.
    pub line: u32,
    /// The first distribution of that name, which is imported instead, if any.
    pub found: Option<Declared>,
    /// A later one, hidden by it, that would do.
    pub masked: Option<Declared>,
}

/// Every view of this machine.
#[must_use]
pub fn views(survey: &Survey<'_>) -> Vec<View> {
    let host = survey.host;
    let root = &host.root;
    let mut found = Vec::new();
    for (interpreter, version) in modules::interpreters(root) {
        let site = |user: &User| {
            let dirs = modules::dirs(host, &interpreter, &version, user, None);
            let users: Vec<ByteString> = dirs.iter().filter(|one| one.is_users).map(|one| one.dir.clone()).collect();
            (dirs.into_iter().map(|one| one.dir).collect::<Vec<_>>(), users)
        };
        let full = survey.ownership_of(&interpreter).and_then(|owner| full_version(owner.version.as_ref()?, &version));
        let facts = Facts { python: version.clone(), full_python: full, machine: machine(root, &interpreter) };
        let mut is_told = false;
        for user in &host.users {
            let (dirs, users) = site(user);
            if !is_told {
                let own = dirs.iter().filter(|dir| !users.contains(dir)).cloned().collect();
                found.push(View {
                    name: interpreter.clone(),
                    user: None,
                    dirs: own,
                    environment: None,
                    facts: facts.clone(),
                });
                is_told = true;
            }
            if !users.is_empty() {
                let user = Some(user.name.clone());
                found.push(View { name: interpreter.clone(), user, dirs, environment: None, facts: facts.clone() });
            }
        }
    }
    for Environment { location, mut dirs, python, base, sees_system, user } in survey.environments() {
        let Some(version) = python else { continue };
        let interpreter = path::join(&location, b"bin/python");
        if sees_system {
            let whose = user.as_ref().and_then(|name| host.users.iter().find(|one| one.name == *name));
            if let Some(user) = whose.or(host.default_user()) {
                let behind = modules::dirs(host, &interpreter, &version.to_string(), user, None);
                dirs.extend(behind.into_iter().map(|one| one.dir).filter(|dir| !path::within(dir, &location)));
            }
        }
        let version = version.to_string();
        let full = base.as_ref().and_then(|full| full_version(full, &version));
        let facts = Facts { python: version, full_python: full, machine: machine(root, &interpreter) };
        found.push(View { name: location.clone(), user: None, dirs, environment: Some(location), facts });
    }
    found
}

/// `3.11.2` from a version that begins so, where it is one of this minor version.
fn full_version(version: &ByteString, minor: &str) -> Option<String> {
    let upstream: String = version.to_string().chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
    let is_whole = upstream.starts_with(&format!("{minor}.")) && upstream.split('.').count() == 3;
    is_whole.then_some(upstream)
}

/// The machine that an interpreter is made for, as the system names it.
fn machine(root: &Root, interpreter: &ByteString) -> String {
    let read = root.open(interpreter).ok().and_then(whodunit_formats::dynamic::read);
    let name = match read.map(|read| read.machine) {
        Some((_, 62)) => "x86_64",
        Some((_, 183)) => "aarch64",
        Some((1, 3)) => "i686",
        Some((_, 243)) => "riscv64",
        Some((_, 21)) => "ppc64le",
        Some((_, 22)) => "s390x",
        Some((1, 40)) => "armv7l",
        _ => std::env::consts::ARCH,
    };
    name.to_owned()
}

/// The distributions of each directory, read once for all views.
type Shelves = HashMap<ByteString, Vec<Declared>>;

/// The unmet requirements of each view, and the losses.
#[must_use]
pub fn unmet(root: &Root, views: &[View]) -> (Vec<(View, Vec<Unmet>)>, Vec<Loss>) {
    let mut dirs: Vec<&ByteString> = views.iter().flat_map(|view| &view.dirs).collect();
    dirs.sort();
    dirs.dedup();
    let read: Vec<_> = dirs.par_iter().map(|dir| in_dir(root, dir)).collect();
    let mut notes = Vec::new();
    let mut shelves = Shelves::new();
    for (dir, (declared, lost)) in dirs.into_iter().zip(read) {
        notes.extend(lost);
        shelves.insert(dir.clone(), declared);
    }
    let found = views.iter().map(|view| {
        let (unmet, lost) = of_view(view, &shelves);
        notes.extend(lost);
        (view.clone(), unmet)
    });
    (found.collect(), notes)
}

fn of_view(view: &View, shelves: &Shelves) -> (Vec<Unmet>, Vec<Loss>) {
    let mut by_name: HashMap<&[u8], Vec<&Declared>> = HashMap::new();
    for one in view.dirs.iter().filter_map(|dir| shelves.get(dir)).flatten() {
        by_name.entry(&one.key).or_default().push(one);
    }
    let (mut found, mut notes) = (Vec::new(), Vec::new());
    for declared in by_name.values() {
        let first = declared[0];
        for (line, text, requirement) in &first.requires {
            match requirement.applies(&view.facts) {
                Some(true) => {}
                Some(false) => continue,
                None => {
                    let lost = format!("it is unknown whether line {line} applies to {}", view.name);
                    notes.push((first.file.clone(), lost));
                    continue;
                }
            }
            let there = by_name.get(&*requirement.name).map_or(&[][..], Vec::as_slice);
            let takes = |one: &&Declared| one.version.as_ref().is_some_and(|version| requirement.takes(version));
            if there.first().is_some_and(takes) {
                continue;
            }
            found.push(Unmet {
                by: first.clone(),
                text: text.clone(),
                line: *line,
                found: there.first().map(|one| (*one).clone()),
                masked: there.iter().skip(1).find(|one| takes(one)).map(|one| (*one).clone()),
            });
        }
    }
    found.sort_by(|a, b| (&a.by.key, a.line).cmp(&(&b.by.key, b.line)));
    (found, notes)
}

/// `unmet-requirement`: one for each distribution and view.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let survey = cx.survey;
    let (all, notes) = unmet(survey.root(), &views(survey));
    let mut by_file: HashMap<ByteString, Vec<String>> = HashMap::new();
    for (file, lost) in notes {
        let known = by_file.entry(file).or_default();
        if !known.contains(&lost) {
            known.push(lost);
        }
    }
    by_file.iter().for_each(|(file, lost)| survey.root().note_gap(file, lost.join("; ")));
    let files =
        all.iter().flat_map(|(_, unmet)| unmet).flat_map(|one| one.found.iter().chain(&one.masked).chain([&one.by]));
    let canonical: Vec<ByteString> = files.map(|one| survey.root().canonicalize(&one.file)).collect();
    let index = survey.claims(canonical.iter().map(|file| &**file));
    let owner = |one: &Declared| {
        let packages = survey.ownership(&index, &survey.root().canonicalize(&one.file)).packages;
        packages.first().and_then(|claim| survey.owner(claim))
    };
    let mut told: Vec<(ByteString, Option<ByteString>, ByteString)> = Vec::new();
    let mut found = Vec::new();
    for (view, unmet) in &all {
        for one in unmet {
            // What is so without anybody's own directory is not told again for each user.
            let key = (one.by.file.clone(), one.found.as_ref().map(|found| found.file.clone()), one.text.clone());
            if view.environment.is_none() && told.contains(&key) {
                continue;
            }
            told.push(key);
            found.push(finding(survey, view, one, &owner));
        }
    }
    found.iter_mut().for_each(|one: &mut Finding| {
        let ids = one.packages.clone();
        one.remedies.extend(ids.first().into_iter().flat_map(|id| repairs(survey, id)));
    });
    found
}

/// The ways of the requiring package's own manager to renew it.
fn repairs(survey: &Survey<'_>, id: &ByteString) -> Vec<Remedy> {
    let ways = survey.remedies_by_id(path::name(id), id);
    ways.into_iter().filter(|way| way.kind == RemedyKind::Repair).collect()
}

fn finding(survey: &Survey<'_>, view: &View, one: &Unmet, owner: &dyn Fn(&Declared) -> Option<Owner>) -> Finding {
    let by = owner(&one.by);
    let found = one.found.as_ref().map(|found| (found, owner(found)));
    let whose = |declared: &Declared, owner: &Option<Owner>| {
        let version = declared.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        match owner {
            Some(owner) => format!("{} · {}{version}", owner.manager, owner.full_name()),
            None => format!("{}{version}", declared.name),
        }
    };
    let needs = &one.text;
    let place = match (&view.environment, &view.user) {
        (Some(environment), _) => format!("in {environment}"),
        (None, Some(user)) => format!("when {user} starts {}", view.name),
        (None, None) => format!("with {}", view.name),
    };
    let what = match &found {
        None => "nothing of that name is installed there".to_owned(),
        Some((found, of)) => format!("{} is imported", whose(found, of)),
    };
    let masked = one.masked.as_ref().map(|masked| format!(", which hides {}", whose(masked, &owner(masked))));
    let summary = format!("{} requires {needs}, and {place} {what}{}", whose(&one.by, &by), masked.unwrap_or_default());
    // What a distribution put together by itself is as it wants it; what another manager did to it is not.
    let is_managed = |owner: &Option<Owner>| {
        owner.as_ref().is_some_and(|owner| managers::profile(owner.manager).fills != Some(Language::Python))
    };
    let by_itself = is_managed(&by) && found.as_ref().is_none_or(|(_, of)| is_managed(of));
    let severity = if by_itself { Severity::Note } else { Severity::Warning };
    let consequence = match &found {
        None => format!("importing it in {} fails, at once or when that part is first used", one.by.name),
        Some(_) => format!("{} runs with a version that it was not made for, and may fail", one.by.name),
    };
    let mut remedies = Vec::new();
    if let (Some((_, Some(owner))), true) = (&found, one.masked.is_some() || is_managed(&by))
        && !is_managed(&Some(owner.clone()))
    {
        let because = format!("{} was made for the copy behind it", one.by.name);
        remedies.extend(advice::remove(survey, owner, "remove the copy that comes first", &because));
    } else if let Some(environment) = &view.environment {
        remedies.extend(install_into(survey, environment, &one.text));
    }
    let packages = by.iter().chain(found.iter().filter_map(|(_, owner)| owner.as_ref()));
    let mut evidence = vec![Evidence::line(one.by.file.clone(), one.line, format!("requires {needs}"))];
    if let Some((found, _)) = &found {
        let version = found.version.clone().unwrap_or_default();
        evidence.push(Evidence::at(found.file.clone(), "version", version.to_string()));
    }
    Finding {
        packages: packages.map(|owner| owner.id.clone()).collect(),
        paths: vec![view.name.clone()],
        users: view.user.iter().cloned().collect(),
        remedies,
        evidence,
        ..Finding::new(FindingKind::UnmetRequirement, severity, one.by.name.clone(), summary, consequence)
    }
}

/// Installs what is required into an environment that has a pip of its own.
fn install_into(survey: &Survey<'_>, environment: &ByteString, requirement: &ByteString) -> Option<Remedy> {
    let root = survey.root();
    let python = path::join(environment, b"bin/python");
    root.target(&python).ok()?;
    let library = path::join(environment, b"lib");
    let versions = root.dir(&library).and_then(|dir| dir.list()).ok()?;
    let pip = |name: &ByteString| path::join(&path::join(&library, name), b"site-packages/pip");
    versions.iter().find(|(name, _)| root.entry(&pip(name)).is_ok())?;
    let wanted = requirement.split(|&b| b == b';').next().unwrap_or_default().trim_ascii();
    let line = CommandLine::program(python).words("-m pip install --").arg(wanted);
    Some(at_path(survey.host, environment, Remedy::new(RemedyKind::Install, line).to("install what it requires")))
}
