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

/// One package in a state.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct StateItem {
    /// Its name.
    pub name: ByteString,
    /// Its version.
    pub version: Option<ByteString>,
    /// What tells builds of one version apart: its paths in a store, its revision.
    pub build: Vec<ByteString>,
}

/// What one state has that another has not, or at another version.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct StateChanges {
    /// Packages that only the later one has.
    pub added: Vec<ByteString>,
    /// Packages that only the earlier one has.
    pub removed: Vec<ByteString>,
    /// Packages at another version, or built anew.
    pub changed: Vec<Change>,
}

impl StateChanges {
    /// What differs between two contents.
    #[must_use]
    pub fn between(before: &[StateItem], now: &[StateItem]) -> Self {
        let of = |list: &[StateItem], name: &ByteString| -> Vec<StateItem> {
            list.iter().filter(|one| one.name == *name).cloned().collect()
        };
        let mut names: Vec<&ByteString> = before.iter().chain(now).map(|one| &one.name).collect();
        names.sort();
        names.dedup();
        let mut changes = StateChanges::default();
        for name in names {
            let (old, new) = (of(before, name), of(now, name));
            match (old.first(), new.first()) {
                (None, Some(_)) => changes.added.push(name.clone()),
                (Some(_), None) => changes.removed.push(name.clone()),
                // The same version from another build was built anew.
                (Some(from), Some(to)) if old != new => {
                    let (from, to) = (from.version.clone(), to.version.clone());
                    changes.changed.push(Change { name: name.clone(), from, to });
                }
                _ => {}
            }
        }
        changes
    }
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
    /// What differs from the state before.
    #[serde(flatten)]
    pub changes: StateChanges,
    /// Where this stands.
    pub evidence: Vec<Evidence>,
}
