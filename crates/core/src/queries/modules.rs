//! Which modules of Python have several copies, which one an interpreter takes, and which programs take it.

use super::shadows::{Shadow, Shadows};
use super::{Located, advice, located};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Root};
use crate::host::User;
use crate::model::{Evidence, Finding, FindingKind, Severity};
use crate::resolve::modules::{self, Module, ModuleDir};
use crate::resolve::{ResolvedContext, SearchPath};
use crate::survey::Survey;
use whodunit_formats::shebang::Shebang;

/// The most bytes of a script that are read.
const SCRIPT: usize = 256 << 10;

/// A script of an interpreter on the search path.
struct Script {
    path: ByteString,
    interpreter: ByteString,
    text: Vec<u8>,
}

/// A name that several of an interpreter's directories have.
struct Ambiguous<'p> {
    user: &'p User,
    dirs: Vec<ModuleDir>,
    interpreter: ByteString,
    name: ByteString,
    found: Vec<Module>,
}

/// The modules that hide others, for each interpreter of the system and each context's user; all, or these names.
#[must_use]
pub fn shadows(
    survey: &Survey<'_>,
    resolved: &[ResolvedContext],
    search: &SearchPath,
    names: &[ByteString],
) -> Shadows {
    let root = survey.root();
    let ambiguous = ambiguous(survey, resolved, names);
    if ambiguous.is_empty() {
        return Shadows::default();
    }
    let scripts = scripts(root, search);
    let files = ambiguous.iter().flat_map(|one| &one.found).map(|module| &module.file);
    let files: Vec<ByteString> =
        files.chain(scripts.iter().map(|script| &script.path)).map(|file| root.canonicalize(file)).collect();
    let index = survey.claims(files.iter().map(|file| &**file));
    let mut answer = Shadows::default();
    for Ambiguous { user, dirs, interpreter, name, found } in ambiguous {
        let copies: Vec<Located> = found.iter().map(|module| located(survey, &index, &module.file)).collect();
        let (winner, hidden) = (copies[0].clone(), copies[1..].to_vec());
        let first = &dirs[found[0].dir];
        let takers: Vec<&Script> = scripts
            .iter()
            .filter(|script| script.interpreter == root.canonicalize_dir(&interpreter))
            .filter(|script| Shebang::parse(&script.text).is_some_and(|line| modules::sees(&line, first)))
            .filter(|script| modules::imports(&script.text, &name))
            .collect();
        let is_same = hidden.iter().all(|copy| copy.owner == winner.owner && winner.owner.is_some());
        // A library of the interpreter's own before a copy in a site directory is how it is made.
        let is_own = !first.is_users && !first.is_inherited && found[0].dir < 3;
        let severity = if is_same || is_own || takers.is_empty() { Severity::Note } else { Severity::Warning };
        let second = &dirs[found[1].dir];
        let mut because = first.because.clone();
        because.says = format!("{} comes before {}: {}", first.dir, second.dir, because.says);
        let meaning = match takers.len() {
            0 => "no program in the search path imports it".to_owned(),
            _ => format!(
                "imported by {}",
                takers
                    .iter()
                    .map(|script| ByteString::from(path::name(&script.path)).to_string())
                    .collect::<Vec<_>>()
                    .join(", ")
            ),
        };
        if severity > Severity::Note {
            answer.findings.push(masked(&name, &winner, &hidden, &takers, user, &because, survey, &index));
        }
        answer.shadows.push(Shadow {
            kind: "module".to_owned(),
            name,
            context: search.context,
            users: vec![user.name.clone()],
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

/// The modules that several directories have, for each interpreter and each user's directories.
fn ambiguous<'r>(survey: &Survey<'_>, resolved: &'r [ResolvedContext], names: &[ByteString]) -> Vec<Ambiguous<'r>> {
    let root = survey.root();
    let mut ambiguous: Vec<Ambiguous<'_>> = Vec::new();
    for resolved in resolved {
        for (interpreter, version) in modules::interpreters(root) {
            let (listed, _) = resolved.list("PYTHONPATH");
            let because = listed.first().map(|one| one.because.clone());
            let list = listed.iter().map(|one| one.dir.to_vec()).collect::<Vec<_>>().join(&b':');
            let given = because.map(|because| (list.as_slice(), because));
            let dirs = modules::dirs(survey.host, &interpreter, &version, &resolved.user, given);
            for (name, found) in modules::ambiguous(root, &dirs) {
                // Users with the same directories are told once.
                let files = |modules: &[Module]| modules.iter().map(|module| module.file.clone()).collect::<Vec<_>>();
                let is_told = ambiguous.iter().any(|known| {
                    (&known.interpreter, &known.name) == (&interpreter, &name) && files(&known.found) == files(&found)
                });
                if !is_told && (names.is_empty() || names.contains(&name)) {
                    let (user, interpreter) = (&resolved.user, interpreter.clone());
                    ambiguous.push(Ambiguous { user, dirs: dirs.clone(), interpreter, name, found });
                }
            }
        }
    }
    ambiguous
}

#[expect(clippy::too_many_arguments, reason = "one finding's facts")]
fn masked(
    name: &ByteString,
    winner: &Located,
    hidden: &[Located],
    takers: &[&Script],
    user: &User,
    because: &Evidence,
    survey: &Survey<'_>,
    index: &crate::index::ClaimIndex,
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
            format!("{}{owner}", ByteString::from(path::name(&script.path)))
        })
        .collect();
    let packages = std::iter::once(winner).chain(hidden).filter_map(|copy| copy.owner.as_ref());
    let summary = format!("{} hides {} from {}", whose(winner), whose(&hidden[0]), programs.join(", "));
    let consequence =
        format!("when {} starts them, these programs run with a copy that they were not packaged with", user.name);
    Finding {
        packages: packages.map(|owner| owner.id.clone()).collect(),
        paths: std::iter::once(winner).chain(hidden).map(|copy| copy.path.clone()).collect(),
        remedies: advice::leave_one(survey, winner, hidden),
        evidence: vec![because.clone()],
        ..Finding::new(FindingKind::MaskedModule, Severity::Warning, name.clone(), summary, consequence)
    }
}

/// The scripts on the search path that name an interpreter of Python.
fn scripts(root: &Root, search: &SearchPath) -> Vec<Script> {
    let mut found = Vec::new();
    for entry in &search.entries {
        let names = root.dir(&entry.dir).and_then(|dir| dir.list()).unwrap_or_default();
        for (name, _) in names.into_iter().filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link)) {
            let file = path::join(&entry.dir, &name);
            let Ok(start) = root.read_start(&file, whodunit_formats::shebang::LOOKED_AT) else { continue };
            let Some(line) = Shebang::parse(&start) else { continue };
            let named = line.looked_up().map(|name| path::join(b"/usr/bin", name));
            let interpreter = named.unwrap_or_else(|| line.interpreter.into());
            if !path::name(&interpreter).starts_with(b"python") {
                continue;
            }
            let Ok(text) = root.read_start(&file, SCRIPT) else { continue };
            found.push(Script { path: file, interpreter: root.canonicalize_dir(&interpreter), text });
        }
    }
    found
}
