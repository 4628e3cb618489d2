//! Which modules of Python have several copies, which one an interpreter takes, and which programs take it.

use super::shadows::{Shadow, Shadows};
use super::{Located, located, ways_out};
use crate::formats::shebang::Shebang;
use crate::model::{Evidence, Finding, FindingKind, Severity};
use crate::root::{Kind, Root};
use crate::scene::Person;
use crate::search::modules::{self, Module, ModuleFolder};
use crate::search::{SearchPath, Situation};
use crate::survey::Survey;
use crate::text::{Text, path};

/// As much of a script is looked at.
const SCRIPT: usize = 256 << 10;

/// A script of an interpreter on the search path.
struct Script {
    path: Text,
    interpreter: Text,
    text: Vec<u8>,
}

/// A name that several of an interpreter's folders have.
struct Crowded<'p> {
    person: &'p Person,
    folders: Vec<ModuleFolder>,
    interpreter: Text,
    name: Text,
    found: Vec<Module>,
}

/// The modules that hide others, for each interpreter of the system and each situation's person; all, or these names.
#[must_use]
pub fn shadows(survey: &Survey<'_>, situations: &[Situation], search: &SearchPath, names: &[Text]) -> Shadows {
    let root = survey.root();
    let mut crowded: Vec<Crowded<'_>> = Vec::new();
    for situation in situations {
        for (interpreter, version) in modules::interpreters(root) {
            let (listed, _) = situation.list("PYTHONPATH");
            let because = listed.first().map(|one| one.because.clone());
            let list = listed.iter().map(|one| one.folder.to_vec()).collect::<Vec<_>>().join(&b':');
            let given = because.map(|because| (list.as_slice(), because));
            let folders = modules::folders(survey.scene, &interpreter, &version, &situation.person, given);
            for (name, found) in modules::crowded(root, &folders) {
                // People with the same folders are told once.
                let files = |modules: &[Module]| modules.iter().map(|module| module.file.clone()).collect::<Vec<_>>();
                let is_told = crowded.iter().any(|known| {
                    (&known.interpreter, &known.name) == (&interpreter, &name) && files(&known.found) == files(&found)
                });
                if !is_told && (names.is_empty() || names.contains(&name)) {
                    let (person, interpreter) = (&situation.person, interpreter.clone());
                    crowded.push(Crowded { person, folders: folders.clone(), interpreter, name, found });
                }
            }
        }
    }
    if crowded.is_empty() {
        return Shadows::default();
    }
    let scripts = scripts(root, search);
    let files = crowded.iter().flat_map(|one| &one.found).map(|module| &module.file);
    let files: Vec<Text> =
        files.chain(scripts.iter().map(|script| &script.path)).map(|file| root.settle(file)).collect();
    let index = survey.claims(files.iter().map(|file| &**file));
    let mut answer = Shadows::default();
    for Crowded { person, folders, interpreter, name, found } in crowded {
        let copies: Vec<Located> = found.iter().map(|module| located(survey, &index, &module.file)).collect();
        let (winner, hidden) = (copies[0].clone(), copies[1..].to_vec());
        let first = &folders[found[0].folder];
        let takers: Vec<&Script> = scripts
            .iter()
            .filter(|script| script.interpreter == root.settle_folder(&interpreter))
            .filter(|script| Shebang::parse(&script.text).is_some_and(|line| modules::sees(&line, first)))
            .filter(|script| modules::imports(&script.text, &name))
            .collect();
        let is_same = hidden.iter().all(|copy| copy.owner == winner.owner && winner.owner.is_some());
        // A library of the interpreter's own before a copy in a site folder is how it is made.
        let is_own = !first.is_users && !first.is_inherited && found[0].folder < 3;
        let severity = if is_same || is_own || takers.is_empty() { Severity::Note } else { Severity::Warning };
        let second = &folders[found[1].folder];
        let mut because = first.because.clone();
        because.says = format!("{} comes before {}: {}", first.folder, second.folder, because.says);
        let meaning = match takers.len() {
            0 => "no program on the search path takes it in".to_owned(),
            _ => format!(
                "taken in by {}",
                takers
                    .iter()
                    .map(|script| Text::from(path::name(&script.path)).to_string())
                    .collect::<Vec<_>>()
                    .join(", ")
            ),
        };
        if severity > Severity::Note {
            answer.findings.push(masked(&name, &winner, &hidden, &takers, person, &because, survey, &index));
        }
        answer.shadows.push(Shadow {
            kind: "module".to_owned(),
            name,
            context: search.context,
            winner,
            hidden,
            because: vec![because],
            severity,
            meaning,
        });
    }
    answer.shadows.sort_by(|a, b| b.severity.cmp(&a.severity).then_with(|| a.name.cmp(&b.name)));
    answer
}

#[expect(clippy::too_many_arguments, reason = "one finding's facts")]
fn masked(
    name: &Text,
    winner: &Located,
    hidden: &[Located],
    takers: &[&Script],
    person: &Person,
    because: &Evidence,
    survey: &Survey<'_>,
    index: &crate::claims::ClaimIndex,
) -> Finding {
    let whose = |copy: &Located| {
        let version = copy.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        match &copy.owner {
            Some(owner) => format!("{} · {}{version}", owner.manager, owner.name),
            None => format!("{}, which no manager claims", copy.path),
        }
    };
    let programs: Vec<String> = takers
        .iter()
        .map(|script| {
            let owner = located(survey, index, &script.path).owner;
            let owner = owner.map(|owner| format!(" of {}", owner.manager)).unwrap_or_default();
            format!("{}{owner}", Text::from(path::name(&script.path)))
        })
        .collect();
    let packages = std::iter::once(winner).chain(hidden).filter_map(|copy| copy.owner.as_ref());
    let summary = format!("{} hides {} from {}", whose(winner), whose(&hidden[0]), programs.join(", "));
    let consequence =
        format!("started by {}, these programs run with a copy that they were not built for", person.name);
    Finding {
        packages: packages.map(|owner| owner.id.clone()).collect(),
        paths: std::iter::once(winner).chain(hidden).map(|copy| copy.path.clone()).collect(),
        remedies: ways_out(survey, index, &winner.path),
        evidence: vec![because.clone()],
        ..Finding::new(FindingKind::MaskedModule, Severity::Warning, name.clone(), summary, consequence)
    }
}

/// The scripts on the search path that name an interpreter of Python.
fn scripts(root: &Root, search: &SearchPath) -> Vec<Script> {
    let mut found = Vec::new();
    for entry in &search.entries {
        let names = root.folder(&entry.folder).and_then(|folder| folder.list()).unwrap_or_default();
        for (name, _) in names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link)) {
            let file = path::join(&entry.folder, &name);
            let Ok(start) = root.read_start(&file, crate::formats::shebang::LOOKED_AT) else { continue };
            let Some(line) = Shebang::parse(&start) else { continue };
            let named = line.looked_up().map(|name| path::join(b"/usr/bin", name));
            let interpreter = named.unwrap_or_else(|| line.interpreter.into());
            if !path::name(&interpreter).starts_with(b"python") {
                continue;
            }
            let Ok(text) = root.read_start(&file, SCRIPT) else { continue };
            found.push(Script { path: file, interpreter: root.settle_folder(&interpreter), text });
        }
    }
    found
}
