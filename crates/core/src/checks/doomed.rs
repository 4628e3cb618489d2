//! Links that work today, and whose target a manager deletes by itself.

use super::CheckContext;
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::model::{Evidence, Finding, FindingKind, Severity};

/// `doomed-link`, of links in directories with programs that no manager placed.
pub fn findings(cx: &CheckContext<'_, '_>) -> Vec<Finding> {
    let survey = cx.survey;
    let root = survey.root();
    let mut found: Vec<(ByteString, ByteString, &'static str, &'static str)> = Vec::new();
    for dir in cx.program_dirs() {
        let dir = root.canonicalize_dir(&dir);
        // What a manager keeps in its own trees, and links there, is its own business.
        let others: Vec<_> = survey.installations().iter().filter(|held| held.collects(&dir, &dir).is_none()).collect();
        let names = root.names_in(&dir);
        for (name, _) in names.into_iter().filter(|(_, kind)| *kind == Kind::Link) {
            let link = path::join(&dir, &name);
            let Ok(target) = root.read_link(&link) else { continue };
            let target = path::absolute(&target, &dir);
            // What leads nowhere already is told as that.
            if root.target(&link).is_err() {
                continue;
            }
            let by = others.iter().find_map(|held| Some((held.location().manager.0, held.collects(&link, &target)?)));
            found.extend(by.map(|(manager, when)| (link, target, manager, when)));
        }
    }
    let index = survey.claims(found.iter().map(|(link, ..)| &**link));
    found.retain(|(link, ..)| survey.ownership(&index, link).packages.is_empty());
    found.into_iter().map(|(link, target, manager, when)| doomed(link, &target, manager, when)).collect()
}

fn doomed(link: ByteString, target: &ByteString, manager: &str, when: &str) -> Finding {
    let summary = format!("{link} points to {target}, which {manager} deletes {when}");
    let consequence = format!("{} cannot be started through it then", ByteString::from(path::name(&link)));
    Finding {
        paths: vec![link.clone(), target.clone()],
        evidence: vec![Evidence::at(link.clone(), "link", format!("points to {target}"))],
        ..Finding::new(FindingKind::DoomedLink, Severity::Warning, link, summary, consequence)
    }
}
