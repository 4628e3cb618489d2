//! Numbered states of what was installed, as some managers keep them themselves.

use schemars::JsonSchema;
use serde::Serialize;

use super::package::as_rfc3339;
use super::{Evidence, ManagerId, Scope};
use crate::text::Text;

/// One package in two versions.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Change {
    /// Its name.
    pub name: Text,
    /// Its version in the state before.
    pub from: Option<Text>,
    /// Its version in this state.
    pub to: Option<Text>,
}

/// One state.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct State {
    /// The manager that keeps it.
    pub manager: ManagerId,
    /// Whose it is.
    pub scope: Scope,
    /// What is numbered: a profile, a bundle.
    pub holder: Text,
    /// The number, as the manager spells it.
    pub number: Text,
    /// When it was made: RFC 3339, UTC.
    #[serde(serialize_with = "as_rfc3339")]
    #[schemars(with = "Option<String>")]
    pub made_at: Option<i64>,
    /// Whether it is in force.
    pub current: bool,
    /// Packages that the state before does not have.
    pub added: Vec<Text>,
    /// Packages that only the state before has.
    pub removed: Vec<Text>,
    /// Packages at another version than in the state before.
    pub changed: Vec<Change>,
    /// Where this stands.
    pub evidence: Vec<Evidence>,
}
