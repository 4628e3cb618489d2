//! Launchers: which shows in the menu, which is masked, what each starts, and whose that is.
//!
//! Whether one is shown follows GLib, which most menus are built on: `Hidden`, `NoDisplay`, `OnlyShowIn`
//! and `NotShowIn`, `TryExec`, and the first word of `Exec`, which GLib looks up as well.

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use super::shadows::{Shadow, Shadows};
use super::users::{self, OfUsers};
use super::{Located, located};
use crate::backend::Launching;
use crate::backend::launcher_files::files_in;
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::host::User;
use crate::index::ClaimIndex;
use crate::model::{Evidence, FindingKind, HiddenReason, Launcher, Scope, Severity, Starts};
use crate::resolve::launchers::DataDir;
use crate::resolve::{End, How, Resolution, SearchPath};
use crate::survey::Survey;
use whodunit_formats::desktop_entry::{DesktopEntry, words};

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Launchers {
    /// One per id.
    pub launchers: Vec<Launcher>,
}

impl Launchers {
    /// One answer of those of several users.
    #[must_use]
    pub fn merged(of_each: impl IntoIterator<Item = Launchers>) -> Self {
        let mut launchers = users::merged(of_each.into_iter().flat_map(|answer| answer.launchers));
        launchers.sort_by(|a, b| a.id.cmp(&b.id));
        Launchers { launchers }
    }
}

impl OfUsers for Launcher {
    fn name(&self) -> &ByteString {
        &self.id
    }

    fn users(&mut self) -> &mut Vec<ByteString> {
        &mut self.users
    }

    fn essence(&self) -> Self {
        let mut essence = Launcher { users: Vec::new(), evidence: Vec::new(), ..self.clone() };
        essence.findings.iter_mut().for_each(|finding| finding.evidence.clear());
        essence
    }
}

/// A launcher before its owners are known.
struct Read {
    id: ByteString,
    file: ByteString,
    masks: Vec<ByteString>,
    entry: Result<DesktopEntry, HiddenReason>,
    resolution: Resolution,
    program: Option<Resolution>,
    shown: Result<(), HiddenReason>,
    evidence: Vec<Evidence>,
}

/// What decides whether a launcher is shown.
#[derive(Clone, Copy)]
pub struct DesktopSession<'a> {
    /// The data directories that are searched, in order.
    pub dirs: &'a [DataDir],
    /// The desktops in use, as `XDG_CURRENT_DESKTOP` names them.
    pub desktops: &'a [ByteString],
    /// Where programs are looked up.
    pub search: &'a SearchPath,
    /// Whose session it is; none for the user whose login stands for all.
    pub user: Option<&'a User>,
}

/// The launchers that mask others of their id, as the answer about shadows tells them.
#[must_use]
pub fn shadows(survey: &Survey<'_>, session: DesktopSession<'_>, names: &[ByteString]) -> Shadows {
    let answer = launchers(survey, session, names);
    let masking: Vec<&Launcher> = answer.launchers.iter().filter(|launcher| !launcher.masks.is_empty()).collect();
    let files: Vec<ByteString> =
        masking.iter().flat_map(|one| &one.masks).map(|file| survey.root().canonicalize(file)).collect();
    let index = survey.claims(files.iter().map(|file| &**file));
    let mut found = Shadows::default();
    for launcher in masking {
        let version = launcher.owner.as_ref().and_then(|owner| owner.version.clone());
        let findings = launcher.findings.iter().filter(|finding| finding.kind == FindingKind::MaskedLauncher);
        let severity = findings.clone().map(|finding| finding.severity).max().unwrap_or(Severity::Note);
        found.findings.extend(findings.cloned());
        found.shadows.push(Shadow {
            kind: "launcher".to_owned(),
            name: launcher.id.clone(),
            context: session.search.context,
            users: session.user.iter().map(|user| user.name.clone()).collect(),
            winner: Located { path: launcher.file.clone(), owner: launcher.owner.clone(), version },
            hidden: launcher.masks.iter().map(|file| located(survey, &index, file)).collect(),
            because: launcher.evidence.iter().take(1).cloned().collect(),
            severity,
            meaning: launcher.name.clone().map(|name| format!("the menu shows {name}")).unwrap_or_default(),
        });
    }
    found
}

/// Every launcher of the session, and those of installed packages that no searched directory has.
#[must_use]
pub fn launchers(survey: &Survey<'_>, session: DesktopSession<'_>, names: &[ByteString]) -> Launchers {
    let root = survey.root();
    let mut order: Vec<Read> = Vec::new();
    let mut by_id: HashMap<ByteString, usize> = HashMap::new();
    for dir in session.dirs {
        for file in files_in(root, &dir.dir) {
            match by_id.get(&file.id) {
                Some(&at) => order[at].masks.push(file.path),
                None => {
                    by_id.insert(file.id.clone(), order.len());
                    let because = Evidence { says: format!("{} is searched", dir.dir), ..dir.because.clone() };
                    order.push(read(survey, session, file.id, file.path, true, because));
                }
            }
        }
    }
    // What another user installed for himself is not missing from this user's menu.
    let is_anothers = |scope: &Scope| match (scope, session.user) {
        (Scope::User(name), Some(user)) => *name != user.name,
        _ => false,
    };
    for held in survey.installations().iter().filter(|held| !is_anothers(&held.location().scope)) {
        for (dir, how) in held.launching().map(Launching::launcher_dirs).unwrap_or_default() {
            let canonical = root.canonicalize_dir(&dir);
            if session.dirs.iter().any(|known| root.canonicalize_dir(&known.dir) == canonical) {
                continue;
            }
            for file in files_in(root, &dir) {
                if !by_id.contains_key(&file.id) {
                    by_id.insert(file.id.clone(), order.len());
                    let because = Evidence::at(dir.clone(), "data directory", format!("no session searches it; {how}"));
                    order.push(read(survey, session, file.id, file.path, false, because));
                }
            }
        }
    }
    order.retain(|one| names.is_empty() || names.iter().any(|name| is_meant(one, name)));
    order.sort_by(|a, b| a.id.cmp(&b.id));
    let paths = order.iter().flat_map(|one| {
        let program = one.program.iter().flat_map(Resolution::paths);
        one.resolution.paths().chain(program)
    });
    let index = survey.claims(paths.map(|path| &**path));
    let mut launchers: Vec<Launcher> = order.into_iter().map(|one| finish(survey, &index, one)).collect();
    for launcher in &mut launchers {
        launcher.users.extend(session.user.map(|user| user.name.clone()));
    }
    crate::findings::launchers::add(survey.host, session.user, &mut launchers);
    Launchers { launchers }
}

/// A name means a launcher by its id, with or without the ending, by the name that is shown, or by what it starts.
fn is_meant(one: &Read, name: &[u8]) -> bool {
    let id = &one.id;
    let shown = one.entry.as_ref().ok().and_then(|entry| entry.text("Name"));
    let program = one.program.as_ref().map(|resolution| path::name(&resolution.steps[0].path));
    **id == *name
        || id.strip_suffix(b".desktop") == Some(name)
        || shown.is_some_and(|shown| shown.as_bytes().eq_ignore_ascii_case(name))
        || program == Some(name)
}

fn read(
    survey: &Survey<'_>,
    session: DesktopSession<'_>,
    id: ByteString,
    file: ByteString,
    searched: bool,
    because: Evidence,
) -> Read {
    let root = survey.root();
    let content = root.read(&file, Limit::SMALL).map_err(|error| HiddenReason::Unusable(error.reason()));
    let entry = content.and_then(|content| {
        let parsed = DesktopEntry::parse(&content);
        parsed.map_err(|bad| HiddenReason::Unusable(format!("line {}: {}", bad.line, bad.why)))
    });
    let words = entry.as_ref().ok().and_then(|entry| entry.text("Exec")).and_then(|exec| words(&exec));
    let program = words.as_ref().and_then(|words| started(root, session.search, words));
    let program = program.map(|path| survey.resolution(session.search, &path));
    let shown = match &entry {
        _ if !searched => Err(HiddenReason::NotSearched),
        Err(why) => Err(why.clone()),
        Ok(entry) => shown(root, session, entry),
    };
    let resolution = Resolution::links(root, &file);
    Read { id, file, masks: Vec::new(), entry, resolution, program, shown, evidence: vec![because] }
}

/// The program that a command line starts.
pub(super) fn started(root: &Root, search: &SearchPath, words: &[String]) -> Option<ByteString> {
    find(root, search, program_word(words)?)
}

/// The word of a command line that names the program: what `env` and assignments before it only prepare is skipped.
pub(crate) fn program_word(words: &[String]) -> Option<&String> {
    words.iter().find(|word| !(*word == "env" || word.ends_with("/env") || word.contains('=')))
}

/// A program by its path, or by its name on the search path.
pub(crate) fn find(root: &Root, search: &SearchPath, word: &str) -> Option<ByteString> {
    if word.starts_with('/') {
        let path = ByteString::from(word);
        return root.target(&path).is_ok_and(|meta| root.can_execute(&path, meta)).then_some(path);
    }
    search.reach(root, word.as_bytes()).copies.first().map(|copy| copy.path.clone())
}

/// GLib's rules, in its order; the reason where it is not shown.
fn shown(root: &Root, session: DesktopSession<'_>, entry: &DesktopEntry) -> Result<(), HiddenReason> {
    match entry.text("Type").as_deref() {
        Some("Application") => {}
        Some(other) => return Err(HiddenReason::NotApplication(other.to_owned())),
        None => return Err(HiddenReason::Unusable("it has no Type".to_owned())),
    }
    if entry.is_set("Hidden") {
        return Err(HiddenReason::Deleted);
    }
    if let Some(wanted) = entry.text("TryExec").filter(|wanted| !wanted.is_empty())
        && find(root, session.search, &wanted).is_none()
    {
        return Err(HiddenReason::TryExec(wanted));
    }
    if let Some(exec) = entry.text("Exec").filter(|exec| !exec.is_empty()) {
        match words(&exec).as_deref() {
            None => return Err(HiddenReason::OpenQuote),
            Some([first, ..]) if find(root, session.search, first).is_none() => {
                return Err(HiddenReason::NoProgram(first.clone()));
            }
            Some(_) => {}
        }
    }
    if entry.is_set("NoDisplay") {
        return Err(HiddenReason::NoDisplay);
    }
    let (only, not) = (entry.list("OnlyShowIn"), entry.list("NotShowIn"));
    let has = |list: &Option<Vec<String>>, desktop: &ByteString| {
        list.as_ref().is_some_and(|list| list.iter().any(|item| item.as_bytes() == desktop.as_bytes()))
    };
    for desktop in session.desktops {
        if has(&only, desktop) {
            return Ok(());
        }
        if has(&not, desktop) {
            return Err(HiddenReason::NotShowIn(desktop.clone()));
        }
    }
    match only {
        Some(desktops) => Err(HiddenReason::OnlyShowIn { desktops, desktop_is_known: !session.desktops.is_empty() }),
        None => Ok(()),
    }
}

fn finish(survey: &Survey<'_>, index: &ClaimIndex, one: Read) -> Launcher {
    let owner_of = |resolution: &Resolution| {
        super::claims_on_last(survey, index, resolution).first().and_then(|claim| survey.owner(claim))
    };
    let entry = one.entry.as_ref().ok();
    let command = entry.and_then(|entry| entry.text("Exec"));
    let words = command.as_deref().and_then(words);
    // A sandboxed app is started by its manager's own program; the app is what the user means.
    let app = words.as_ref().and_then(|words| survey.started_by(words));
    // What a wrapper starts can be out of sight, as an image is that is not mounted.
    let is_there = |resolution: &&Resolution| {
        matches!(resolution.end, End::There(_)) || resolution.steps.iter().any(|step| step.how == How::Wrapper)
    };
    let there = one.program.as_ref().filter(is_there);
    let starts = Starts {
        path: there.map(|resolution| resolution.steps[0].path.clone()),
        owner: app.or_else(|| there.and_then(owner_of)),
        command,
    };
    let mut evidence = one.evidence;
    if let Some(entry) = entry
        && let Some(exec) = &starts.command
    {
        evidence.push(Evidence::line(
            one.file.clone(),
            entry.line("Exec"),
            format!("Exec={}", ByteString::from(exec.as_str())),
        ));
    }
    let owner = owner_of(&one.resolution);
    Launcher {
        users: Vec::new(),
        id: one.id,
        name: entry.and_then(|entry| entry.text("Name")),
        shown: one.shown.is_ok(),
        why_hidden: one.shown.err(),
        masks: one.masks,
        starts,
        owner,
        findings: Vec::new(),
        evidence,
        file: one.file,
    }
}
