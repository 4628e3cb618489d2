//! Accepted findings and expected owners.

use super::CheckContext;
use crate::bytes::ByteString;
use crate::model::{Evidence, Finding, FindingKind, ManagerId, Severity};
use crate::queries::across::{Told, across};
use crate::resolve::Context;
use whodunit_shell::syntax::pattern::fits;

/// A finding that a user knows of and leaves as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Accepted {
    /// Its kind.
    pub kind: FindingKind,
    /// Its subject, or a pattern with `*`; any where there is none.
    pub subject: Option<ByteString>,
    /// Why.
    pub reason: String,
    /// Until the end of this day: the first second after it, since 1970; for ever where there is none.
    pub until: Option<i64>,
    /// The day as it was written.
    pub day: Option<String>,
    /// Where it stands.
    pub place: Evidence,
}

/// What a command should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Expected {
    /// The command's name.
    pub command: ByteString,
    /// The expected owner.
    pub manager: ManagerId,
    /// In these contexts; in every one where there is none.
    pub contexts: Vec<Context>,
    /// Where it stands.
    pub place: Evidence,
}

/// Both, and the time at which it is asked.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Settings {
    /// The accepted findings.
    pub accepted: Vec<Accepted>,
    /// The expected owners.
    pub expected: Vec<Expected>,
    /// Now, in seconds since 1970.
    pub now: Option<i64>,
}

impl Settings {
    /// Marks what is accepted; of what was accepted until a day that has passed, that is said. The result is what was
    /// accepted and not found.
    pub fn mark(&self, findings: &mut [Finding]) -> Vec<&Accepted> {
        let mut is_used = vec![false; self.accepted.len()];
        for finding in findings {
            for (place, one) in self.accepted.iter().enumerate() {
                let is_it = one.kind == finding.kind
                    && one.subject.as_ref().is_none_or(|subject| fits(subject, &finding.subject));
                if !is_it {
                    continue;
                }
                is_used[place] = true;
                let is_over = one.until.zip(self.now).is_some_and(|(until, now)| now >= until);
                if is_over {
                    let says = format!("was accepted until {}: {}", one.day.clone().unwrap_or_default(), one.reason);
                    finding.evidence.push(Evidence { says, ..one.place.clone() });
                } else if finding.accepted.is_none() {
                    finding.accepted = Some(one.reason.clone());
                }
            }
        }
        let idle = self.accepted.iter().zip(is_used).filter(|(_, is_used)| !is_used);
        idle.map(|(one, _)| one).collect()
    }

    /// `unmet-expectation`: one for each command that is not what it should be, wherever that is so.
    pub(super) fn unmet(&self, cx: &CheckContext<'_, '_>) -> Vec<Finding> {
        if self.expected.is_empty() {
            return Vec::new();
        }
        let names: Vec<ByteString> = self.expected.iter().map(|one| one.command.clone()).collect();
        let rows = across(cx.survey, cx.searches(), &names).rows;
        let mut found = Vec::new();
        for one in &self.expected {
            let Some(row) = rows.iter().find(|row| row.name == one.command) else { continue };
            let mut told = Told::default();
            let (mut packages, mut paths) = (Vec::new(), Vec::new());
            for (meaning, search) in row.meanings.iter().zip(cx.searches()) {
                let owner = meaning.winner.as_ref().and_then(|winner| winner.owner.as_ref());
                let is_met = owner.is_some_and(|owner| owner.manager == one.manager);
                if is_met || !(one.contexts.is_empty() || one.contexts.contains(&search.context)) {
                    continue;
                }
                let says = match (&meaning.winner, owner) {
                    (_, Some(owner)) => format!("{} · {}", owner.manager, owner.name),
                    (Some(winner), None) => format!("{}, which no manager claims,", winner.path),
                    (None, None) => "not reached".to_owned(),
                };
                packages.extend(owner.map(|owner| owner.id.clone()));
                paths.extend(meaning.winner.as_ref().map(|winner| winner.path.clone()));
                told.add(says, search.context);
            }
            if told.0.is_empty() {
                continue;
            }
            let summary = format!("{} should come from {}, but is {told}", one.command, one.manager);
            packages.dedup();
            paths.dedup();
            found.push(Finding {
                packages,
                paths,
                evidence: vec![one.place.clone()],
                ..Finding::new(
                    FindingKind::UnmetExpectation,
                    Severity::Warning,
                    one.command.clone(),
                    summary,
                    "an expectation in the configuration file is not met",
                )
            });
        }
        found
    }
}
