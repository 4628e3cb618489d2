//! What managers' logs say was done.

use schemars::JsonSchema;
use serde::Serialize;

use super::package::as_rfc3339;
use super::{Evidence, ManagerId, Scope};
use crate::bytes::ByteString;

/// What was done to a package.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Action {
    /// It came, or came again at the same version.
    Install,
    /// A newer version took its place.
    Upgrade,
    /// An older version took its place.
    Downgrade,
    /// It went.
    Remove,
    /// Its settings were set up, or taken away, without the package coming or going.
    Configure,
    /// Another state became the one in force.
    Switch,
}

impl Action {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Action::Install => "install",
            Action::Upgrade => "upgrade",
            Action::Downgrade => "downgrade",
            Action::Remove => "remove",
            Action::Configure => "configure",
            Action::Switch => "switch",
        }
    }
}

/// One thing that was done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Event {
    /// When: RFC 3339, UTC; `null` where the record gives no time that can be read.
    #[serde(serialize_with = "as_rfc3339")]
    #[schemars(with = "Option<String>")]
    pub at: Option<i64>,
    /// The time as it is recorded; `null` where it is that of a file.
    pub recorded_at: Option<String>,
    /// The manager that did it.
    pub manager: ManagerId,
    /// For whom.
    pub scope: Scope,
    /// What was done.
    pub action: Action,
    /// To which package.
    pub name: ByteString,
    /// The version before.
    pub from: Option<ByteString>,
    /// The version after.
    pub to: Option<ByteString>,
    /// Who asked for it, as far as the log tells.
    pub by: Option<String>,
    /// The command, as the log has it.
    pub command: Option<String>,
    /// What belongs together: the time and place of the transaction; `null` where the log knows none.
    pub transaction: Option<String>,
    /// Whether the log has it behind something later: the clock was set back, or the log is mixed up.
    pub out_of_order: bool,
    /// Where it stands.
    pub evidence: Vec<Evidence>,
}

/// What a transaction is called that made a numbered state.
#[must_use]
pub fn state_name(holder: &str, number: &str) -> String {
    format!("{holder} {number}")
}

impl Event {
    /// Whether both were done at once.
    #[must_use]
    pub fn is_together_with(&self, other: &Event) -> bool {
        let is_same =
            (self.manager, &self.scope, &self.transaction) == (other.manager, &other.scope, &other.transaction);
        is_same && (self.transaction.is_some() || self.at == other.at)
    }

    /// An event of which only the package and the action are known so far.
    #[must_use]
    pub fn of(manager: ManagerId, scope: Scope, action: Action, name: impl Into<ByteString>) -> Self {
        Event {
            at: None,
            recorded_at: None,
            manager,
            scope,
            action,
            name: name.into(),
            from: None,
            to: None,
            by: None,
            command: None,
            transaction: None,
            out_of_order: false,
            evidence: Vec::new(),
        }
    }
}
