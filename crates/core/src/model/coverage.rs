//! Coverage: what a run found, and how completely it read it.

use schemars::JsonSchema;
use serde::Serialize;

use super::{Loss, ManagerId, Scope};
use crate::bytes::ByteString;

/// How completely something was read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum CoverageState {
    /// All of it.
    Read,
    /// A part; the notes say what is missing.
    Partial,
    /// Nothing of it.
    Unreadable,
    /// It is there, in a form that this version does not read.
    Unsupported,
}

impl CoverageState {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            CoverageState::Read => "read",
            CoverageState::Partial => "partial",
            CoverageState::Unreadable => "unreadable",
            CoverageState::Unsupported => "unsupported",
        }
    }
}

/// One installation, or one directory outside all of them, and how completely it was read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(into = "Document")]
#[schemars(with = "Document")]
pub struct Coverage {
    /// Whose state it is; `None` for a directory that belongs to no manager's state.
    pub manager: Option<ManagerId>,
    /// Whose installation it is.
    pub scope: Scope,
    /// Where it is.
    pub location: ByteString,
    /// How completely it was read.
    pub state: CoverageState,
    /// The packages found; `None` where there can be none.
    pub packages: Option<usize>,
    /// What could not be read, and what that hides; or what else is worth knowing of the record.
    pub notes: Vec<Loss>,
}

impl Coverage {
    /// What could not be read, in words; nothing of what was read completely, whatever else is noted of it.
    #[must_use]
    pub fn lost(&self) -> Vec<String> {
        let name = self.manager.map(|manager| format!("{manager}: ")).unwrap_or_default();
        match (self.state, self.notes.as_slice()) {
            (CoverageState::Read, _) => Vec::new(),
            (state, []) => vec![format!("{name}{} is {}", self.location, state.word())],
            (_, notes) => notes.iter().map(|note| format!("{name}{note}")).collect(),
        }
    }
}

/// Coverage as data formats have it.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "Coverage")]
struct Document {
    /// Whose state it is; `null` for a directory that belongs to no manager's state.
    manager: Option<ManagerId>,
    /// Whose installation it is.
    scope: Scope,
    /// Where it is.
    location: ByteString,
    /// How completely it was read.
    state: CoverageState,
    /// The packages found; `null` where there can be none.
    packages: Option<usize>,
    /// What is missing or worth knowing, and what that hides, for display.
    notes: Vec<String>,
    /// The same as data.
    losses: Vec<Loss>,
}

impl From<Coverage> for Document {
    fn from(coverage: Coverage) -> Self {
        let Coverage { manager, scope, location, state, packages, notes: losses } = coverage;
        let notes = losses.iter().map(Loss::to_string).collect();
        Document { manager, scope, location, state, packages, notes, losses }
    }
}
