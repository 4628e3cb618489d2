//! Which modules of Python have several copies, which one an interpreter takes, and which programs take it.

use super::shadows::{Shadow, Shadows};
use super::{Located, advice, located};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Root};
use crate::host::User;
use crate::index::ClaimIndex;
use crate::model::{Evidence, Finding, FindingKind, Owner, Severity};
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
    let ambiguous = ambiguous(survey, resolved, names);
    if ambiguous.is_empty() {
        return Shadows::default();
    }
    let scripts = scripts(survey.root(), search);
    let index = claims_on(survey, &ambiguous, &scripts);
    let mut answer = Shadows::default();
    for one in &ambiguous {
        let masking = Masking::of(survey, &index, one, &scripts);
        if masking.is_told {
            answer.findings.push(masking.masked(survey));
            answer.findings.extend(masking.other_code(survey));
        }
        answer.shadows.push(masking.shadow(search));
    }
    answer.shadows.sort_by(Shadow::by_importance);
    answer
}

/// The code of others that a program of Python runs with, as the users of these contexts start it: `runs-other-code`.
#[must_use]
pub fn other_code<'r>(
    survey: &Survey<'_>,
    resolved: impl IntoIterator<Item = &'r ResolvedContext>,
    program: &[u8],
) -> Vec<Finding> {
    let Some(script) = Script::read(survey.root(), program) else { return Vec::new() };
    let mut ambiguous = ambiguous(survey, resolved, &[]);
    ambiguous.retain(|one| script.imports(survey.root(), one));
    if ambiguous.is_empty() {
        return Vec::new();
    }
    let scripts = [script];
    let index = claims_on(survey, &ambiguous, &scripts);
    let maskings = ambiguous.iter().map(|one| Masking::of(survey, &index, one, &scripts));
    maskings.filter(|masking| masking.is_told).flat_map(|masking| masking.other_code(survey)).collect()
}

/// Who claims the copies and the scripts.
fn claims_on(survey: &Survey<'_>, ambiguous: &[Ambiguous<'_>], scripts: &[Script]) -> ClaimIndex {
    let files = ambiguous.iter().flat_map(|one| &one.found).map(|module| &module.file);
    let files: Vec<ByteString> =
        files.chain(scripts.iter().map(|script| &script.path)).map(|file| survey.root().canonicalize(file)).collect();
    survey.claims(files.iter().map(|file| &**file))
}

/// The modules that several directories have, for each interpreter and each user's directories.
fn ambiguous<'r>(
    survey: &Survey<'_>,
    resolved: impl IntoIterator<Item = &'r ResolvedContext>,
    names: &[ByteString],
) -> Vec<Ambiguous<'r>> {
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

/// A program that imports a module.
struct Importer<'s> {
    script: &'s Script,
    owner: Option<Owner>,
}

impl Importer<'_> {
    fn name(&self) -> ByteString {
        path::name(&self.script.path).into()
    }

    /// Whether the copy that it gets is the one that it came with: of its own package, or of the user who wrote it.
    fn belongs_to(&self, winner: &Located, user: &User) -> bool {
        match &self.owner {
            Some(owner) => winner.owner.as_ref().is_some_and(|of_winner| of_winner.id == owner.id),
            None => path::within(&self.script.path, &user.home) && path::within(&winner.path, &user.home),
        }
    }
}

/// A module that hides others from programs.
struct Masking<'m> {
    one: &'m Ambiguous<'m>,
    winner: Located,
    hidden: Vec<Located>,
    importers: Vec<Importer<'m>>,
    because: Evidence,
    severity: Severity,
    /// Whether it is a finding: programs that came with another copy get this one.
    is_told: bool,
}

impl<'m> Masking<'m> {
    fn of(survey: &Survey<'_>, index: &ClaimIndex, one: &'m Ambiguous<'m>, scripts: &'m [Script]) -> Self {
        let mut copies = one.found.iter().map(|module| located(survey, index, &module.file));
        let winner = copies.next().expect("several copies");
        let hidden: Vec<Located> = copies.collect();
        let importing = scripts.iter().filter(|script| script.imports(survey.root(), one));
        let importers: Vec<Importer<'_>> = importing
            .map(|script| Importer { script, owner: located(survey, index, &script.path).owner })
            .filter(|importer| !importer.belongs_to(&winner, one.user))
            .collect();
        let [first, second] = [0, 1].map(|number| &one.dirs[one.found[number].dir]);
        // A library of the interpreter's own before a copy in a site directory is how it is made.
        let is_own = !first.is_users && !first.is_inherited && one.found[0].dir < 3;
        let is_same = hidden.iter().all(|copy| copy.owner == winner.owner && winner.owner.is_some());
        let agrees = hidden.iter().all(|copy| advice::is_same_version(&winner, copy));
        let is_told = !is_same && !is_own && !importers.is_empty();
        let severity = if is_told && !agrees { Severity::Warning } else { Severity::Note };
        let mut because = first.because.clone();
        because.says = format!("{} comes before {}: {}", first.dir, second.dir, because.says);
        Masking { one, winner, hidden, importers, because, severity, is_told }
    }

    fn shadow(self, search: &SearchPath) -> Shadow {
        let names: Vec<String> = self.importers.iter().map(|importer| importer.name().to_string()).collect();
        let meaning = match names.len() {
            0 => "no other program in the search path imports it".to_owned(),
            _ => format!("imported by {}", names.join(", ")),
        };
        Shadow {
            kind: "module".to_owned(),
            context: search.context,
            users: vec![self.one.user.name.clone()],
            winner: self.winner,
            hidden: self.hidden,
            because: vec![self.because],
            severity: self.severity,
            meaning,
            name: self.one.name.clone(),
        }
    }

    fn copies(&self) -> impl Iterator<Item = &Located> {
        std::iter::once(&self.winner).chain(&self.hidden)
    }

    fn finding(&self, survey: &Survey<'_>, kind: FindingKind, subject: ByteString, texts: (String, String)) -> Finding {
        Finding {
            packages: self.copies().filter_map(|copy| copy.owner.as_ref()).map(|owner| owner.id.clone()).collect(),
            paths: self.copies().map(|copy| copy.path.clone()).collect(),
            remedies: advice::leave_one(survey, &self.winner, &self.hidden),
            evidence: vec![self.because.clone()],
            ..Finding::new(kind, self.severity, subject, texts.0, texts.1)
        }
    }

    /// `masked-module`.
    fn masked(&self, survey: &Survey<'_>) -> Finding {
        let of_manager = |importer: &Importer<'_>| match &importer.owner {
            Some(owner) => format!("{} of {}", importer.name(), owner.manager),
            None => importer.name().to_string(),
        };
        let programs: Vec<String> = self.importers.iter().map(of_manager).collect();
        let summary = format!("{} hides {} from {}", whose(&self.winner), whose(&self.hidden[0]), programs.join(", "));
        let these = if programs.len() == 1 { "this program runs" } else { "these programs run" };
        let them = if programs.len() == 1 { "it" } else { "them" };
        let user = &self.one.user.name;
        let consequence = match self.severity {
            Severity::Note => format!("when {user} starts {them}, {these} with that copy; its version is the same"),
            _ => format!("when {user} starts {them}, {these} with a copy that was not packaged with {them}"),
        };
        self.finding(survey, FindingKind::MaskedModule, self.one.name.clone(), (summary, consequence))
    }

    /// `runs-other-code`: programs whose own module is among the hidden copies.
    fn other_code(&self, survey: &Survey<'_>) -> Vec<Finding> {
        let is_own = |importer: &&Importer<'_>| {
            self.hidden.iter().any(|copy| copy.owner.is_some() && copy.owner == importer.owner)
        };
        let told = |importer: &Importer<'_>| {
            let owner = importer.owner.as_ref()?;
            let version = owner.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
            let summary = format!(
                "{} of {} · {}{version} runs the code of {}",
                importer.script.path,
                owner.manager,
                owner.name,
                whose(&self.winner)
            );
            let consequence = format!(
                "when {} starts it, what its package's version promises does not hold: it loads {}",
                self.one.user.name, self.winner.path
            );
            let mut found = self.finding(survey, FindingKind::RunsOtherCode, importer.name(), (summary, consequence));
            found.paths.insert(0, importer.script.path.clone());
            Some(found)
        };
        self.importers.iter().filter(is_own).filter_map(told).collect()
    }
}

/// A copy for display: `pip · knots 2.0`.
fn whose(copy: &Located) -> String {
    let version = copy.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    match &copy.owner {
        Some(owner) => format!("{} · {}{version}", owner.manager, owner.name),
        None => format!("{}, which no manager claims", copy.path),
    }
}

/// The scripts on the search path that name an interpreter of Python.
fn scripts(root: &Root, search: &SearchPath) -> Vec<Script> {
    let mut found = Vec::new();
    for entry in &search.entries {
        let names = root.names_in(&entry.dir).into_iter();
        let files = names.filter(|(_, kind)| matches!(kind, Kind::File | Kind::Link));
        found.extend(files.filter_map(|(name, _)| Script::read(root, &path::join(&entry.dir, &name))));
    }
    found
}

impl Script {
    /// The file, if it is a script that names an interpreter of Python.
    fn read(root: &Root, file: &[u8]) -> Option<Script> {
        let start = root.read_start(file, whodunit_formats::shebang::LOOKED_AT).ok()?;
        let line = Shebang::parse(&start)?;
        let named = line.looked_up().map(|name| path::join(b"/usr/bin", name));
        let interpreter = named.unwrap_or_else(|| line.interpreter.into());
        if !path::name(&interpreter).starts_with(b"python") {
            return None;
        }
        let text = root.read_start(file, SCRIPT).ok()?;
        Some(Script { path: file.into(), interpreter: root.canonicalize_dir(&interpreter), text })
    }

    /// Whether it imports this name from where this interpreter finds it first.
    fn imports(&self, root: &Root, one: &Ambiguous<'_>) -> bool {
        let first = &one.dirs[one.found[0].dir];
        self.interpreter == root.canonicalize_dir(&one.interpreter)
            && Shebang::parse(&self.text).is_some_and(|line| modules::sees(&line, first))
            && modules::imports(&self.text, &one.name)
    }
}
