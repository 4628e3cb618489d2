//! Which shared libraries have several copies, which one the dynamic loader takes, and which programs take it.

use std::collections::BTreeMap;

use super::shadows::{Shadow, Shadows};
use super::{Located, located};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::fs::Root;
use crate::model::{Evidence, Finding, FindingKind, Severity};
use crate::resolve::libraries::Loader;
use crate::resolve::{ResolvedContext, SearchPath};
use crate::survey::Survey;

/// The libraries of the loader's cache, and of `LD_LIBRARY_PATH`, that hide others; all, or these names.
#[must_use]
pub fn shadows(survey: &Survey<'_>, resolved: &ResolvedContext, search: &SearchPath, names: &[ByteString]) -> Shadows {
    let root = survey.root();
    let loader = Loader::of(root);
    loader.notes.iter().for_each(|note| root.note_gap(b"/etc/ld.so.cache", note.what.clone()));
    let (listed, _) = resolved.list("LD_LIBRARY_PATH");
    let front: Vec<ByteString> = listed.iter().map(|one| one.dir.clone()).collect();
    let ambiguous = ambiguous(root, &loader, &front, names);
    if ambiguous.is_empty() {
        return Shadows::default();
    }
    let wanted: Vec<&ByteString> = ambiguous.iter().map(|(name, _)| name).collect();
    let takers = takers(&loader, survey, search, &wanted);
    let files: Vec<ByteString> =
        ambiguous.iter().flat_map(|(_, files)| files).map(|file| root.canonicalize_dir(file)).collect();
    let index = survey.claims(files.iter().map(|file| &**file));
    let mut answer = Shadows::default();
    for (name, files) in ambiguous {
        let copies: Vec<Located> = files
            .iter()
            .map(|file| Located { path: file.clone(), ..located(survey, &index, &root.canonicalize_dir(file)) })
            .collect();
        let (winner, hidden) = (copies[0].clone(), copies[1..].to_vec());
        let programs = takers.get(&name).cloned().unwrap_or_default();
        let is_same = hidden.iter().all(|copy| copy.owner == winner.owner && winner.owner.is_some());
        let severity = if is_same || programs.is_empty() { Severity::Note } else { Severity::Warning };
        let because = match listed.iter().find(|one| path::within(&winner.path, &one.dir)) {
            Some(one) => one.because.clone(),
            None => Evidence::at("/etc/ld.so.cache", name.to_string(), "the first entry of the name"),
        };
        let shown: Vec<String> =
            programs.iter().take(8).map(|file| ByteString::from(path::name(file)).to_string()).collect();
        let more = if programs.len() > 8 { format!(" and {} more", programs.len() - 8) } else { String::new() };
        let meaning = match programs.len() {
            0 => "no program in the search path needs it".to_owned(),
            _ => format!("taken by {}{more}", shown.join(", ")),
        };
        if severity > Severity::Note {
            let packages = copies.iter().filter_map(|copy| copy.owner.as_ref()).map(|owner| owner.id.clone());
            let whose =
                |copy: &Located| copy.owner.as_ref().map_or("no manager".to_owned(), |owner| owner.manager.to_string());
            let (ahead, behind) = (whose(&winner), whose(&hidden[0]));
            let summary = format!("{} of {ahead} hides {} of {behind}", winner.path, hidden[0].path);
            let consequence = format!("{}{more} run with a library that they were not packaged with", shown.join(", "));
            answer.findings.push(Finding {
                packages: packages.collect(),
                paths: copies.iter().map(|copy| copy.path.clone()).collect(),
                evidence: vec![because.clone()],
                ..Finding::new(FindingKind::MaskedLibrary, severity, name.clone(), summary, consequence)
            });
        }
        answer.shadows.push(Shadow {
            kind: "library".to_owned(),
            name,
            context: search.context,
            users: search.user.iter().cloned().collect(),
            winner,
            hidden,
            because: vec![because],
            severity,
            meaning,
        });
    }
    answer.shadows.sort_by(Shadow::by_importance);
    answer
}

/// The names that several files have, with the files in the loader's order.
fn ambiguous(
    root: &Root,
    loader: &Loader<'_>,
    front: &[ByteString],
    names: &[ByteString],
) -> Vec<(ByteString, Vec<ByteString>)> {
    let machine = |file: &ByteString| loader.dynamic(file).map(|said| said.machine);
    let mut ambiguous: Vec<(ByteString, Vec<ByteString>)> = Vec::new();
    for (name, files) in loader.names(front) {
        if files.len() < 2 || !(names.is_empty() || names.contains(&name)) {
            continue;
        }
        // One file under two spellings is one copy; those of another machine are no copies of it.
        let mut kept: Vec<(ByteString, (u64, u64))> = Vec::new();
        let first = files.iter().find_map(machine);
        for file in files.into_iter().filter(|file| machine(file) == first) {
            let Ok(meta) = root.target(&file) else { continue };
            if !kept.iter().any(|(_, known)| *known == meta.identity) {
                kept.push((file, meta.identity));
            }
        }
        if kept.len() > 1 {
            ambiguous.push((name, kept.into_iter().map(|(file, _)| file).collect()));
        }
    }
    ambiguous
}

/// The programs on the search path that need any of these libraries themselves.
fn takers(
    loader: &Loader<'_>,
    survey: &Survey<'_>,
    search: &SearchPath,
    wanted: &[&ByteString],
) -> BTreeMap<ByteString, Vec<ByteString>> {
    let root = survey.root();
    let mut found: BTreeMap<ByteString, Vec<ByteString>> = BTreeMap::new();
    for entry in &search.entries {
        let names = root.names_in(&entry.dir);
        for (name, _) in names.into_iter().filter(|(_, kind)| *kind == Kind::File) {
            let file = path::join(&entry.dir, &name);
            let Some(said) = loader.dynamic(&file) else { continue };
            for library in
                said.needed.iter().filter_map(|needed| wanted.iter().find(|name| name.as_bytes() == needed.as_slice()))
            {
                found.entry((*library).clone()).or_default().push(file.clone());
            }
        }
    }
    found
}

/// Libraries that a program needs and that the loader would not find.
#[must_use]
pub fn missing(loader: &Loader<'_>, program: &ByteString, library_path: Option<&[u8]>) -> Vec<Finding> {
    let missing = loader.needs(program, library_path).into_iter().filter(|needed| needed.path.is_none());
    let finding = |needed: crate::resolve::libraries::Needed| {
        let (file, says) = (&needed.because.file, &needed.because.says);
        let summary = format!("{program} needs {}, which the loader does not find: {file} {says}", needed.name);
        let consequence = "it fails to start";
        Finding {
            paths: vec![program.clone(), needed.by.clone()],
            evidence: vec![needed.because],
            ..Finding::new(FindingKind::MissingLibrary, Severity::Error, program.clone(), summary, consequence)
        }
    };
    missing.map(finding).collect()
}
