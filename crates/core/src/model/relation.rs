//! How packages need one another.

use schemars::JsonSchema;
use serde::Serialize;

/// How the thing before it in a chain needs this one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Relation {
    /// It does not work without this.
    Requires,
    /// This is the runtime in which it runs.
    RuntimeOf,
    /// This is the interpreter, or the base, on which it was built.
    BaseOf,
    /// This is kept on disk for its sake.
    KeptBy,
    /// It requires this under a condition that is not worked out.
    RequiresIf,
    /// It is usually installed together with this, and works without it.
    Recommends,
    /// It can make use of this.
    Suggests,
}

impl Relation {
    /// What the thing before it does with this one, in a word or two.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Relation::Requires => "requires",
            Relation::RuntimeOf => "runs in",
            Relation::BaseOf => "is built on",
            Relation::KeptBy => "keeps",
            Relation::RequiresIf => "may require",
            Relation::Recommends => "recommends",
            Relation::Suggests => "suggests",
        }
    }

    /// Whether the thing before it stays as it is without this.
    #[must_use]
    pub fn is_optional(self) -> bool {
        matches!(self, Relation::RequiresIf | Relation::Recommends | Relation::Suggests)
    }
}
