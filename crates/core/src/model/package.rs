//! Packages and the installations that hold them.

use std::borrow::Cow;
use std::fmt;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Serialize, Serializer};

use super::Evidence;
use crate::text::Text;

/// The name by which people call a package manager, and by which `--manager` selects it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
pub struct ManagerId(pub &'static str);

impl fmt::Display for ManagerId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.0)
    }
}

/// Whose installation it is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Scope {
    /// The whole machine's.
    System,
    /// One person's.
    User(Text),
    /// That of a self-contained environment, by its folder.
    Environment(Text),
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Scope::System => f.pad("system"),
            Scope::User(name) => f.pad(&format!("user:{name}")),
            Scope::Environment(folder) => f.pad(&format!("environment:{folder}")),
        }
    }
}

impl Serialize for Scope {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl JsonSchema for Scope {
    fn schema_name() -> Cow<'static, str> {
        "Scope".into()
    }
    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "pattern": "^(system|user:.+|environment:/.*)$" })
    }
}

/// One place where one manager keeps its state.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Installation {
    /// Whose state it is.
    pub manager: ManagerId,
    /// System-wide, or one person's.
    pub scope: Scope,
    /// The folder that holds the state.
    pub location: Text,
}

/// Whether a package was asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Reason {
    /// A person asked for it.
    Explicit,
    /// It came along because another package needs it.
    Dependency,
    /// The manager keeps no record of it.
    Unknown,
}

impl Reason {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Reason::Explicit => "explicit",
            Reason::Dependency => "dependency",
            Reason::Unknown => "unknown",
        }
    }
}

/// What state a package is in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Status {
    /// Installed and sound, as far as its manager knows.
    Installed,
    /// Removed; its settings were left.
    ConfigRemains,
    /// Half installed, or its record is damaged.
    Broken,
    /// Installed, but switched off.
    Disabled,
}

impl Status {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Status::Installed => "installed",
            Status::ConfigRemains => "config-remains",
            Status::Broken => "broken",
            Status::Disabled => "disabled",
        }
    }
}

/// Where a package came from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Origin {
    /// The repository's or remote's name.
    pub name: Text,
    /// `repository`, `remote`, `channel`, `index`, `publisher` or `file`.
    pub kind: String,
    /// Its address.
    pub url: Option<Text>,
    /// `distribution`, `third-party` or `local`.
    pub trust: Option<String>,
}

/// One installed unit in a manager's record. Absent facts are `null`, never a guess.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Package {
    /// `MANAGER/SCOPE/NAME`, unique on the machine.
    pub id: Text,
    /// The manager that records it.
    pub manager: ManagerId,
    /// Whose it is.
    pub scope: Scope,
    /// The folder that holds the manager's state.
    pub location: Text,
    /// Its name, as the manager spells it.
    pub name: Text,
    /// Its version, as the manager spells it.
    pub version: Option<Text>,
    /// Its architecture, as the manager spells it.
    pub arch: Option<Text>,
    /// What sort of unit it is: `package`, `app`, `runtime` …
    pub kind: String,
    /// The channel or branch that it follows.
    pub channel: Option<Text>,
    /// The manager's own revision or commit.
    pub revision: Option<Text>,
    /// Where it came from.
    pub origin: Option<Origin>,
    /// Whether it was asked for.
    pub reason: Reason,
    /// Whether upgrades are held back.
    pub held: bool,
    /// Whether this is the version in use.
    pub active: bool,
    /// What state it is in.
    pub status: Status,
    /// `none`, or how its programs are confined.
    pub confinement: Option<String>,
    /// When this version was installed: RFC 3339, UTC.
    #[serde(serialize_with = "as_rfc3339")]
    #[schemars(with = "Option<String>")]
    pub installed_at: Option<i64>,
    /// Bytes on disk, as the manager records them.
    pub size: Option<u64>,
    /// Programs that it puts into program folders.
    pub commands: Vec<Text>,
    /// Ids of the launchers that it brings.
    pub launchers: Vec<Text>,
    /// The software that it is a package of.
    pub title: Option<Text>,
    /// Its package URL.
    pub purl: Option<String>,
    /// Where all this stands.
    pub evidence: Vec<Evidence>,
}

/// A time as RFC 3339 has it, in UTC.
pub(crate) fn rfc3339(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).map_or_else(|_| seconds.to_string(), |time| time.to_string())
}

pub(super) fn as_rfc3339<S: Serializer>(seconds: &Option<i64>, serializer: S) -> Result<S::Ok, S::Error> {
    match seconds.and_then(|seconds| jiff::Timestamp::from_second(seconds).ok()) {
        Some(time) => serializer.collect_str(&time),
        None => serializer.serialize_none(),
    }
}

/// A package in short: what an answer says of the owner.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Owner {
    /// As in [`Package::id`].
    pub id: Text,
    /// The manager that records it.
    pub manager: ManagerId,
    /// Whose it is.
    pub scope: Scope,
    /// Its name.
    pub name: Text,
    /// Its version.
    pub version: Option<Text>,
    /// What state it is in.
    pub status: Status,
}

impl Owner {
    /// The name with whatever else tells it from others of the same name: what its id ends in.
    ///
    /// For a package of a foreign architecture that is `NAME:ARCH`.
    #[must_use]
    pub fn full_name(&self) -> Text {
        full_name(&self.id, &self.name)
    }
}

impl Package {
    /// As [`Owner::full_name`].
    #[must_use]
    pub fn full_name(&self) -> Text {
        full_name(&self.id, &self.name)
    }
}

fn full_name(id: &Text, name: &Text) -> Text {
    let last = crate::text::path::name(id);
    let tells_more = last.strip_prefix(&**name).is_some_and(|rest| match rest.first() {
        Some(b':') => true,
        // As rpm's people write it.
        Some(b'.' | b'-') => id.starts_with(b"rpm/"),
        _ => false,
    });
    if tells_more { last.into() } else { name.clone() }
}

/// A command of the owning manager's own, and what it is for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Remedy {
    /// `remove`, `upgrade`, `choose` …
    pub purpose: String,
    /// What to type.
    pub command: String,
}
