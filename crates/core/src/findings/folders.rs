//! What is wrong with the folders of a search path: missing, twice, relative, or open to others.

use std::collections::BTreeMap;

use crate::model::{Evidence, Finding, FindingKind, Remedy, Severity};
use crate::root::{Kind, Meta};
use crate::scene::{Person, Scene};
use crate::search::{Context, Situation};
use crate::text::{Text, path, shell_word};

/// One folder with one trouble, in every context that has it.
struct Trouble {
    severity: Severity,
    contexts: Vec<String>,
    consequence: String,
    remedies: Vec<Remedy>,
    evidence: Vec<Evidence>,
    summary: String,
}

/// Looks at the folders of every situation; one finding per folder and trouble.
#[must_use]
pub fn findings(scene: &Scene, situations: &[Situation]) -> Vec<Finding> {
    let mut found: BTreeMap<(FindingKind, Text), Trouble> = BTreeMap::new();
    for situation in situations {
        let (listed, unknown) = situation.list("PATH");
        let mut seen: Vec<(Text, Text)> = Vec::new();
        let whose = match situation.context {
            Context::Here => "here".to_owned(),
            context => format!("{} of {}", context.word(), situation.person.name),
        };
        for doubt in unknown {
            let trouble = found.entry((FindingKind::UncertainPath, doubt.file.clone())).or_insert_with(|| Trouble {
                severity: Severity::Note,
                contexts: Vec::new(),
                consequence: "which folders are searched, and in which order, is not certain".to_owned(),
                remedies: Vec::new(),
                evidence: Vec::new(),
                summary: format!("{} {}: {}", doubt.file, doubt.at, doubt.says),
            });
            if !trouble.evidence.contains(&doubt) {
                trouble.evidence.push(doubt);
            }
            if !trouble.contexts.contains(&whose) {
                trouble.contexts.push(whose.clone());
            }
        }
        let last_system = listed.iter().rposition(|one| is_systems(scene, &one.folder));
        for (number, one) in listed.iter().enumerate() {
            let folder = &one.folder;
            let mut add = |kind: FindingKind, severity, summary: String, consequence: &str, remedies: Vec<Remedy>| {
                let trouble = found.entry((kind, folder.clone())).or_insert_with(|| Trouble {
                    severity,
                    contexts: Vec::new(),
                    consequence: consequence.to_owned(),
                    remedies,
                    evidence: vec![one.because.clone()],
                    summary,
                });
                trouble.severity = trouble.severity.max(severity);
                if !trouble.evidence.contains(&one.because) {
                    trouble.evidence.push(one.because.clone());
                }
                trouble.contexts.push(whose.clone());
                trouble.contexts.dedup();
            };
            if !folder.starts_with(b"/") {
                let shown = if folder.is_empty() { "an empty entry".to_owned() } else { folder.to_string() };
                let is_root = situation.person.uid == 0 || situation.context == Context::Sudo;
                let severity = if is_root { Severity::Error } else { Severity::Warning };
                add(
                    FindingKind::RelativeFolder,
                    severity,
                    format!("{shown} in the search path means the current folder, or one below it"),
                    "what a name runs depends on where it is typed, and whoever can write there decides it",
                    Vec::new(),
                );
                continue;
            }
            let settled = scene.root.settle_folder(folder);
            match scene.root.target(folder) {
                Ok(meta) if meta.kind == Kind::Folder => {
                    if let Some((_, before)) =
                        seen.iter().find(|(known, spelled)| *known == settled && spelled == folder)
                    {
                        add(
                            FindingKind::DuplicateFolder,
                            Severity::Note,
                            format!("{before} is in the search path twice"),
                            "nothing: the second time it is searched in vain",
                            Vec::new(),
                        );
                    }
                    let is_ahead = last_system.is_some_and(|last| number < last);
                    if let Some((who, open)) = open_to(scene, &settled, &situation.person) {
                        let is_root = situation.person.uid == 0 || situation.context == Context::Sudo;
                        let severity = if is_root || is_ahead { Severity::Error } else { Severity::Warning };
                        let command =
                            format!("chmod {} {}", if who == "everybody" { "o-w" } else { "g-w" }, shell_word(&open));
                        add(
                            FindingKind::WritableFolder,
                            severity,
                            format!(
                                "{who} may write to {open}, which the search path of {} uses",
                                situation.person.name
                            ),
                            "whoever writes a program there has it run under the name of another",
                            vec![Remedy { purpose: "close".to_owned(), command }],
                        );
                    }
                    seen.push((settled, folder.clone()));
                }
                // A folder that is made on first use is in many skeletons.
                Err(error) if error.is_missing() => add(
                    FindingKind::MissingFolder,
                    Severity::Note,
                    format!("{folder} is in the search path and not there"),
                    "nothing, until somebody makes such a folder",
                    Vec::new(),
                ),
                _ => {}
            }
        }
    }
    let finding = |((kind, folder), trouble): ((FindingKind, Text), Trouble)| {
        let consequence = format!("{} ({})", trouble.consequence, trouble.contexts.join(", "));
        let is_folder = kind != FindingKind::UncertainPath && folder.starts_with(b"/");
        Finding {
            paths: if is_folder { vec![folder.clone()] } else { Vec::new() },
            remedies: trouble.remedies,
            evidence: trouble.evidence,
            ..Finding::new(kind, trouble.severity, folder, trouble.summary, consequence)
        }
    };
    let mut findings: Vec<Finding> = found.into_iter().map(finding).collect();
    findings.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
    findings
}

fn is_systems(scene: &Scene, folder: &[u8]) -> bool {
    let settled = scene.root.settle_folder(folder);
    matches!(&settled[..], b"/usr/bin" | b"/bin" | b"/usr/sbin" | b"/sbin")
}

/// Whether others than the person and root may put a file into a folder, and which folder on the way it is.
pub(crate) fn open_to(scene: &Scene, folder: &[u8], person: &Person) -> Option<(String, Text)> {
    let mut at = Text::from(folder);
    loop {
        let meta = scene.root.target(&at).ok()?;
        // In a folder with the sticky bit others cannot replace what is somebody else's.
        let is_guarded = meta.mode & 0o1000 != 0 && *at != *folder;
        if !is_guarded && let Some(who) = who_may_write(scene, meta, person) {
            return Some((who, at));
        }
        if &*at == b"/" {
            return None;
        }
        let above = path::folder(&at);
        at = if above.is_empty() { "/".into() } else { above.into() };
    }
}

fn who_may_write(scene: &Scene, meta: Meta, person: &Person) -> Option<String> {
    if meta.mode & 0o002 != 0 {
        return Some("everybody".to_owned());
    }
    // A group that only the owner is in is the owner.
    let is_group = meta.mode & 0o020 != 0 && meta.group != 0 && meta.group != person.group;
    if is_group {
        let file = scene.root.read(b"/etc/group", crate::root::Limit::SMALL).unwrap_or_default();
        let group = crate::formats::accounts::groups(&file).find(|group| group.number == meta.group);
        let others = group.as_ref().is_none_or(|group| group.members.iter().any(|name| **name != *person.name));
        // Debian leaves /usr/local to its group `staff`, in which there is nobody.
        if others {
            let name = group.map_or_else(|| meta.group.to_string(), |group| Text::from(group.name).to_string());
            return Some(format!("the group {name}"));
        }
    }
    // A tree that somebody unpacked for themselves is owned by them as a whole.
    let is_unpacked = scene.root.target(b"/").is_ok_and(|top| top.owner != 0);
    if meta.owner != 0 && meta.owner != person.uid && !is_unpacked {
        return Some(format!("user number {}", meta.owner));
    }
    None
}
