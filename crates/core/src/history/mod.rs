//! A machine at different times: snapshots of it, and what differs between two.
//!
//! A snapshot is a document of its own, not a dump of the survey: it outlives the program that wrote it, so its members
//! are plain texts and numbers, and what a later version adds an earlier one ignores.

mod compare;
mod kept;
mod manifest;
mod snapshot;
mod transactions;

pub use compare::{Change, Comparison, Difference, Subject, compare};
pub use kept::{Compared, KeptSnapshot, KeptSnapshots};
pub use manifest::{ByHand, MANIFEST_SCHEMA, Manifest, ManifestError, WantedPackage, WantedSource};
pub use snapshot::{
    FileRecord, FindingRecord, LauncherRecord, NewestRecord, PackageRecord, PathRecord, ReadError, SNAPSHOT_SCHEMA,
    ServiceRecord, Snapshot, SourceRecord, StateRecord, UnownedRecord, UserRecord, WinnerRecord,
};
pub use transactions::{Transaction, is_one_machine, transactions};
