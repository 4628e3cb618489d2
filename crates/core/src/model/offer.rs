//! What sources offer.

use schemars::JsonSchema;
use serde::Serialize;

use super::{Described, Evidence, ManagerId, Origin, Scope, Search};
use crate::bytes::ByteString;

/// What is asked about.
#[derive(Debug, Clone)]
pub enum OfferQuery {
    /// Packages or titles of these names, in lower case.
    Names(Vec<ByteString>),
    /// Whatever the manager has installed.
    Installed,
    /// Whatever a search finds.
    Search(Search),
}

impl OfferQuery {
    /// Whether everything that is installed is asked about.
    #[must_use]
    pub fn is_installed(&self) -> bool {
        matches!(self, OfferQuery::Installed)
    }

    /// Whether an entry is asked about by what it is called or says of itself.
    #[must_use]
    pub fn wants(&self, entry: &Described<'_>) -> bool {
        match self {
            OfferQuery::Names(names) => {
                self.has(entry.name)
                    || entry.display_name.is_some_and(|shown| names.iter().any(|asked| is_shown_as(asked, shown)))
            }
            OfferQuery::Installed => false,
            OfferQuery::Search(search) => search.parts(entry).is_some(),
        }
    }

    /// Whether text that is not taken apart yet can belong to an entry that is asked about.
    #[must_use]
    pub fn may_be_in(&self, text: &[u8]) -> bool {
        match self {
            OfferQuery::Search(search) => search.may_be_in(text),
            _ => true,
        }
    }

    /// Whether a name is asked about: the whole of it, or the last part of a name such as `org.harbour.ChartDesk`.
    #[must_use]
    pub fn has(&self, name: &[u8]) -> bool {
        let OfferQuery::Names(names) = self else { return false };
        let is = |text: &[u8]| names.iter().any(|asked| asked.eq_ignore_ascii_case(text));
        let last = name.rsplit(|&b| b == b'.').next().unwrap_or(name);
        is(name) || (memchr::memchr_iter(b'.', name).count() >= 2 && is(last))
    }
}

/// Whether a user means the name that is shown: in any case, and with or without the blanks in it.
#[must_use]
pub(crate) fn is_shown_as(asked: &[u8], shown: &[u8]) -> bool {
    let plain = |text: &[u8]| String::from_utf8_lossy(text).to_lowercase().replace(' ', "");
    plain(asked) == plain(shown)
}

/// A package that comes along with another.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, JsonSchema)]
pub struct Pulled {
    /// Its name.
    pub name: ByteString,
    /// The version that would be taken.
    pub version: Option<ByteString>,
    /// Bytes to fetch.
    pub download_size: Option<u64>,
    /// Bytes once installed.
    pub installed_size: Option<u64>,
    /// Whether it is a runtime or base that other apps use, too.
    pub shared: bool,
}

/// What an installation would bring along that is not here yet.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, JsonSchema)]
pub struct PullsIn {
    /// The packages, nearest first.
    pub packages: Vec<Pulled>,
    /// Bytes to fetch for all of them; `null` where one is not known.
    pub download_size: Option<u64>,
    /// Bytes once all of them are installed.
    pub installed_size: Option<u64>,
    /// Whether the catalogue told everything; else the manager may choose otherwise, or more.
    pub complete: bool,
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
    /// The name that user interfaces show.
    pub display_name: Option<ByteString>,
    /// The address of upstream.
    pub homepage: Option<ByteString>,
    /// The licence, as the catalogue spells it.
    pub license: Option<ByteString>,
    /// Whether its source vouches for it with a signature; `null` where that is not known.
    pub signed: Option<bool>,
    /// `none`, `sandboxed`, `strict`, `classic` …
    pub confinement: Option<String>,
    /// What a confined app may reach, in words.
    pub permissions: Vec<String>,
    /// Commands that it provides, of those that are asked about.
    pub provides: Vec<ByteString>,
    /// Bytes to fetch.
    pub download_size: Option<u64>,
    /// Bytes once installed.
    pub size: Option<u64>,
    /// The manager's own priority of the source.
    pub priority: Option<i32>,
    /// Whether a setting keeps its manager from taking it.
    #[serde(skip)]
    pub refused: bool,
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
    /// Keywords, and the summary in other languages, of those that a search finds it by.
    #[serde(skip)]
    pub keywords: Vec<ByteString>,
    /// Where it stands.
    pub evidence: Vec<Evidence>,
}

impl Offer {
    /// Its name and the source whose catalogue lists it; what is installed and in no catalogue is offered by nobody.
    #[must_use]
    pub fn listed_in(&self) -> Option<(ByteString, ByteString)> {
        let source = self.source.as_ref().filter(|_| self.catalogued_at.is_some())?;
        Some((self.name.clone(), source.name.clone()))
    }

    /// What a search looks at.
    #[must_use]
    pub fn described(&self) -> Described<'_> {
        Described {
            name: &self.name,
            display_name: self.display_name.as_deref(),
            summary: self.says.as_deref(),
            keywords: &self.keywords,
            commands: &self.provides,
        }
    }

    /// Whether its manager may take it: not where a pin says that nothing is taken from there, and not where a setting
    /// refuses it.
    #[must_use]
    pub fn is_allowed(&self) -> bool {
        !self.refused && self.priority.is_none_or(|priority| priority > 0)
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
            display_name: None,
            homepage: None,
            license: None,
            signed: None,
            confinement: None,
            permissions: Vec::new(),
            provides: Vec::new(),
            keywords: Vec::new(),
            download_size: None,
            size: None,
            priority: None,
            refused: false,
            installed: false,
            candidate: false,
            held,
            catalogued_at: None,
            evidence: Vec::new(),
        }
    }
}
