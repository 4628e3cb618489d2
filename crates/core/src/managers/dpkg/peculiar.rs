//! What dpkg's own records say that a maintainer should know: programs that give way to others, and alternatives that
//! somebody chose against the ranking.

use super::ADMIN;
use super::holdings::DpkgHoldings;
use crate::managers::listed::{self, Role};
use crate::model::{Evidence, Finding, FindingKind, Remedy, Severity};
use crate::text::{Text, path, shell_word};

impl DpkgHoldings<'_> {
    /// `diverted-program` and `chosen-by-hand`.
    pub(super) fn peculiar(&self) -> Vec<Finding> {
        let mut found = self.diverted();
        found.extend(self.chosen());
        found
    }

    fn diverted(&self) -> Vec<Finding> {
        let root = &self.scene.root;
        let programs = self.diversions().0.iter().filter(|one| listed::role(&one.from) == Some(Role::Command));
        let told = programs.map(|one| {
            let name = Text::from(path::name(&one.from));
            let stands = root.entry(&one.from).is_ok();
            let whose = one.by.as_ref().map_or("a hand".to_owned(), |by| format!("the package {by}"));
            let (severity, summary, consequence) = if stands {
                (
                    Severity::Note,
                    format!(
                        "{} is put there by {whose}; the program that was packaged under the name is {}",
                        one.from, one.to
                    ),
                    format!("{name} starts another program than the package that lists the path brings"),
                )
            } else {
                (
                    Severity::Warning,
                    format!("{} was moved to {} by {whose}, and nothing took its place", one.from, one.to),
                    format!("{name} cannot be started, though the package that brings it is installed"),
                )
            };
            let undo = format!("sudo dpkg-divert --rename --remove {}", shell_word(&one.from));
            // What a package diverted, it takes back itself.
            let remedy = Remedy { purpose: "undo it".to_owned(), command: undo };
            Finding {
                paths: vec![one.from.clone(), one.to.clone()],
                remedies: if one.by.is_none() { vec![remedy] } else { Vec::new() },
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
        let root = &self.scene.root;
        let by_hand = self.groups().iter().filter(|group| group.manual);
        let told = by_hand.filter_map(|group| {
            let chosen = group.chosen(root)?;
            let best = group.choices.iter().max_by_key(|choice| choice.priority)?;
            let now = group.choices.iter().find(|choice| choice.path == chosen)?;
            if now.priority >= best.priority {
                return None;
            }
            let summary =
                format!("{} is {chosen}, chosen by hand against {}, which ranks higher", group.name, best.path);
            let consequence = "an upgrade that brings a better one does not change it";
            let command = format!("sudo update-alternatives --auto {}", shell_word(&group.name));
            Some(Finding {
                paths: vec![chosen, best.path.clone()],
                remedies: vec![Remedy { purpose: "let the ranking decide".to_owned(), command }],
                evidence: group.evidence(root),
                ..Finding::new(FindingKind::ChosenByHand, Severity::Note, group.name.clone(), summary, consequence)
            })
        });
        told.collect()
    }
}
