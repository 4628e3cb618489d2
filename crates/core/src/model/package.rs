//! Packages and the installations that hold them.

use std::borrow::Cow;
use std::fmt;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Serialize, Serializer};

use super::{Evidence, ManagerId};
use crate::bytes::ByteString;

/// Whose installation it is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Scope {
    /// The whole machine's.
    System,
    /// One user's.
    User(ByteString),
    /// A self-contained environment, identified by its directory.
    Environment(ByteString),
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Scope::System => f.pad("system"),
            Scope::User(name) => f.pad(&format!("user:{name}")),
            Scope::Environment(dir) => f.pad(&format!("environment:{dir}")),
        }
    }
}

impl Scope {
    /// The text for data formats: lossless for UTF-8.
    #[must_use]
    pub fn to_data(&self) -> String {
        match self {
            Scope::System => "system".to_owned(),
            Scope::User(name) => format!("user:{}", name.to_data()),
            Scope::Environment(dir) => format!("environment:{}", dir.to_data()),
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
pub struct Location {
    /// Whose state it is.
    pub manager: ManagerId,
    /// System-wide, or one user's.
    pub scope: Scope,
    /// The directory that holds the state.
    pub dir: ByteString,
}

/// Whether a package was asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Reason {
    /// A user asked for it.
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
    pub name: ByteString,
    /// `repository`, `remote`, `channel`, `index`, `publisher` or `file`.
    pub kind: String,
    /// Its address.
    pub url: Option<ByteString>,
    /// `distribution`, `third-party` or `local`.
    pub trust: Option<String>,
}

impl Origin {
    /// From someone else than the distribution: an index, a store, a publisher.
    #[must_use]
    pub fn third_party(kind: &str, name: impl Into<ByteString>, url: Option<ByteString>) -> Self {
        Origin { name: name.into(), kind: kind.to_owned(), url, trust: Some("third-party".to_owned()) }
    }

    /// From this machine: a directory, or a file that was given by its path.
    #[must_use]
    pub fn local(kind: &str, name: impl Into<ByteString>, url: Option<ByteString>) -> Self {
        Origin { name: name.into(), kind: kind.to_owned(), url, trust: Some("local".to_owned()) }
    }

    /// Whether it is someone else's: also a repository on this machine has its packages from somewhere.
    #[must_use]
    pub fn is_third_party(&self) -> bool {
        let is_repository = || matches!(self.kind.as_str(), "repository" | "remote" | "channel");
        match self.trust.as_deref() {
            Some("third-party") => true,
            Some("local") => is_repository(),
            _ => false,
        }
    }
}

/// One installed unit in a manager's record. Absent facts are `null`, never a guess.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Package {
    /// `MANAGER/SCOPE/NAME`, unique on the machine.
    pub id: ByteString,
    /// The manager that records it.
    pub manager: ManagerId,
    /// Whose it is.
    pub scope: Scope,
    /// The directory that holds the manager's state.
    pub location: ByteString,
    /// Its name, as the manager spells it.
    pub name: ByteString,
    /// Its version, as the manager spells it.
    pub version: Option<ByteString>,
    /// Its architecture, as the manager spells it.
    pub arch: Option<ByteString>,
    /// What sort of unit it is: `package`, `app`, `runtime` …
    pub kind: String,
    /// The channel or branch that it follows.
    pub channel: Option<ByteString>,
    /// The manager's own revision or commit.
    pub revision: Option<ByteString>,
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
    /// Programs that it puts into program directories.
    pub commands: Vec<ByteString>,
    /// Ids of the launchers that it brings.
    pub launchers: Vec<ByteString>,
    /// The software that it is a package of.
    pub title: Option<ByteString>,
    /// Its package URL.
    pub purl: Option<String>,
    /// Where all this stands.
    pub evidence: Vec<Evidence>,
}

/// A time as RFC 3339 has it, in UTC.
pub(crate) fn rfc3339(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).map_or_else(|_| seconds.to_string(), |time| time.to_string())
}

pub(crate) fn as_rfc3339<S: Serializer>(seconds: &Option<i64>, serializer: S) -> Result<S::Ok, S::Error> {
    match seconds.and_then(|seconds| jiff::Timestamp::from_second(seconds).ok()) {
        Some(time) => serializer.collect_str(&time),
        None => serializer.serialize_none(),
    }
}

/// A package in short: what an answer says of the owner.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Owner {
    /// As in [`Package::id`].
    pub id: ByteString,
    /// The manager that records it.
    pub manager: ManagerId,
    /// Whose it is.
    pub scope: Scope,
    /// Its name.
    pub name: ByteString,
    /// Its version.
    pub version: Option<ByteString>,
    /// What state it is in.
    pub status: Status,
}

impl Owner {
    /// The name with whatever else tells it from others of the same name: what its id ends in.
    ///
    /// For a package of a foreign architecture that is `NAME:ARCH`.
    #[must_use]
    pub fn full_name(&self) -> ByteString {
        full_name(self.manager, &self.scope, &self.id, &self.name)
    }
}

impl Package {
    /// The package in short.
    #[must_use]
    pub fn brief(&self) -> Owner {
        Owner {
            id: self.id.clone(),
            manager: self.manager,
            scope: self.scope.clone(),
            name: self.name.clone(),
            version: self.version.clone(),
            status: self.status,
        }
    }

    /// As [`Owner::full_name`].
    #[must_use]
    pub fn full_name(&self) -> ByteString {
        full_name(self.manager, &self.scope, &self.id, &self.name)
    }
}

/// The id of a package: manager, scope, and a tail that tells it from the others of that scope.
pub(crate) fn package_id(manager: ManagerId, scope: &Scope, tail: &[u8]) -> ByteString {
    [format!("{manager}/{scope}/").as_bytes(), tail].concat().into()
}

/// The id's last part behind manager and scope, if it is the name and a distinguishing suffix.
fn full_name(manager: ManagerId, scope: &Scope, id: &ByteString, name: &ByteString) -> ByteString {
    let prefix = format!("{manager}/{scope}/");
    let tail = id.strip_prefix(prefix.as_bytes()).filter(|tail| !tail.contains(&b'/'));
    let is_qualified =
        |tail: &&[u8]| tail.strip_prefix(&**name).is_some_and(|rest| matches!(rest.first(), Some(b':' | b'.' | b'-')));
    tail.filter(is_qualified).map_or_else(|| name.clone(), ByteString::from)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_repository_on_this_machine_is_someone_elses_and_a_file_is_not() {
        let own = Origin { trust: Some("distribution".to_owned()), ..Origin::third_party("repository", "mole", None) };
        for (origin, expected) in [
            (Origin::third_party("index", "package index", None), true),
            (Origin::local("remote", "quay", Some("file:///srv/quay".into())), true),
            (Origin::local("file", "a local file", None), false),
            (Origin { trust: None, ..own.clone() }, false),
            (own, false),
        ] {
            assert_eq!(origin.is_third_party(), expected, "{origin:?}");
        }
    }
}
