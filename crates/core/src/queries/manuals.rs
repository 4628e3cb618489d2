//! Manual pages that belong to another copy of a program than the one that runs.

use super::shadows::{Shadow, Shadows};
use super::{Located, located};
use crate::bytes::ByteString;
use crate::model::{Finding, FindingKind, Severity};
use crate::resolve::manuals::Settings;
use crate::resolve::{ResolvedContext, SearchPath};
use crate::survey::Survey;

/// Looks at every shadowed name of a search path: whose page does `man` show, and whose program runs.
#[must_use]
pub fn shadows(survey: &Survey<'_>, resolved: &ResolvedContext, search: &SearchPath, commands: &[Shadow]) -> Shadows {
    let root = survey.root();
    let settings = Settings::read(root);
    let dirs: Vec<ByteString> = search.entries.iter().map(|entry| entry.dir.clone()).collect();
    let given = resolved.state.get(b"MANPATH").map(<[u8]>::to_vec);
    let pages = settings.dirs(root, &dirs, given.as_deref());
    let found: Vec<(&Shadow, ByteString)> =
        commands.iter().filter_map(|command| Some((command, settings.page(root, &pages, &command.name)?))).collect();
    let files: Vec<ByteString> = found.iter().map(|(_, page)| root.canonicalize(page)).collect();
    let index = survey.claims(files.iter().map(|file| &**file));
    let mut answer = Shadows::default();
    for (command, page) in found {
        let page = located(survey, &index, &page);
        let Some(owner) = &page.owner else { continue };
        let runs = command.winner.owner.as_ref();
        let of_hidden = |copy: &Located| copy.owner.as_ref().is_some_and(|other| other.id == owner.id);
        if runs.is_some_and(|runs| runs.id == owner.id) || !command.hidden.iter().any(of_hidden) {
            continue;
        }
        let runs = runs
            .map_or("a program that no manager claims".to_owned(), |runs| format!("{} of {}", runs.name, runs.manager));
        let because = pages.iter().find(|(dir, _)| crate::bytes::path::within(&page.path, dir));
        let because: Vec<_> = because.map(|(_, because)| because.clone()).into_iter().collect();
        let meaning = format!("{runs} runs, but the page belongs to {} of {}", owner.name, owner.manager);
        let summary = format!("man {} shows {}: {meaning}", command.name, page.path);
        let consequence = "the page may not describe the program that runs";
        answer.findings.push(Finding {
            packages: vec![owner.id.clone()],
            paths: vec![page.path.clone(), command.winner.path.clone()],
            evidence: because.clone(),
            ..Finding::new(FindingKind::MismatchedManual, Severity::Note, command.name.clone(), summary, consequence)
        });
        answer.shadows.push(Shadow {
            kind: "manual".to_owned(),
            name: command.name.clone(),
            context: command.context,
            users: search.user.iter().cloned().collect(),
            winner: page,
            hidden: Vec::new(),
            because,
            severity: Severity::Note,
            meaning,
        });
    }
    answer
}
