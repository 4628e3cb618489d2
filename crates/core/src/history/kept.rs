//! Snapshots that are kept, as they are listed.

use schemars::JsonSchema;
use serde::Serialize;

use super::transactions::Transaction;
use super::{Comparison, Snapshot};
use crate::bytes::ByteString;

/// One snapshot that is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct KeptSnapshot {
    /// Its name.
    pub name: ByteString,
    /// Its file.
    pub file: ByteString,
    /// Bytes on disk.
    pub bytes: u64,
    /// When it was taken: RFC 3339, UTC.
    pub taken_at: Option<String>,
    /// The machine.
    pub host: Option<String>,
    /// How many packages it has; `null` where it cannot be read.
    pub packages: Option<usize>,
    /// Why it cannot be used, where it cannot.
    pub problem: Option<String>,
}

/// The answer about snapshots.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct KeptSnapshots {
    /// The snapshots, the oldest first.
    pub snapshots: Vec<KeptSnapshot>,
}

/// The answer about two states.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Compared {
    /// What differs.
    #[serde(flatten)]
    pub comparison: Comparison,
    /// What the earlier state is called.
    pub before: ByteString,
    /// What the later state is called.
    pub after: ByteString,
    /// What could not be read in one or both of them.
    pub losses: Vec<String>,
    /// The transactions that brought it about, where that was asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub transactions: Option<Vec<Transaction>>,
    /// Whether the earlier one is a manifest: what only one side has is then missing or surplus.
    #[serde(skip)]
    pub is_wanted: bool,
}

impl KeptSnapshot {
    /// A snapshot, or why it cannot be read.
    #[must_use]
    pub fn of(name: ByteString, file: ByteString, bytes: u64, snapshot: &Result<Snapshot, String>) -> Self {
        let read = snapshot.as_ref().ok();
        KeptSnapshot {
            name,
            file,
            bytes,
            taken_at: read.and_then(|one| one.taken_at.clone()),
            host: read.and_then(|one| one.host.clone()),
            packages: read.map(|one| one.packages.len()),
            problem: snapshot.as_ref().err().cloned(),
        }
    }
}
