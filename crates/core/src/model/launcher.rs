//! Launchers: what a menu shows.

use schemars::JsonSchema;
use serde::Serialize;

use super::{Evidence, Finding, Owner};
use crate::text::Text;

/// What a launcher starts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Starts {
    /// The program that is found; `null` when there is none.
    pub path: Option<Text>,
    /// The owner of what finally runs.
    pub owner: Option<Owner>,
    /// The command line as written.
    pub command: Option<String>,
}

/// One launcher.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Launcher {
    /// Its id.
    pub id: Text,
    /// The file that wins.
    pub file: Text,
    /// The name that a menu shows.
    pub name: Option<String>,
    /// Whether a menu shows it.
    pub shown: bool,
    /// Why not.
    pub why_hidden: Option<String>,
    /// Files of the same id that it masks, in order.
    pub masks: Vec<Text>,
    /// What it starts.
    pub starts: Starts,
    /// The owner of the file itself.
    pub owner: Option<Owner>,
    /// What a maintainer should know of it.
    pub findings: Vec<Finding>,
    /// Where this stands.
    pub evidence: Vec<Evidence>,
}
