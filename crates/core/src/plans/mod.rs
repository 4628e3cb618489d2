//! Plans: the commands that get somewhere, in their order, to be read before any of them is run. Nothing is run here.
//!
//! One file per plan. Each is a pure function of a survey, and made of remedies: what is known of a command, who has to
//! type it and what undoes it, comes from there.

mod build;
mod fix;
mod install;
mod relocate;
mod remove;
mod rollback;
mod tidy;

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::ByteString;
use crate::queries::impact::{Broken, Lost};

pub use fix::fix;
pub use install::install;
pub use relocate::relocate;
pub use remove::{RemovalOptions, remove};
pub use rollback::rollback;
pub use tidy::{TidyOptions, tidy};

/// What must hold before a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Condition {
    /// A command for a POSIX shell that changes nothing, and succeeds where it holds.
    pub command: String,
    /// What is so where it does not hold, as a sentence without a full stop.
    pub otherwise: String,
}

/// One command of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PlanStep {
    /// Its number, from 1.
    pub number: usize,
    /// The command, for a POSIX shell. It asks no question that its manager lets one answer beforehand, and contains
    /// `sudo` where another user's rights are needed and the machine has sudo.
    pub command: String,
    /// The user who has to run it; `null` if any user may.
    pub as_user: Option<ByteString>,
    /// What it is for.
    pub why: String,
    /// What must hold before it: else the plan stops there.
    pub conditions: Vec<Condition>,
    /// Whether it fetches something.
    pub needs_network: bool,
    /// The command that undoes it, if there is one.
    pub reversible_by: Option<String>,
    /// What it loses, each as a phrase.
    pub loses: Vec<String>,
}

/// What no command of the plan does.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct OpenPoint {
    /// What it is about.
    pub subject: ByteString,
    /// What is to be done or decided, as a sentence without a full stop.
    pub says: String,
}

/// What is so after the last step.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Foretold {
    /// Ids of packages that are not installed any more.
    pub removed: Vec<ByteString>,
    /// The names of packages that are installed then, with their managers, as `MANAGER/SCOPE/NAME`.
    pub added: Vec<ByteString>,
    /// The files that are gone, and the directories that are gone with everything in them; besides what the managers
    /// keep for themselves.
    pub deleted: Vec<ByteString>,
    /// Bytes on the disk that are free then; `null` where that is not known.
    pub frees: Option<u64>,
    /// What becomes of the commands that are gone.
    pub commands: Vec<Lost>,
    /// What stops working.
    pub broken: Vec<Broken>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Plan {
    /// What it gets to, as a phrase: `remove chartdesk`.
    pub goal: String,
    /// The user who has to run it as a whole; `null` if any user may, or any user who may use sudo.
    pub run_as: Option<ByteString>,
    /// The commands, in their order. A step that cannot be made is not among them, nor what would have to follow it.
    pub steps: Vec<PlanStep>,
    /// What no command here can do.
    pub open: Vec<OpenPoint>,
    /// What must hold after the last step.
    pub checks: Vec<Condition>,
    /// What is so after the last step.
    pub foretold: Foretold,
}
