//! apt: from which repositories packages come, and which version it would take.
//!
//! Follows `sources.list(5)`, `apt_preferences(5)`, `apt.conf(5)` and Debian's repository format.
//!
//! | what | where | read by |
//! |---|---|---|
//! | repositories | `sources.list`, `sources.list.d/*.list`, `*.sources` | `sources.rs` |
//! | what they offered when they were last asked | `/var/lib/apt/lists` | `indexes.rs` |
//! | what is preferred | `preferences`, `preferences.d`, `apt.conf` | `pins.rs` |
//! | the choice | all of these | `policy.rs` |
//!
//! Traps: lists of repositories that were taken out stay behind; a list can be compressed in any way; the same version
//! can stand in several lists, and the same version string can be another build: then its dependencies differ.

mod conf;
mod indexes;
pub mod keep;
mod pins;
mod policy;
mod sources;

pub use indexes::{Entry, Index, digest_of};
pub use policy::{Choice, Installed, choose};

use rayon::prelude::*;

use crate::bytes::ByteString;
use crate::fs::Root;
use crate::host::Host;
use crate::model::{Loss, Origin};

/// Everything that decides where packages come from.
#[derive(Debug)]
pub struct Apt {
    /// Lists of the repositories that are configured, in apt's own order.
    pub indexes: Vec<Index>,
    pins: pins::Pins,
    /// What could not be read.
    pub notes: Vec<Loss>,
    /// Findings about the repositories themselves.
    pub source_notes: Vec<String>,
}

impl Apt {
    /// Reads the settings, and finds the lists.
    pub fn read(root: &Root, native: &ByteString, foreign: &[ByteString]) -> Self {
        let mut notes = Vec::new();
        let sources = sources::read(root, &mut notes);
        let mut source_notes = sources::source_notes(&sources);
        source_notes.extend(sources::open_keys(root, &sources));
        let indexes = indexes::find(root, &sources, native, foreign);
        let mut pins = pins::Pins::read(root, &mut notes);
        pins.for_files(&indexes);
        Apt { indexes, pins, notes, source_notes }
    }

    /// Every entry of a wanted name in all lists, and what could not be read.
    pub fn entries(&self, root: &Root, wanted: &(dyn Fn(&[u8]) -> bool + Sync)) -> (Vec<Entry>, Vec<Loss>) {
        let read: Vec<_> =
            self.indexes.par_iter().enumerate().map(|(n, index)| index.entries(root, n, wanted)).collect();
        let (mut entries, mut notes) = (Vec::new(), Vec::new());
        for (found, note) in read {
            entries.extend(found);
            notes.extend(note);
        }
        (entries, notes)
    }

    /// A list's repository as the origin of a package.
    pub fn origin(&self, host: &Host, index: usize) -> Origin {
        let index = &self.indexes[index];
        let by = index.release.origin.clone().unwrap_or_else(|| index.site());
        let suite = index.release.codename.clone().unwrap_or_else(|| index.suite.clone());
        let name = match &index.component {
            Some(component) => format!("{by} {suite}/{component}"),
            None => format!("{by} {suite}"),
        };
        let system = host.system();
        let ids = system.iter().flat_map(|system| system.id.iter().chain(&system.like));
        let is_own = ids.into_iter().any(|id| {
            let (by, id) = (by.to_ascii_lowercase(), id.to_ascii_lowercase());
            by.strip_prefix(&*id).is_some_and(|rest| rest.first().is_none_or(|b| !b.is_ascii_alphanumeric()))
        });
        let trust = match () {
            () if index.url.starts_with(b"file:")
                || index.url.starts_with(b"copy:")
                || index.url.starts_with(b"cdrom:") =>
            {
                "local"
            }
            () if is_own => "distribution",
            () => "third-party",
        };
        Origin {
            name: name.into(),
            kind: "repository".to_owned(),
            url: Some(index.url.clone()),
            trust: Some(trust.to_owned()),
        }
    }
}
