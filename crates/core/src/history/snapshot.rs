//! The document of a snapshot, `whodunit-snapshot/1`: JSON, compressed with zstd.

use std::io::Read as _;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::version::Scheme;

/// The version of the format, as every document names it.
pub const SNAPSHOT_SCHEMA: &str = "whodunit-snapshot/1";
/// What the names of other versions of the format begin with.
const FAMILY: &str = "whodunit-snapshot/";
/// The most bytes of a document once unpacked; that of a machine with 3,000 packages has four million.
const MAX_UNPACKED: u64 = 512 << 20;
/// Level of compression: higher ones take twice the time for a tenth less.
const LEVEL: i32 = 9;

/// Everything about a machine that is compared.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Snapshot {
    /// Always `whodunit-snapshot/1`.
    pub schema: String,
    /// The version of the program that wrote it.
    pub written_by: String,
    /// When it was taken: RFC 3339, UTC; `null` where the machine's clock told nothing.
    pub taken_at: Option<String>,
    /// The machine's name.
    pub host: Option<String>,
    /// What tells the machine from every other, whatever it is called: a digest of its `machine-id(5)`, which is not told
    /// itself. `null` where it has none.
    #[serde(default)]
    pub machine: Option<String>,
    /// Where its tree lay; `/` for the running machine.
    pub root: String,
    /// The system and its version.
    pub system: Option<String>,
    /// The users whose homes and contexts counted.
    pub users_seen: Vec<String>,
    /// What was installed.
    pub packages: Vec<PackageRecord>,
    /// Which program each name starts.
    pub winners: Vec<WinnerRecord>,
    /// The search paths.
    pub search_paths: Vec<PathRecord>,
    /// The launchers that are shown.
    pub launchers: Vec<LauncherRecord>,
    /// Programs that no manager claims.
    pub unowned: Vec<UnownedRecord>,
    /// Sources of packages.
    pub sources: Vec<SourceRecord>,
    /// The numbered states that managers keep.
    pub states: Vec<StateRecord>,
    /// Units of the service manager, and jobs that are done at set times.
    pub services: Vec<ServiceRecord>,
    /// Accounts.
    pub users: Vec<UserRecord>,
    /// Start-up files of users, and settings.
    pub files: Vec<FileRecord>,
    /// What `check` finds, at every level, but for what the settings accept; `null` where it was not asked.
    #[serde(default)]
    pub findings: Option<Vec<FindingRecord>>,
    /// What could not be read, in words.
    pub losses: Vec<String>,
}

/// One package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PackageRecord {
    /// Its id, unique on the machine.
    pub id: String,
    /// The manager that records it.
    pub manager: String,
    /// Whose it is.
    pub scope: String,
    /// The directory of the manager's state.
    pub location: String,
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Option<String>,
    /// Its architecture.
    pub arch: Option<String>,
    /// What sort of unit it is.
    pub kind: String,
    /// The channel or branch.
    pub channel: Option<String>,
    /// The manager's own revision or commit.
    pub revision: Option<String>,
    /// The name of where it came from.
    pub origin: Option<String>,
    /// Whether it was asked for.
    pub reason: String,
    /// Whether upgrades are held back.
    pub held: bool,
    /// Whether it is the version in use.
    pub active: bool,
    /// What state it is in.
    pub status: String,
    /// When it was installed: RFC 3339, UTC.
    pub installed_at: Option<String>,
    /// Bytes on disk.
    pub size: Option<u64>,
    /// The software that it is.
    pub title: Option<String>,
    /// How its manager orders versions.
    #[serde(default)]
    pub scheme: Option<Scheme>,
    /// What upstream calls its version.
    #[serde(default)]
    pub upstream: Option<String>,
    /// The newest version that a source offers, where it is newer and was asked for.
    #[serde(default)]
    pub newest: Option<NewestRecord>,
}

/// A newer version of a package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct NewestRecord {
    /// The version.
    pub version: String,
    /// The source that offers it.
    pub source: Option<String>,
}

/// One finding.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FindingRecord {
    /// What kind of finding it is.
    pub kind: String,
    /// How much it matters.
    pub severity: String,
    /// The sort of its cause.
    pub cause: String,
    /// What it is about.
    pub subject: String,
    /// One sentence.
    pub summary: String,
    /// The users in whose sessions it is so; empty for what is so whoever asks.
    pub users: Vec<String>,
}

/// The program that a name starts.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct WinnerRecord {
    /// The name.
    pub name: String,
    /// The file that is found.
    pub path: String,
    /// The id of the package that it belongs to.
    pub owner: Option<String>,
    /// In which contexts of which users, as `USER CONTEXT`.
    pub contexts: Vec<String>,
}

/// The search path of one context.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PathRecord {
    /// Whose.
    pub user: Option<String>,
    /// Which context.
    pub context: String,
    /// The directories, in order, each with the file and place that put it there.
    pub entries: Vec<(String, String)>,
}

/// A launcher.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LauncherRecord {
    /// Its desktop file id.
    pub id: String,
    /// Whose menu it is in; empty for every user's.
    pub users: Vec<String>,
    /// Its file.
    pub file: String,
    /// The name that is shown.
    pub name: Option<String>,
    /// Whether it is shown.
    pub shown: bool,
    /// The program that it starts.
    pub starts: Option<String>,
    /// The id of the package that it belongs to.
    pub owner: Option<String>,
}

/// A program that no manager claims.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UnownedRecord {
    /// Where it is.
    pub path: String,
    /// What it is.
    pub kind: String,
    /// SHA-256 of its content; where that is too large, its size and the time of its last change.
    pub content: Option<String>,
}

/// A source of packages.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SourceRecord {
    /// The manager that takes packages from it.
    pub manager: String,
    /// For whom.
    pub scope: String,
    /// Its name.
    pub name: String,
    /// Its address.
    pub url: Option<String>,
    /// Whether it is used.
    pub enabled: bool,
    /// Whether what it gives is verified.
    pub signed: String,
}

/// The state in force of what a manager numbers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct StateRecord {
    /// The manager.
    pub manager: String,
    /// What is numbered.
    pub holder: String,
    /// The number.
    pub number: String,
    /// Whether it is in force.
    pub current: bool,
}

/// A unit or a job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ServiceRecord {
    /// What it is called.
    pub name: String,
    /// Whose it is.
    pub scope: String,
    /// Its file.
    pub file: String,
    /// Whether it starts by itself: a unit that another one wants, or a job with a time.
    pub enabled: bool,
    /// The id of the package that it belongs to.
    #[serde(default)]
    pub owner: Option<String>,
}

/// An account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct UserRecord {
    /// Login name.
    pub name: String,
    /// User number.
    pub uid: u32,
    /// Home directory.
    pub home: String,
    /// The login shell.
    pub shell: String,
}

/// A file of settings.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FileRecord {
    /// Where it is.
    pub path: String,
    /// SHA-256 of its content, or what it leads to; `null` where that could not be read.
    pub content: Option<String>,
    /// The id of the package that it belongs to.
    #[serde(default)]
    pub owner: Option<String>,
}

/// Why a document is no snapshot that can be used.
#[derive(Debug, Error)]
pub enum ReadError {
    /// It cannot be unpacked.
    #[error("it is cut off or damaged: {0}")]
    Damaged(#[source] std::io::Error),
    /// It is larger than any.
    #[error("it is larger than any snapshot")]
    TooLarge,
    /// It is no snapshot at all.
    #[error("it is no snapshot: {0}")]
    Foreign(#[source] serde_json::Error),
    /// It is of another version of the format.
    #[error("it is a snapshot of another version of this program ({0}; this one reads {SNAPSHOT_SCHEMA})")]
    OtherVersion(String),
}

/// The one member that every version of the format has.
#[derive(Deserialize)]
struct Head {
    schema: String,
}

impl Snapshot {
    /// Writes the document.
    ///
    /// # Errors
    /// Never, but for want of memory.
    pub fn write(&self) -> std::io::Result<Vec<u8>> {
        let mut packed = zstd::Encoder::new(Vec::new(), LEVEL)?;
        packed.include_checksum(true)?;
        serde_json::to_writer(&mut packed, self)?;
        packed.finish()
    }

    /// Reads a document, compressed or not.
    ///
    /// # Errors
    /// When it is damaged, no snapshot, or one of another version of the format.
    pub fn read(bytes: &[u8]) -> Result<Self, ReadError> {
        Self::read_within(bytes, MAX_UNPACKED)
    }

    /// The same of a document that is not larger than this, in bytes, when it is unpacked.
    ///
    /// # Errors
    /// As those of [`Snapshot::read`].
    pub fn read_within(bytes: &[u8], max: u64) -> Result<Self, ReadError> {
        let mut text = Vec::new();
        let stream = whodunit_formats::packed::open(bytes).map_err(ReadError::Damaged)?;
        let read = stream.take(max + 1).read_to_end(&mut text).map_err(ReadError::Damaged)?;
        if read as u64 > max {
            return Err(ReadError::TooLarge);
        }
        let head: Head = serde_json::from_slice(&text).map_err(ReadError::Foreign)?;
        if head.schema != SNAPSHOT_SCHEMA && head.schema.starts_with(FAMILY) {
            return Err(ReadError::OtherVersion(head.schema));
        }
        if head.schema != SNAPSHOT_SCHEMA {
            return Err(ReadError::Foreign(serde::de::Error::custom(format!("its schema is {}", head.schema))));
        }
        serde_json::from_slice(&text).map_err(ReadError::Foreign)
    }
}

#[cfg(test)]
mod tests {
    use super::super::compare::tests::snapshot;
    use super::*;

    #[test]
    fn a_document_is_read_as_it_was_written_and_damage_is_told() {
        let written = snapshot(&["dpkg/system/tarn 2.3"]);
        let bytes = written.write().unwrap();
        assert_eq!(Snapshot::read(&bytes).unwrap(), written);
        let plain = serde_json::to_vec(&written).unwrap();
        assert_eq!(Snapshot::read(&plain).unwrap(), written);
        for cut in 0..bytes.len() {
            assert!(Snapshot::read(&bytes[..cut]).is_err(), "{cut}");
        }
        // A bit that has turned is not read as another machine.
        for at in 8..bytes.len() {
            let mut turned = bytes.clone();
            turned[at] ^= 4;
            assert!(Snapshot::read(&turned).map_or(true, |read| read == written), "{at}");
        }
        let later = String::from_utf8(plain).unwrap().replace("whodunit-snapshot/1", "whodunit-snapshot/2");
        assert!(
            matches!(Snapshot::read(later.as_bytes()), Err(ReadError::OtherVersion(version)) if version.ends_with("/2"))
        );
        for foreign in ["", "{}", "[]", "{\"schema\":\"whodunit/1\"}", "{\"schema\":\"whodunit-snapshot/1\"}"] {
            assert!(matches!(Snapshot::read(foreign.as_bytes()), Err(ReadError::Foreign(_))), "{foreign}");
        }
    }
}
