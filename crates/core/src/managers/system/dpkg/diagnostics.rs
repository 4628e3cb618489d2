//! What dpkg's own records say that a maintainer should know: programs that give way to others, and alternatives that
//! somebody chose against the ranking.

use super::ADMIN;
use super::installation::DpkgInstallation;
use crate::backend::advice::free_name;
use crate::backend::listed::{self, Role};
use crate::bytes::{ByteString, path};
use crate::model::{CommandLine, Evidence, Finding, FindingKind, Remedy, RemedyKind, Severity};

impl DpkgInstallation<'_> {
    /// `diverted-program` and `chosen-by-hand`.
    pub(super) fn diagnostics(&self) -> Vec<Finding> {
        let mut found = self.diverted();
        found.extend(self.chosen());
        found
    }

    fn diverted(&self) -> Vec<Finding> {
        let root = &self.host.root;
        let programs = self.diversions().0.iter().filter(|one| listed::role(&one.from) == Some(Role::Command));
        // Where nothing is at the other name, no program had to give way: as with `/bin/sh`, which only dash brings.
        let told = programs.filter(|one| root.entry(&one.to).is_ok()).map(|one| {
            let name = ByteString::from(path::name(&one.from));
            let stands = root.entry(&one.from).is_ok();
            let whose = one.by.as_ref().map_or("a hand".to_owned(), |by| format!("the package {by}"));
            let (severity, summary, consequence) = if stands {
                (
                    Severity::Note,
                    format!("{} was put there by {whose}; the packaged program is {}", one.from, one.to),
                    format!("{name} does not start the program of the package that lists the path"),
                )
            } else {
                (
                    Severity::Warning,
                    format!("{} was moved to {} by {whose}, and no file took its place", one.from, one.to),
                    format!("{name} cannot be started although its package is installed"),
                )
            };
            let undo = CommandLine::new("dpkg-divert --local --rename --remove").operand(one.from.clone());
            let undo = match stands {
                // dpkg-divert overwrites nothing: what stands there has to make room first.
                true => free_name(root, &one.from)
                    .map(|free| CommandLine::new("mv -n --").arg(one.from.clone()).arg(free).and_then(undo)),
                false => Some(undo),
            };
            // What a package diverted, it takes back itself.
            let remedy = undo.map(|line| Remedy::new(RemedyKind::Undo, line).to("undo the diversion"));
            Finding {
                paths: vec![one.from.clone(), one.to.clone()],
                remedies: remedy.filter(|_| one.by.is_none()).into_iter().collect(),
                evidence: vec![Evidence::line(
                    path::join(ADMIN, b"diversions"),
                    one.line,
                    format!("{} gives way to {}", one.from, one.to),
                )],
                ..Finding::new(FindingKind::DivertedProgram, severity, name, summary, consequence)
            }
        });
        told.collect()
    }

    fn chosen(&self) -> Vec<Finding> {
        let root = &self.host.root;
        let by_hand = self.groups().iter().filter(|group| group.manual);
        let told = by_hand.filter_map(|group| {
            let chosen = group.chosen(root)?;
            let best = group.choices.iter().max_by_key(|choice| choice.priority)?;
            let now = group.choices.iter().find(|choice| choice.path == chosen)?;
            if now.priority >= best.priority {
                return None;
            }
            let summary =
                format!("{} is {chosen}, chosen by hand although {} has a higher priority", group.name, best.path);
            let consequence = "a new alternative with a higher priority is not used";
            let command = CommandLine::new("update-alternatives --auto").operand(group.name.clone());
            Some(Finding {
                paths: vec![chosen, best.path.clone()],
                remedies: vec![Remedy::new(RemedyKind::Choose, command).to("return to automatic mode")],
                evidence: group.evidence(root),
                ..Finding::new(FindingKind::ChosenByHand, Severity::Note, group.name.clone(), summary, consequence)
            })
        });
        told.collect()
    }
}
