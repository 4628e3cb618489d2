//! Programs without an owner where a distribution's manager alone should put some.

use super::Look;
use crate::answers::unowned::unowned;
use crate::model::{Evidence, Finding, FindingKind, Remedy, Severity};
use crate::text::{path, shell_word};

/// Folders that belong to the distribution.
const MANAGED: [&[u8]; 5] = [b"/usr/bin", b"/usr/sbin", b"/bin", b"/sbin", b"/usr/games"];

/// `unowned-in-managed-folder`: one for each piece of software.
pub fn findings(look: &Look<'_, '_>) -> Vec<Finding> {
    let root = look.survey.root();
    let managed = MANAGED.iter().filter(|folder| root.folder(folder).is_ok()).map(|folder| root.settle_folder(folder));
    let mut managed: Vec<_> = managed.collect();
    managed.sort();
    managed.dedup();
    let answer = unowned(look.survey, look.typed(), &managed);
    // Without the records nobody can be said not to own it.
    if !answer.certain && look.survey.managers().is_empty() {
        return Vec::new();
    }
    let found = answer.groups.into_iter().filter_map(|group| {
        let files: Vec<_> = group
            .files
            .iter()
            .filter(|file| managed.iter().any(|folder| path::folder(&file.path) == &**folder))
            .collect();
        let first = files.first()?;
        let more = if files.len() > 1 { format!(" and {} more", files.len() - 1) } else { String::new() };
        let summary = format!("{}{more}: no manager claims it ({})", first.path, group.guess);
        let consequence = "the distribution's manager does not know it: no upgrade mends it, and a package that \
                           brings a file of that name replaces it";
        let is_for_root = path::name(path::folder(&first.path)) == b"sbin";
        let own = if is_for_root { "/usr/local/sbin/" } else { "/usr/local/bin/" };
        let move_away = format!("sudo mv {} {own}", shell_word(&first.path));
        let mut evidence = group.evidence.clone();
        if evidence.is_empty() {
            evidence.push(Evidence::at(first.path.clone(), "look-up", "no record of any manager has it"));
        }
        Some(Finding {
            paths: files.iter().map(|file| file.path.clone()).collect(),
            remedies: vec![Remedy {
                purpose: "move it where programs of one's own belong".to_owned(),
                command: move_away,
            }],
            evidence,
            ..Finding::new(FindingKind::UnownedInManagedFolder, Severity::Warning, group.name, summary, consequence)
        })
    });
    found.collect()
}
