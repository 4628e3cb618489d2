//! What Python's distributions require, against what an interpreter would import.
//!
//! Each environment is looked at by itself; each interpreter of the system once with the machine's own folders, and once
//! more for every person who has a folder of modules that comes before them. Of a name that several folders have, the
//! first is imported.

use hashbrown::HashMap;
use rayon::prelude::*;

use super::Look;
use crate::managers::Environment;
use crate::managers::python::requirement::Facts;
use crate::managers::python::requirements::{Declared, Loss, in_folder};
use crate::model::{Evidence, Finding, FindingKind, Owner, Remedy, Severity};
use crate::root::Root;
use crate::scene::Person;
use crate::search::modules;
use crate::survey::Survey;
use crate::text::{Text, path, shell_word};

/// What one interpreter imports, started in one way.
#[derive(Debug, Clone)]
pub struct View {
    /// What a person calls it.
    pub name: Text,
    /// Whose folder comes first, where that is somebody's own.
    pub person: Option<Text>,
    /// The folders, in order.
    pub folders: Vec<Text>,
    /// The environment's folder; none for an interpreter of the system.
    pub environment: Option<Text>,
    facts: Facts,
}

/// A requirement that is not met.
#[derive(Debug, Clone)]
pub struct Unmet {
    /// The distribution that requires it.
    pub by: Declared,
    /// As it is written, and on which line.
    pub text: String,
    /// The line of `by.file`.
    pub line: u32,
    /// What is imported instead: the first distribution of that name; none where there is none.
    pub found: Option<Declared>,
    /// A later one, hidden by it, that would do.
    pub masked: Option<Declared>,
}

/// Every view of this machine.
#[must_use]
pub fn views(survey: &Survey<'_>) -> Vec<View> {
    let scene = survey.scene;
    let root = &scene.root;
    let mut found = Vec::new();
    for (interpreter, version) in modules::interpreters(root) {
        let site = |person: &Person| {
            let folders = modules::folders(scene, &interpreter, &version, person, None);
            let users: Vec<Text> = folders.iter().filter(|one| one.is_users).map(|one| one.folder.clone()).collect();
            (folders.into_iter().map(|one| one.folder).collect::<Vec<_>>(), users)
        };
        let full = survey.ownership_of(&interpreter).and_then(|owner| full_version(owner.version.as_ref()?, &version));
        let facts = Facts { python: version.clone(), full_python: full, machine: machine(root, &interpreter) };
        let mut is_told = false;
        for person in &scene.people {
            let (folders, users) = site(person);
            if !is_told {
                let own = folders.iter().filter(|folder| !users.contains(folder)).cloned().collect();
                found.push(View {
                    name: interpreter.clone(),
                    person: None,
                    folders: own,
                    environment: None,
                    facts: facts.clone(),
                });
                is_told = true;
            }
            if !users.is_empty() {
                let person = Some(person.name.clone());
                found.push(View {
                    name: interpreter.clone(),
                    person,
                    folders,
                    environment: None,
                    facts: facts.clone(),
                });
            }
        }
    }
    for Environment { location, mut folders, python, base, sees_system, person } in
        survey.holdings().iter().flat_map(|held| held.environments())
    {
        let Some(version) = python else { continue };
        let interpreter = path::join(&location, b"bin/python");
        if sees_system {
            let whose = person.as_ref().and_then(|name| scene.people.iter().find(|one| one.name == *name));
            if let Some(person) = whose.or(scene.usual_person()) {
                let behind = modules::folders(scene, &interpreter, &version.to_string(), person, None);
                folders
                    .extend(behind.into_iter().map(|one| one.folder).filter(|folder| !path::within(folder, &location)));
            }
        }
        let version = version.to_string();
        let full = base.as_ref().and_then(|full| full_version(full, &version));
        let facts = Facts { python: version, full_python: full, machine: machine(root, &interpreter) };
        found.push(View { name: location.clone(), person: None, folders, environment: Some(location), facts });
    }
    found
}

/// `3.11.2` from a version that begins so, where it is one of this minor version.
fn full_version(version: &Text, minor: &str) -> Option<String> {
    let upstream: String = version.to_string().chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
    let is_whole = upstream.starts_with(&format!("{minor}.")) && upstream.split('.').count() == 3;
    is_whole.then_some(upstream)
}

/// The machine that an interpreter is made for, as the system names it.
fn machine(root: &Root, interpreter: &Text) -> String {
    let read = root.open(interpreter).ok().and_then(crate::formats::dynamic::read);
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

/// The distributions of each folder, read once for all views.
type Shelves = HashMap<Text, Vec<Declared>>;

/// What is not met in each view, and what could not be read.
#[must_use]
pub fn unmet(root: &Root, views: &[View]) -> (Vec<(View, Vec<Unmet>)>, Vec<Loss>) {
    let mut folders: Vec<&Text> = views.iter().flat_map(|view| &view.folders).collect();
    folders.sort();
    folders.dedup();
    let read: Vec<_> = folders.par_iter().map(|folder| in_folder(root, folder)).collect();
    let mut notes = Vec::new();
    let mut shelves = Shelves::new();
    for (folder, (declared, lost)) in folders.into_iter().zip(read) {
        notes.extend(lost);
        shelves.insert(folder.clone(), declared);
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
    for one in view.folders.iter().filter_map(|folder| shelves.get(folder)).flatten() {
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
                    let lost = format!("whether line {line} is meant for {} is not known", view.name);
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
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let survey = look.survey;
    let (all, notes) = unmet(survey.root(), &views(survey));
    let mut by_file: HashMap<Text, Vec<String>> = HashMap::new();
    for (file, lost) in notes {
        let known = by_file.entry(file).or_default();
        if !known.contains(&lost) {
            known.push(lost);
        }
    }
    by_file.iter().for_each(|(file, lost)| survey.root().note_gap(file, lost.join("; ")));
    let files =
        all.iter().flat_map(|(_, unmet)| unmet).flat_map(|one| one.found.iter().chain(&one.masked).chain([&one.by]));
    let settled: Vec<Text> = files.map(|one| survey.root().settle(&one.file)).collect();
    let index = survey.claims(settled.iter().map(|file| &**file));
    let owner = |one: &Declared| {
        let packages = survey.ownership(&index, &survey.root().settle(&one.file)).packages;
        packages.first().and_then(|claim| survey.owner(claim))
    };
    let mut told: Vec<(Text, Option<Text>, String)> = Vec::new();
    let mut found = Vec::new();
    for (view, unmet) in &all {
        for one in unmet {
            // What is so without anybody's own folder is not told again for each person.
            let key = (one.by.file.clone(), one.found.as_ref().map(|found| found.file.clone()), one.text.clone());
            if view.environment.is_none() && told.contains(&key) {
                continue;
            }
            told.push(key);
            found.push(finding(view, one, &owner));
        }
    }
    found.iter_mut().for_each(|one: &mut Finding| {
        let ids = one.packages.clone();
        one.remedies.extend(ids.first().into_iter().flat_map(|id| repairs(survey, id)));
    });
    found
}

/// The ways of the requiring package's own manager to renew it.
fn repairs(survey: &Survey<'_>, id: &Text) -> Vec<Remedy> {
    let ways = survey.remedies_by_id(path::name(id), id);
    ways.into_iter().filter(|way| matches!(way.purpose.as_str(), "repair" | "upgrade")).collect()
}

fn finding(view: &View, one: &Unmet, owner: &dyn Fn(&Declared) -> Option<Owner>) -> Finding {
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
    let place = match (&view.environment, &view.person) {
        (Some(environment), _) => format!("in {environment}"),
        (None, Some(person)) => format!("when {person} starts {}", view.name),
        (None, None) => format!("with {}", view.name),
    };
    let what = match &found {
        None => "nothing of that name is installed there".to_owned(),
        Some((found, of)) => format!("what is imported is {}", whose(found, of)),
    };
    let masked = one.masked.as_ref().map(|masked| format!(", which hides {}", whose(masked, &owner(masked))));
    let summary = format!("{} requires {needs}, and {place} {what}{}", whose(&one.by, &by), masked.unwrap_or_default());
    // What a distribution put together by itself is as it wants it; what another manager did to it is not.
    let is_managed = |owner: &Option<Owner>| {
        owner.as_ref().is_some_and(|owner| !matches!(owner.manager.0, "pip" | "uv" | "pipx" | "conda"))
    };
    let by_itself = is_managed(&by) && found.as_ref().is_none_or(|(_, of)| is_managed(of));
    let severity = if by_itself { Severity::Note } else { Severity::Warning };
    let consequence = match &found {
        None => format!("importing it from {} fails, at once or when that part is first used", one.by.name),
        Some(_) => format!("{} runs with a version that it was not made for, and may fail anywhere", one.by.name),
    };
    let mut remedies = Vec::new();
    if let (Some((_, Some(owner))), true) = (&found, one.masked.is_some() || is_managed(&by))
        && !is_managed(&Some(owner.clone()))
    {
        let python = path::name(&view.name);
        let python = if view.environment.is_some() { "python3".to_owned() } else { Text::from(python).to_string() };
        let flag = if view.environment.is_some() { "" } else { "--break-system-packages " };
        remedies.push(Remedy {
            purpose: "take the copy in front away".to_owned(),
            command: format!("{python} -m pip uninstall {flag}{}", shell_word(&owner.name)),
        });
    } else if let Some(environment) = &view.environment {
        let program = path::join(environment, b"bin/python");
        let wanted = one.text.split(';').next().unwrap_or_default().trim();
        remedies.push(Remedy {
            purpose: "install what it requires".to_owned(),
            command: format!("{} -m pip install {}", shell_word(&program), shell_word(wanted.as_bytes())),
        });
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
        remedies,
        evidence,
        ..Finding::new(FindingKind::UnmetRequirement, severity, one.by.name.clone(), summary, consequence)
    }
}
