//! What sources offer.

use schemars::JsonSchema;
use serde::Serialize;

use super::{Evidence, ManagerId, Origin, Scope};
use crate::bytes::ByteString;

/// What is asked about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OfferQuery {
    /// Packages or titles of these names, in lower case.
    Names(Vec<ByteString>),
    /// Whatever the manager has installed.
    Installed,
}

impl OfferQuery {
    /// Whether a name is asked about: the whole of it, or the last part of a name such as `org.harbour.ChartDesk`.
    #[must_use]
    pub fn has(&self, name: &[u8]) -> bool {
        let OfferQuery::Names(names) = self else { return false };
        let is = |text: &[u8]| names.iter().any(|asked| asked.eq_ignore_ascii_case(text));
        let last = name.rsplit(|&b| b == b'.').next().unwrap_or(name);
        is(name) || (memchr::memchr_iter(b'.', name).count() >= 2 && is(last))
    }
}

/// One version that one source has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Offer {
    /// The manager that could install it, or has.
    pub manager: ManagerId,
    /// For whom.
    pub scope: Scope,
    /// The package, as the manager spells it.
    pub name: ByteString,
    /// Its version.
    pub version: Option<ByteString>,
    /// Its architecture.
    pub arch: Option<ByteString>,
    /// The channel or branch.
    pub channel: Option<ByteString>,
    /// Who has it; `null` where it is installed and no catalogue has it.
    pub source: Option<Origin>,
    /// Who published it.
    pub publisher: Option<ByteString>,
    /// What it says of itself, in a line.
    pub says: Option<ByteString>,
    /// Bytes once installed.
    pub size: Option<u64>,
    /// The manager's own priority of the source.
    pub priority: Option<i32>,
    /// Whether this version is installed.
    pub installed: bool,
    /// Whether it is what its manager would take, or keep.
    pub candidate: bool,
    /// Whether upgrades of the package are held back.
    pub held: bool,
    /// When the catalogue was last fetched: RFC 3339, UTC.
    #[serde(serialize_with = "super::package::as_rfc3339")]
    #[schemars(with = "Option<String>")]
    pub catalogued_at: Option<i64>,
    /// Where it stands.
    pub evidence: Vec<Evidence>,
}

impl Offer {
    /// Whether its manager may take it: not where a pin says that nothing is taken from there.
    #[must_use]
    pub fn is_allowed(&self) -> bool {
        self.priority.is_none_or(|priority| priority > 0)
    }

    /// An offer of which only the package is known so far.
    #[must_use]
    pub fn bare(
        manager: ManagerId,
        scope: Scope,
        name: ByteString,
        version: ByteString,
        arch: Option<ByteString>,
        held: bool,
    ) -> Self {
        Offer {
            manager,
            scope,
            name,
            version: Some(version),
            arch,
            channel: None,
            source: None,
            publisher: None,
            says: None,
            size: None,
            priority: None,
            installed: false,
            candidate: false,
            held,
            catalogued_at: None,
            evidence: Vec::new(),
        }
    }
}
