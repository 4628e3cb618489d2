//! Plain data: what the managers record and what the answers are made of.

mod claim;
mod command;
mod coverage;
mod event;
mod evidence;
mod finding;
mod group;
mod launcher;
mod loss;
mod manager;
mod offer;
mod package;
mod relation;
mod remedy;
mod rules;
mod search;
mod source;
mod state;

pub use claim::{
    Algorithm, Claim, Claimant, Depth, Digest, ExecDestination, ExecTarget, FileRecord, NameFilter, PathClaim,
    RecordPosition,
};
pub use coverage::{Coverage, CoverageState};
pub use event::{Action, Event, state_name};
pub use evidence::{Evidence, Position};
pub use loss::{Loss, Losses};
pub use manager::{Affix, Language, ManagerId, ManagerKind, Naming, Profile};
pub use package::{Location, Origin, Owner, Package, Reason, Scope, Status};
pub(crate) use package::{as_rfc3339, package_id, rfc3339};

pub use command::{Actor, CommandLine};
pub use finding::{Finding, FindingKind};
pub use group::{Cause, CauseKind, Group};
pub use launcher::{HiddenReason, Launcher, Starts};
pub(crate) use offer::is_shown_as;
pub use offer::{Offer, OfferQuery, Pulled, PullsIn};
pub use relation::Relation;
pub use remedy::{Remedy, RemedyKind};
pub use rules::Rules;
pub use search::{Described, Part, Search, SearchScope};
pub use source::{Signing, SigningKey, SigningState, Source};
pub use state::{Change, State, StateChanges, StateItem};

use schemars::JsonSchema;
use serde::Serialize;

/// How much a user should care.
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
