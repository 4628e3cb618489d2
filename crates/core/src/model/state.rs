//! Numbered states of what was installed, as some managers keep them themselves.

use schemars::JsonSchema;
use serde::Serialize;

use super::package::as_rfc3339;
use super::{Evidence, ManagerId, Scope};
use crate::bytes::ByteString;

/// One package in two versions.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Change {
    /// Its name.
    pub name: ByteString,
    /// Its version in the state before.
    pub from: Option<ByteString>,
    /// Its version in this state.
    pub to: Option<ByteString>,
}

/// One state.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct State {
    /// The manager that keeps it.
    pub manager: ManagerId,
    /// Whose it is.
    pub scope: Scope,
    /// What is numbered: a profile, a bundle.
    pub holder: ByteString,
    /// The number, as the manager spells it.
    pub number: ByteString,
    /// When it was made: RFC 3339, UTC.
    #[serde(serialize_with = "as_rfc3339")]
    #[schemars(with = "Option<String>")]
    pub made_at: Option<i64>,
    /// Whether it is in force.
    pub current: bool,
    /// Packages that the state before does not have.
    pub added: Vec<ByteString>,
    /// Packages that only the state before has.
    pub removed: Vec<ByteString>,
    /// Packages at another version than in the state before.
    pub changed: Vec<Change>,
    /// Where this stands.
    pub evidence: Vec<Evidence>,
}
