//! Findings about the directories of a search path: missing, duplicate, relative, or writable by others.

use std::collections::BTreeMap;
use std::fmt;

use indexmap::IndexSet;

use crate::backend::advice::at_path;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Meta};
use crate::host::{Host, User};
use crate::model::{CommandLine, Evidence, Finding, FindingKind, Remedy, RemedyKind, Severity};
use crate::resolve::{Context, ResolvedContext};

/// One directory with one problem, in every context that has it.
struct Trouble {
    severity: Severity,
    contexts: IndexSet<String>,
    users: IndexSet<ByteString>,
    consequence: &'static str,
    remedies: Vec<Remedy>,
    evidence: Vec<Evidence>,
    summary: String,
}

impl Trouble {
    fn new(severity: Severity, summary: String, consequence: &'static str) -> Self {
        let (contexts, users, remedies, evidence) = Default::default();
        Trouble { severity, contexts, users, consequence, remedies, evidence, summary }
    }
}

/// The problems found so far, by kind and directory.
#[derive(Default)]
struct Troubles(BTreeMap<(FindingKind, ByteString), Trouble>);

impl Troubles {
    /// Adds a problem of a directory in one context. The evidence of several contexts is collected, and the highest
    /// severity counts.
    fn add(
        &mut self,
        kind: FindingKind,
        dir: &ByteString,
        resolved: &ResolvedContext,
        because: &Evidence,
        trouble: Trouble,
    ) {
        let context = match resolved.context {
            Context::Here => "here".to_owned(),
            context => format!("{} of {}", context.word(), resolved.user.name),
        };
        let severity = trouble.severity;
        let known = self.0.entry((kind, dir.clone())).or_insert(trouble);
        known.severity = known.severity.max(severity);
        if !known.evidence.contains(because) {
            known.evidence.push(because.clone());
        }
        known.contexts.insert(context);
        known.users.insert(resolved.user.name.clone());
    }

    fn into_findings(self) -> Vec<Finding> {
        let finding = |((kind, dir), trouble): ((FindingKind, ByteString), Trouble)| {
            let consequence = format!(
                "{} ({})",
                trouble.consequence,
                trouble.contexts.iter().map(String::as_str).collect::<Vec<_>>().join(", ")
            );
            let is_dir = kind != FindingKind::UncertainPath && dir.starts_with(b"/");
            Finding {
                users: trouble.users.into_iter().collect(),
                paths: if is_dir { vec![dir.clone()] } else { Vec::new() },
                remedies: trouble.remedies,
                evidence: trouble.evidence,
                ..Finding::new(kind, trouble.severity, dir, trouble.summary, consequence)
            }
        };
        let mut findings: Vec<Finding> = self.0.into_iter().map(finding).collect();
        findings.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
        findings
    }
}

/// Looks at the directories of every context; one finding per directory and problem.
#[must_use]
pub fn findings(host: &Host, resolved: &[ResolvedContext]) -> Vec<Finding> {
    let mut found = Troubles::default();
    for resolved in resolved {
        let (listed, unknown) = resolved.list("PATH");
        for unknown in unknown {
            let at = unknown.at.to_string();
            let at = if at == "whole file" { String::new() } else { format!(" {at}") };
            let summary = format!("{}{at}: {}", unknown.file, unknown.says);
            let consequence = "the directories that are searched, and their order, are uncertain";
            let trouble = Trouble::new(Severity::Note, summary, consequence);
            found.add(FindingKind::UncertainPath, &unknown.file.clone(), resolved, &unknown, trouble);
        }
        let last_system = listed.iter().rposition(|one| is_systems(host, &one.dir));
        let mut seen: Vec<(ByteString, ByteString)> = Vec::new();
        for (number, one) in listed.iter().enumerate() {
            let is_ahead = last_system.is_some_and(|last| number < last);
            for (kind, trouble) in troubles_of(host, resolved, &one.dir, is_ahead, &mut seen) {
                found.add(kind, &one.dir, resolved, &one.because, trouble);
            }
        }
    }
    found.into_findings()
}

/// What is wrong with one directory. `is_ahead` tells whether it comes before a directory of the system; `seen` has
/// those that came before it, canonical and as they are written.
fn troubles_of(
    host: &Host,
    resolved: &ResolvedContext,
    dir: &ByteString,
    is_ahead: bool,
    seen: &mut Vec<(ByteString, ByteString)>,
) -> Vec<(FindingKind, Trouble)> {
    let is_root = resolved.user.uid == 0 || resolved.context == Context::Sudo;
    if !dir.starts_with(b"/") {
        let shown = if dir.is_empty() { "an empty entry".to_owned() } else { dir.to_string() };
        let severity = if is_root { Severity::Error } else { Severity::Warning };
        let summary = format!("{shown} in the search path depends on the current directory");
        let consequence =
            "what a name runs depends on the directory where it is typed, and anyone who can write there can decide it";
        return vec![(FindingKind::RelativeDirectory, Trouble::new(severity, summary, consequence))];
    }
    let canonical = host.root.canonicalize_dir(dir);
    let mut troubles = Vec::new();
    match host.root.target(dir) {
        Ok(meta) if meta.kind == Kind::Dir => {
            if seen.iter().any(|(known, spelled)| *known == canonical && spelled == dir) {
                let summary = format!("{dir} is in the search path twice");
                let trouble = Trouble::new(Severity::Note, summary, "the second entry is never used");
                troubles.push((FindingKind::DuplicateDirectory, trouble));
            }
            if let Some((who, open)) = open_to(host, &canonical, &resolved.user) {
                let severity = if is_root || is_ahead { Severity::Error } else { Severity::Warning };
                let summary =
                    format!("{who} can write to {open}, which is in the search path of {}", resolved.user.name);
                let consequence = "anyone who can write there can have a program run in place of another";
                let remedies = close(host, &who, &open).into_iter().collect();
                let trouble = Trouble { remedies, ..Trouble::new(severity, summary, consequence) };
                troubles.push((FindingKind::WritableDirectory, trouble));
            }
            seen.push((canonical, dir.clone()));
        }
        // A directory that is created on first use is in many skeletons.
        Err(error) if error.is_missing() => {
            let summary = format!("{dir} is in the search path but does not exist");
            let trouble = Trouble::new(Severity::Note, summary, "none, until someone creates that directory");
            troubles.push((FindingKind::MissingDirectory, trouble));
        }
        _ => {}
    }
    troubles
}

/// Closes a directory to others. None for one that is open to all users on purpose, such as `/tmp`, and none where it is
/// another user's own.
fn close(host: &Host, who: &Writer, dir: &ByteString) -> Option<Remedy> {
    let class = match who {
        Writer::Everyone => "o-w",
        Writer::Group(_) => "g-w",
        Writer::User(_) => return None,
    };
    let is_shared = host.root.target(dir).is_ok_and(|meta| meta.mode & 0o1000 != 0);
    let line = |class: &str| CommandLine::new("chmod").words(class).words("--").arg(dir.clone());
    let remedy = Remedy::new(RemedyKind::Permissions, line(class)).to("close it to others");
    let undo = line(&class.replace('-', "+"));
    (!is_shared).then(|| at_path(host, dir, remedy.undone_by(undo)))
}

fn is_systems(host: &Host, dir: &[u8]) -> bool {
    let canonical = host.root.canonicalize_dir(dir);
    matches!(&canonical[..], b"/usr/bin" | b"/bin" | b"/usr/sbin" | b"/sbin")
}

/// Who else can write to a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Writer {
    Everyone,
    Group(String),
    User(u32),
}

impl fmt::Display for Writer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Writer::Everyone => f.write_str("every user"),
            Writer::Group(name) => write!(f, "the group {name}"),
            Writer::User(number) => write!(f, "user id {number}"),
        }
    }
}

/// Whether others than the user and root may put a file into a directory, and which directory on the way it is.
pub(crate) fn open_to(host: &Host, dir: &[u8], user: &User) -> Option<(Writer, ByteString)> {
    let mut at = ByteString::from(dir);
    loop {
        let meta = host.root.target(&at).ok()?;
        // In a directory with the sticky bit others cannot replace what is somebody else's.
        let is_guarded = meta.mode & 0o1000 != 0 && *at != *dir;
        if !is_guarded && let Some(who) = who_may_write(host, meta, user) {
            return Some((who, at));
        }
        if &*at == b"/" {
            return None;
        }
        let above = path::parent(&at);
        at = if above.is_empty() { "/".into() } else { above.into() };
    }
}

fn who_may_write(host: &Host, meta: Meta, user: &User) -> Option<Writer> {
    if meta.mode & 0o002 != 0 {
        return Some(Writer::Everyone);
    }
    // A tree that a user unpacked belongs to that user as a whole, and so to that user's group.
    let unpacked = host.root.target(b"/").ok().filter(|top| top.owner != 0);
    let is_unpackers = |group: u32| unpacked.is_some_and(|top| top.group == group);
    // A group that only the owner is in is the owner.
    let is_group = meta.mode & 0o020 != 0 && meta.group != 0 && meta.group != user.group && !is_unpackers(meta.group);
    if is_group {
        let group = host.accounts().group(meta.group);
        let others = group.is_none_or(|group| group.members.iter().any(|name| *name != user.name));
        // Debian leaves /usr/local to its group `staff`, in which there is nobody.
        if others {
            let name = group.map_or_else(|| meta.group.to_string(), |group| group.name.to_string());
            return Some(Writer::Group(name));
        }
    }
    if meta.owner != 0 && meta.owner != user.uid && unpacked.is_none() {
        return Some(Writer::User(meta.owner));
    }
    None
}
