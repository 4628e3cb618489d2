//! What every kind of finding means, how it is caused, why it matters, how it is detected, and how to get out of it.

mod environments_and_links;
mod shadowing;
mod sources;
mod state_and_leftovers;
mod versions_and_files;

use schemars::JsonSchema;
use serde::Serialize;

use crate::model::FindingKind;

/// Kinds that belong together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Family {
    /// One copy hides another.
    Shadowing,
    /// Several versions of one thing.
    Versions,
    /// Files against records.
    Files,
    /// Interpreters, environments and libraries.
    Environments,
    /// Links and launchers.
    LinksAndLaunchers,
    /// Directories of search paths.
    SearchPath,
    /// Where packages came from.
    Origin,
    /// States that managers record.
    State,
    /// What is left of what was removed.
    Leftovers,
}

impl Family {
    /// What it is called.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Family::Shadowing => "shadowing",
            Family::Versions => "versions",
            Family::Files => "files",
            Family::Environments => "environments",
            Family::LinksAndLaunchers => "links and launchers",
            Family::SearchPath => "search path",
            Family::Origin => "origin",
            Family::State => "state",
            Family::Leftovers => "leftovers",
        }
    }
}

/// The explanation of a kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Explanation {
    /// The kind.
    pub kind: FindingKind,
    /// The family that it belongs to.
    pub family: Family,
    /// What it means.
    pub means: &'static str,
    /// How it is caused.
    pub cause: &'static str,
    /// Why it matters.
    pub matters: &'static str,
    /// How it is detected.
    pub detected: &'static str,
    /// How to get out of it.
    pub remedy: &'static str,
    /// The demo workstation's own instance, where it has one.
    pub example: Option<Example>,
}

/// An instance of a kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Example {
    /// What it is about.
    pub subject: &'static str,
    /// What it says.
    pub summary: &'static str,
}

/// The answer to `explain`.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Explanations {
    /// One per kind.
    pub explanations: Vec<Explanation>,
    /// Whether a kind was asked about.
    #[serde(skip)]
    pub in_full: bool,
}

/// Every explanation, family by family.
pub fn all() -> impl Iterator<Item = &'static Explanation> {
    [
        shadowing::EXPLANATIONS,
        versions_and_files::EXPLANATIONS,
        environments_and_links::EXPLANATIONS,
        state_and_leftovers::EXPLANATIONS,
        sources::EXPLANATIONS,
    ]
    .into_iter()
    .flatten()
}

/// The explanation of a kind.
///
/// ```
/// use whodunit_core::checks::catalogue::explain;
/// use whodunit_core::model::FindingKind;
/// assert!(explain(FindingKind::TwoOwners).is_some_and(|one| one.means.contains("claim")));
/// ```
#[must_use]
pub fn explain(kind: FindingKind) -> Option<&'static Explanation> {
    all().find(|one| one.kind == kind)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_is_explained_once() {
        for kind in FindingKind::ALL {
            let of_kind: Vec<_> = all().filter(|one| one.kind == *kind).collect();
            assert_eq!(of_kind.len(), 1, "{kind}");
            let one = of_kind[0];
            for text in [one.means, one.cause, one.matters, one.detected, one.remedy] {
                assert!(text.ends_with('.') && text.len() > 10, "{kind}: {text}");
            }
        }
    }
}
