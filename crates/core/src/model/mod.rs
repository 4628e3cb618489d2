//! Plain data: what the managers record and what the answers are made of.

mod claim;
mod coverage;
mod finding;
mod launcher;
mod offer;
mod package;
mod rules;
mod state;

pub use claim::{Algorithm, Claim, Claimant, Depth, Digest, Lead, LeadTo, Mark, PathClaim, Recorded, Wanted};
pub use coverage::{Coverage, CoverageState};
pub(crate) use package::rfc3339;
pub use package::{Installation, ManagerId, Origin, Owner, Package, Reason, Remedy, Scope, Status};

pub use finding::{Finding, FindingKind};
pub use launcher::{Launcher, Starts};
pub use offer::{Asked, Offer};
pub use rules::Rules;
pub use state::{Change, State};

use schemars::JsonSchema;
use serde::Serialize;

use crate::text::Text;

/// Where a fact stands: a file, and the place in it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Evidence {
    /// The file, as seen from inside the root; or the thing looked at where that is no file.
    pub file: Text,
    /// The place in it: `line 12`, `entry 3`, a key, a row.
    pub at: String,
    /// What it says there.
    pub says: String,
}

impl Evidence {
    /// Evidence from a line of a file.
    pub fn line(file: impl Into<Text>, line: u32, says: impl Into<String>) -> Self {
        Evidence { file: file.into(), at: format!("line {line}"), says: says.into() }
    }

    /// Evidence from any other place.
    pub fn at(file: impl Into<Text>, at: impl Into<String>, says: impl Into<String>) -> Self {
        Evidence { file: file.into(), at: at.into(), says: says.into() }
    }
}

/// How much a person should care.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Note,
    /// Will surprise or break.
    Warning,
    /// Broken or unsafe now.
    Error,
}

impl Severity {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Severity::Note => "note",
            Severity::Warning => "warning",
            Severity::Error => "error",
        }
    }
}
