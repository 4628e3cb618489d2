//! Programs without an owner where a distribution's manager alone should put some.

use super::CheckContext;
use crate::bytes::{path, shell_word};
use crate::model::{Evidence, Finding, FindingKind, Remedy, RemedyKind, Severity};
use crate::queries::unowned::unowned;

/// Directories that belong to the distribution.
const MANAGED: [&[u8]; 5] = [b"/usr/bin", b"/usr/sbin", b"/bin", b"/sbin", b"/usr/games"];

/// `unowned-in-managed-dir`: one for each piece of software.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let root = cx.survey.root();
    let managed = MANAGED.iter().filter(|dir| root.dir(dir).is_ok()).map(|dir| root.canonicalize_dir(dir));
    let mut managed: Vec<_> = managed.collect();
    managed.sort();
    managed.dedup();
    let answer = unowned(cx.survey, cx.typed(), &managed);
    // Without the records nobody can be said not to own it.
    if !answer.certain && cx.survey.managers().is_empty() {
        return Vec::new();
    }
    let found = answer.groups.into_iter().filter_map(|group| {
        let files: Vec<_> =
            group.files.iter().filter(|file| managed.iter().any(|dir| path::parent(&file.path) == &**dir)).collect();
        let first = files.first()?;
        let more = if files.len() > 1 { format!(" and {} more", files.len() - 1) } else { String::new() };
        let summary = format!("{}{more}: no manager claims it ({})", first.path, group.guess);
        let consequence = "it gets no upgrades, and a package that contains a file of that name overwrites it";
        let is_for_root = path::name(path::parent(&first.path)) == b"sbin";
        let own = if is_for_root { "/usr/local/sbin/" } else { "/usr/local/bin/" };
        let move_away = format!("sudo mv {} {own}", shell_word(&first.path));
        let mut evidence = group.evidence.clone();
        if evidence.is_empty() {
            evidence.push(Evidence::at(first.path.clone(), "lookup", "no record of any manager has it"));
        }
        Some(Finding {
            paths: files.iter().map(|file| file.path.clone()).collect(),
            remedies: vec![Remedy::new(RemedyKind::Move, move_away).to("move it to the directory for local programs")],
            evidence,
            ..Finding::new(FindingKind::UnownedInManagedDirectory, Severity::Warning, group.name, summary, consequence)
        })
    });
    found.collect()
}
