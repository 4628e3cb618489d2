//! Sources of packages, as they are configured.

use schemars::JsonSchema;
use serde::Serialize;

use super::{Evidence, ManagerId, Origin, Scope};
use crate::bytes::ByteString;

/// Whether a signature vouches for what comes from a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum SigningState {
    /// What it gives is only taken with a signature by a known key.
    Verified,
    /// What it gives is taken without one.
    Unverified,
    /// The records do not tell.
    Unknown,
}

impl SigningState {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            SigningState::Verified => "verified",
            SigningState::Unverified => "unverified",
            SigningState::Unknown => "unknown",
        }
    }
}

/// A key that may sign for a source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SigningKey {
    /// Its fingerprint, or the last digits of it; or the name by which a manager calls it.
    pub id: String,
    /// Whose it is, as it says itself.
    pub owner: Option<String>,
    /// From when on it is no longer good: RFC 3339, UTC; `null` where it never expires, or where that is not known.
    #[serde(serialize_with = "super::package::as_rfc3339")]
    #[schemars(with = "Option<String>")]
    pub expires_at: Option<i64>,
    /// Whether it made the signature that is there.
    pub signed: bool,
    /// Where it is kept.
    pub file: ByteString,
}

/// How a source is signed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Signing {
    /// Whether what it gives is verified.
    pub state: SigningState,
    /// The keys that may sign for it, those that did first.
    pub keys: Vec<SigningKey>,
}

impl Signing {
    /// A state without any key that is known.
    #[must_use]
    pub fn of(state: SigningState) -> Self {
        Signing { state, keys: Vec::new() }
    }

    /// As a manager's setting says, where it says anything.
    #[must_use]
    pub fn set(is_checked: Option<bool>) -> Self {
        Signing::of(match is_checked {
            Some(true) => SigningState::Verified,
            Some(false) => SigningState::Unverified,
            None => SigningState::Unknown,
        })
    }
}

/// A repository, remote, channel, tap, index or registry.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Source {
    /// The manager that takes packages from it.
    pub manager: ManagerId,
    /// For whom it is configured.
    pub scope: Scope,
    /// What it is called.
    pub name: ByteString,
    /// `repository`, `remote`, `channel`, `tap`, `index`, `registry`, `cache` or `store`.
    pub kind: String,
    /// Its address.
    pub url: Option<ByteString>,
    /// Whether it is used.
    pub enabled: bool,
    /// `distribution`, `third-party` or `local`.
    pub trust: Option<String>,
    /// How it is signed.
    pub signed: Signing,
    /// When its catalogue was last fetched or found to be current: RFC 3339, UTC.
    #[serde(serialize_with = "super::package::as_rfc3339")]
    #[schemars(with = "Option<String>")]
    pub refreshed_at: Option<i64>,
    /// Until when its catalogue says it may be used: RFC 3339, UTC.
    #[serde(serialize_with = "super::package::as_rfc3339")]
    #[schemars(with = "Option<String>")]
    pub valid_until: Option<i64>,
    /// The manager's own priority of it.
    pub priority: Option<i32>,
    /// Where it is configured.
    pub evidence: Vec<Evidence>,
    /// What packages from it give as their origin.
    #[serde(skip)]
    pub origins: Vec<ByteString>,
    /// The kind of origin that all packages from it have, where that alone tells.
    #[serde(skip)]
    pub origin_kind: Option<&'static str>,
    /// What two entries have in common that give the same.
    #[serde(skip)]
    pub gives: Vec<ByteString>,
    /// Whether it is one of several from which a package of one name is taken, whichever has the highest version.
    #[serde(skip)]
    pub is_merged: bool,
}

impl Source {
    /// A source that is used, of which no more is known.
    #[must_use]
    pub fn new(manager: ManagerId, scope: Scope, name: impl Into<ByteString>, kind: &str) -> Self {
        Source {
            manager,
            scope,
            name: name.into(),
            kind: kind.to_owned(),
            url: None,
            enabled: true,
            trust: None,
            signed: Signing::of(SigningState::Unknown),
            refreshed_at: None,
            valid_until: None,
            priority: None,
            evidence: Vec::new(),
            origins: Vec::new(),
            origin_kind: None,
            gives: Vec::new(),
            is_merged: false,
        }
    }

    /// Whether a package with this origin came from here.
    #[must_use]
    pub fn gave(&self, origin: &Origin) -> bool {
        self.origins.contains(&origin.name) || self.origin_kind.is_some_and(|kind| kind == origin.kind)
    }
}
