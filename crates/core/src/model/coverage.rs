//! Coverage: what a run found, and how completely it read it.

use schemars::JsonSchema;
use serde::Serialize;

use super::{ManagerId, Scope};
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
pub struct Coverage {
    /// Whose state it is; `null` for a directory that belongs to no manager's state.
    pub manager: Option<ManagerId>,
    /// Whose installation it is.
    pub scope: Scope,
    /// Where it lies.
    pub location: ByteString,
    /// How completely it was read.
    pub state: CoverageState,
    /// The packages found; `null` where there can be none.
    pub packages: Option<usize>,
    /// What is missing or worth knowing, and what that hides.
    pub notes: Vec<String>,
}
