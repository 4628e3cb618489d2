//! Problems with programs that cannot start any more: links that lead nowhere, scripts whose interpreter is
//! gone, environments that have lost their base.

use crate::backend::advice::at_path;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::host::Host;
use crate::model::{Cause, CommandLine, Evidence, Finding, FindingKind, Owner, Remedy, RemedyKind, Severity};
use crate::resolve::{End, How, Resolution};
use whodunit_formats::pyvenv::Pyvenv;

/// A program that was looked at: its resolution, its owner, and the ways in which its manager repairs it.
#[derive(Clone, Copy)]
pub struct Program<'a> {
    /// From the path found to what finally runs.
    pub resolution: &'a Resolution,
    /// The owner of what finally runs.
    pub owner: Option<&'a Owner>,
    /// The manager's own commands.
    pub remedies: &'a [Remedy],
    /// What becomes of a link that leads nowhere.
    pub mend_link: &'a dyn Fn(&ByteString) -> Option<Remedy>,
}

/// Findings about a program.
#[must_use]
pub fn of(host: &Host, program: Program<'_>) -> Vec<Finding> {
    let root = &host.root;
    let mut found: Vec<Finding> = dangling(program).into_iter().collect();
    found.extend(broken_interpreter(host, program));
    let interpreter = program.resolution.script.as_ref().and_then(|script| script.interpreter.as_ref());
    let lost = (program.resolution.end == End::Nothing).then(|| &program.resolution.steps[0].path);
    let places = [Some(program.resolution.last()), interpreter.map(|resolution| &resolution.steps[0].path), lost];
    let environment = places.into_iter().flatten().find_map(|place| environment_around(root, place));
    if let Some(stale) = environment.and_then(|environment| stale_base(host, &environment, program)) {
        // An environment's link to its base is mended with the environment; removed, it would be no more use.
        let base = Cause::Missing(program.resolution.last().clone());
        found.retain(|one| one.kind != FindingKind::DanglingLink || !stale.causes.contains(&base));
        found.push(stale);
    }
    found
}

fn finding(
    kind: FindingKind,
    severity: Severity,
    subject: &ByteString,
    summary: String,
    consequence: String,
) -> Finding {
    Finding { paths: vec![subject.clone()], ..Finding::new(kind, severity, subject.clone(), summary, consequence) }
}

fn repairs(program: Program<'_>) -> Vec<Remedy> {
    program.remedies.iter().filter(|remedy| remedy.kind == RemedyKind::Repair).cloned().collect()
}

/// A link that leads nowhere.
#[must_use]
pub fn dangling_link(link: &ByteString, target: &ByteString, remedy: Option<Remedy>) -> Finding {
    let consequence = format!("{} cannot be started through it", ByteString::from(path::name(link)));
    let summary = format!("{link} points to {target}, which does not exist");
    let mut found = finding(FindingKind::DanglingLink, Severity::Warning, link, summary, consequence);
    found.paths.push(target.clone());
    found.remedies.extend(remedy);
    found.evidence.push(Evidence::at(link.clone(), "link", format!("points to {target}")));
    found.causes = vec![Cause::Missing(target.clone()), Cause::Command(path::name(link).into())];
    found
}

fn dangling(program: Program<'_>) -> Option<Finding> {
    let steps = &program.resolution.steps;
    if program.resolution.end != End::Nothing
        || !steps.iter().any(|step| step.how == How::Link && step.through.is_none())
    {
        return None;
    }
    let remedy = (program.mend_link)(&steps[0].path);
    let mut found = dangling_link(&steps[0].path, program.resolution.last(), remedy);
    found.packages.extend(program.owner.map(|owner| owner.id.clone()));
    Some(found)
}

fn broken_interpreter(host: &Host, program: Program<'_>) -> Option<Finding> {
    let script = program.resolution.script.as_ref()?;
    let gone = match &script.interpreter {
        Some(resolution) if resolution.end == End::Nothing => resolution.last(),
        Some(_) => return None,
        None => &script.line,
    };
    let subject = program.resolution.last();
    let summary = format!("the interpreter of the script {subject} does not exist");
    let name = ByteString::from(path::name(subject));
    let consequence = format!("starting {name} fails although the file exists and is executable");
    let mut found = finding(FindingKind::BrokenInterpreter, Severity::Error, subject, summary, consequence);
    found.evidence.push(Evidence::line(subject.clone(), 1, format!("{}: {gone} does not exist", script.line)));
    found.causes.push(Cause::Missing(gone.clone()));
    found.packages.extend(program.owner.map(|owner| owner.id.clone()));
    found.remedies = repairs(program);
    if found.remedies.is_empty()
        && let Some(environment) = environment_around(&host.root, subject)
    {
        found.remedies.extend(renew(host, &environment));
    }
    Some(found)
}

/// As many distributions are named in one command; a larger environment is made anew from its own project.
const MAX_NAMED: usize = 40;

/// Makes an environment anew with today's interpreter, and installs what it held: packages that were compiled for one
/// version of Python are not found by another. None where the interpreter cannot make environments, or where what the
/// environment held is not known.
fn renew(host: &Host, environment: &ByteString) -> Option<Remedy> {
    let root = &host.root;
    let python: ByteString = "/usr/bin/python3".into();
    let version = version_of(&root.canonicalize_dir(&python))?.to_vec();
    let library = [&b"/usr/lib/python"[..], &version, b"/ensurepip"].concat();
    root.target(&library).ok()?;
    let held = installed_in(root, environment)?;
    let make = CommandLine::program(python).words("-m venv --clear --").arg(environment.clone());
    let fill = CommandLine::program(path::join(environment, b"bin/python")).words("-m pip install --");
    let fill = held.iter().fold(fill, |line, one| line.arg(one.clone()));
    let line = if held.is_empty() { make } else { make.and_then(fill) };
    let remedy = Remedy::new(RemedyKind::Repair, line).online().to("make the environment anew, with what it holds");
    Some(at_path(host, environment, remedy.losing(format!("files in {environment} that pip did not install"))))
}

/// The distributions of an environment, as `NAME==VERSION`; `None` if one of them came from elsewhere than an index,
/// or if there are too many.
fn installed_in(root: &Root, environment: &ByteString) -> Option<Vec<ByteString>> {
    let mut held = Vec::new();
    for (name, _) in root.dir(&path::join(environment, b"lib")).and_then(|dir| dir.list()).ok()? {
        let dir = path::join(&path::join(&path::join(environment, b"lib"), &name), b"site-packages");
        for (entry, _) in root.names_in(&dir) {
            let Some(stem) = entry.strip_suffix(b".dist-info") else { continue };
            let at = memchr::memchr(b'-', stem)?;
            let (name, version) = (&stem[..at], &stem[at + 1..]);
            // What every environment brings, it brings in its own version.
            if matches!(name, b"pip" | b"setuptools" | b"wheel" | b"pkg_resources") {
                continue;
            }
            if root.entry(&path::join(&path::join(&dir, &entry), b"direct_url.json")).is_ok() {
                return None;
            }
            held.push([name, b"==", version].concat().into());
        }
    }
    held.sort();
    held.dedup();
    (held.len() <= MAX_NAMED).then_some(held)
}

/// The virtual environment in which a path lies.
fn environment_around(root: &Root, place: &[u8]) -> Option<ByteString> {
    let mut at = path::parent(place);
    while at.len() > 1 {
        if root.entry(&path::join(at, b"pyvenv.cfg")).is_ok_and(|meta| meta.kind == Kind::File) {
            return Some(at.into());
        }
        at = path::parent(at);
    }
    None
}

/// `python3.11` means 3.11; `python3` says nothing.
fn version_of(interpreter: &[u8]) -> Option<&[u8]> {
    let version = path::name(interpreter).strip_prefix(b"python")?;
    version.contains(&b'.').then_some(version)
}

/// An environment whose base interpreter is gone, or is another version than the one that it was made for.
fn stale_base(host: &Host, environment: &ByteString, program: Program<'_>) -> Option<Finding> {
    let root = &host.root;
    let file = path::join(environment, b"pyvenv.cfg");
    let settings = Pyvenv::parse(&root.read(&file, Limit::SMALL).ok()?);
    let python = Resolution::links(root, &path::join(environment, b"bin/python"));
    let home = settings.home.clone().unwrap_or_default();
    let (summary, consequence, evidence) = if python.end == End::Nothing {
        (
            format!("the base interpreter of {environment} does not exist"),
            "no program in the environment starts",
            Evidence::at(file, "home", format!("{home}; {} does not exist", python.last())),
        )
    } else {
        let now = ByteString::from(version_of(python.last())?);
        let made_for = made_for(root, environment, settings.version.as_ref())?;
        if made_for == now {
            return None;
        }
        (
            format!("{environment} was made for Python {made_for}, but its interpreter is now {now}"),
            "its programs start but do not find the environment's packages",
            Evidence::at(file, "version", format!("{made_for}; {} is {now}", python.last())),
        )
    };
    let mut found = finding(FindingKind::StaleBase, Severity::Error, environment, summary, consequence.to_owned());
    found.evidence.push(evidence);
    if python.end == End::Nothing {
        found.causes.push(Cause::Missing(python.last().clone()));
    }
    found.packages.extend(program.owner.map(|owner| owner.id.clone()));
    found.remedies = repairs(program);
    if found.remedies.is_empty() {
        found.remedies.extend(renew(host, environment));
    }
    Some(found)
}

/// The minor version for which an environment was made: by its directory of modules, else by its settings.
fn made_for(root: &Root, environment: &ByteString, noted: Option<&ByteString>) -> Option<ByteString> {
    let names = root.names_in(&path::join(environment, b"lib"));
    let dirs = names.iter().filter(|(_, kind)| *kind == Kind::Dir);
    let mut versions = dirs.filter_map(|(name, _)| version_of(name));
    match (versions.next(), versions.next()) {
        (Some(only), None) => Some(only.into()),
        _ => {
            let mut parts = noted?.splitn(3, |&b| b == b'.');
            Some([parts.next()?, b".", parts.next()?].concat().into())
        }
    }
}
