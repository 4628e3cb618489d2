//! What the managers' own records say of packages: half there, gone but for their settings, out of the usual.

use super::Look;
use crate::managers::Detail;
use crate::model::{Evidence, Finding, FindingKind, Package, Remedy, Severity, Status};
use crate::root::Kind;
use crate::text::{Text, path, shell_word};

/// `diverted-program`, `chosen-by-hand` and the like: what a manager tells of itself.
pub fn peculiar(look: &Look<'_, '_>) -> Vec<Finding> {
    look.survey.holdings().iter().flat_map(|held| held.peculiar()).collect()
}

/// `half-installed`, `settings-left`, `data-left` and `not-executable`.
pub fn states(look: &Look<'_, '_>) -> Vec<Finding> {
    let packages = look.survey.packages(Detail { evidence: true, ..Detail::default() });
    let mut found: Vec<Finding> = packages.iter().filter_map(|package| of_package(look, package)).collect();
    let removed = packages.iter().filter(|package| package.status == Status::ConfigRemains);
    found.extend(removed.flat_map(|package| data_left(look, package)));
    found
}

/// Where programs keep what they write for a person, below a home (*XDG Base Directory Specification*).
const DATA: [&str; 4] = [".config", ".local/share", ".local/state", ".cache"];

/// What a removed package's program wrote into people's homes.
fn data_left(look: &Look<'_, '_>, package: &Package) -> Vec<Finding> {
    let root = look.survey.root();
    let folders = look.survey.scene.people.iter().flat_map(|person| {
        let of = move |below: &&str| path::join(&path::join(&person.home, below.as_bytes()), &package.name);
        DATA.iter().map(of)
    });
    let there = folders.filter(|folder| root.entry(folder).is_ok_and(|meta| meta.kind == Kind::Folder));
    let told = there.map(|folder| {
        let summary = format!("{folder} is left of {}, which {} removed", package.name, package.manager);
        let consequence = "it takes its room until somebody deletes it, and is used again if the program comes back";
        let mut evidence = vec![Evidence::at(folder.clone(), "folder", format!("is called as {} is", package.name))];
        evidence.extend(package.evidence.iter().cloned());
        Finding {
            packages: vec![package.id.clone()],
            paths: vec![folder.clone()],
            remedies: vec![Remedy {
                purpose: "delete it".to_owned(),
                command: format!("rm -r {}", shell_word(&folder)),
            }],
            evidence,
            ..Finding::new(FindingKind::DataLeft, Severity::Note, package.name.clone(), summary, consequence)
        }
    });
    told.collect()
}

fn of_package(look: &Look<'_, '_>, package: &Package) -> Option<Finding> {
    let ways = || look.survey.remedies_by_id(&package.name, &package.id);
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
            let repairs = ways().into_iter().filter(|way| way.purpose == "repair").collect();
            let summary = format!("{} · {name}{version} is not wholly installed", package.manager);
            let consequence =
                "its programs may be missing or not set up, and its manager may refuse other work until it is mended";
            Some(with(FindingKind::HalfInstalled, Severity::Error, summary, consequence, repairs))
        }
        Status::ConfigRemains => {
            let summary = format!("{} removed {name}{version} and kept its settings", package.manager);
            let consequence = "they are used again if it is installed again, and take a little room until then";
            Some(with(FindingKind::SettingsLeft, Severity::Note, summary, consequence, ways()))
        }
        Status::Disabled if package.kind == "bundle" => {
            let file =
                package.commands.first().cloned().or_else(|| package.evidence.first().map(|one| one.file.clone()))?;
            Some(Finding { paths: vec![file.clone()], ..not_executable(&file, &name, package) })
        }
        _ => None,
    }
}

fn not_executable(file: &Text, name: &Text, package: &Package) -> Finding {
    let version = package.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let summary = format!("{file}, {name}{version}, may not be executed");
    let consequence = "it cannot be started, from a menu or by its path, until it is made a program";
    let command = format!("chmod +x {}", shell_word(file));
    Finding {
        packages: vec![package.id.clone()],
        remedies: vec![Remedy { purpose: "make it a program".to_owned(), command }],
        evidence: package.evidence.clone(),
        ..Finding::new(FindingKind::NotExecutable, Severity::Warning, name.clone(), summary, consequence)
    }
}

/// `not-executable`, of files where people put programs of their own.
pub fn not_programs(look: &Look<'_, '_>) -> Vec<Finding> {
    let root = look.survey.root();
    let mut folders: Vec<&Text> =
        look.searches.iter().flat_map(|search| &search.entries).map(|entry| &entry.settled).collect();
    folders.sort();
    folders.dedup();
    let is_own = |folder: &&&Text| folder.starts_with(b"/usr/local/") || look.survey.scene.at_home(folder).is_some();
    let mut found = Vec::new();
    for folder in folders.iter().filter(is_own) {
        let names = root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
        for (name, _) in names.into_iter().filter(|(_, kind)| *kind == Kind::File) {
            let file = path::join(folder, &name);
            let Ok(meta) = root.entry(&file) else { continue };
            if meta.mode & 0o111 != 0 {
                continue;
            }
            let start = root.read_start(&file, 4).unwrap_or_default();
            if start != b"\x7fELF" && !start.starts_with(b"#!") {
                continue;
            }
            let summary = format!("{file} is a program, and may not be executed");
            let consequence = "its name is looked up past it: another copy runs, or none";
            let command = format!("chmod +x {}", shell_word(&file));
            found.push(Finding {
                paths: vec![file.clone()],
                remedies: vec![Remedy { purpose: "make it a program".to_owned(), command }],
                evidence: vec![Evidence::at(file.clone(), "mode", format!("{:04o}", meta.mode))],
                ..Finding::new(FindingKind::NotExecutable, Severity::Warning, name, summary, consequence)
            });
        }
    }
    found
}
