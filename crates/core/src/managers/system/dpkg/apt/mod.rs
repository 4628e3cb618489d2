//! apt: from which repositories packages come, and which version it would take.
//!
//! Follows `sources.list(5)`, `apt_preferences(5)`, `apt.conf(5)` and Debian's repository format.
//!
//! | what | where | read by |
//! |---|---|---|
//! | repositories | `sources.list`, `sources.list.d/*.list`, `*.sources` | `sources.rs` |
//! | what they offered when they were last asked | `/var/lib/apt/lists` | `indexes.rs` |
//! | what is preferred | `preferences`, `preferences.d`, `apt.conf` | `pins.rs` |
//! | summaries in other languages, commands | `/var/lib/apt/lists` | `texts.rs` |
//! | the choice | all of these | `policy.rs` |
//!
//! Traps: lists of repositories that were taken out stay behind; a list can be compressed in any way; the same version
//! can stand in several lists, and the same version string can be another build: then its dependencies differ.

pub mod conf;
mod configured;
mod indexes;
pub mod keep;
mod pins;
mod policy;
mod sources;
mod texts;
mod unattended;

pub use indexes::{Entry, Filter, Index, digest_of};
pub use sources::Source;
pub use texts::Texts;
pub use unattended::Unattended;

pub use policy::{Choice, Installed, choose};

use crate::backend::components::Components;
use crate::backend::index_settings::without_credentials;
use rayon::prelude::*;

use crate::bytes::ByteString;
use crate::fs::Root;
use crate::host::Host;
use crate::model::{Loss, OfferQuery, Origin, Search};

/// Where lists are kept.
const DIR: &[u8] = b"/var/lib/apt/lists";

/// Everything that decides where packages come from.
#[derive(Debug)]
pub struct Apt {
    /// The repositories that are configured, in apt's own order; those that are switched off too.
    pub sources: Vec<Source>,
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
        Apt { sources, indexes, pins, notes, source_notes }
    }

    /// The lists of a repository, also where it is configured twice.
    pub fn lists_of(&self, entry: &Source) -> Vec<usize> {
        let is_of_it = |index: &Index| {
            let first = &self.sources[index.source];
            let has = |component: &ByteString| entry.components.contains(component);
            (&first.url, &first.suite) == (&entry.url, &entry.suite) && index.component.as_ref().is_none_or(has)
        };
        if !entry.enabled {
            return Vec::new();
        }
        (0..self.indexes.len()).filter(|at| is_of_it(&self.indexes[*at])).collect()
    }

    /// What the names of the lists begin with that are configured.
    fn stems(&self) -> Vec<Vec<u8>> {
        self.sources.iter().filter(|one| one.enabled).map(indexes::stem).collect()
    }

    /// What else is known of packages that a search may be about.
    pub fn texts(&self, root: &Root, search: &Search) -> Texts {
        Texts::read(root, search, &self.stems())
    }

    /// What the distribution says of the applications with these names, by their packages.
    pub fn apps(&self, root: &Root, query: &OfferQuery) -> Components {
        match query {
            OfferQuery::Names(_) => Texts::components(root, &self.stems(), query),
            _ => Components::default(),
        }
    }

    /// Whether a list of a configured repository names commands.
    pub fn has_commands(&self, root: &Root) -> bool {
        Texts::has_commands(root, &self.stems())
    }

    /// Every wanted entry in all lists, and what could not be read.
    pub fn entries(&self, root: &Root, wanted: &Filter<'_>) -> (Vec<Entry>, Vec<Loss>) {
        let read: Vec<_> =
            self.indexes.par_iter().enumerate().map(|(n, index)| index.entries(root, n, wanted)).collect();
        let (mut entries, mut notes) = (Vec::new(), Vec::new());
        for (found, note) in read {
            entries.extend(found);
            notes.extend(note);
        }
        (entries, notes)
    }

    /// Whose a repository is: the distribution's own calls itself after the system.
    fn trust_of(&self, host: &Host, by: &[u8], url: &[u8]) -> &'static str {
        let system = host.system();
        let ids = system.iter().flat_map(|system| system.id.iter().chain(&system.like));
        let is_own = ids.into_iter().any(|id| {
            let (by, id) = (by.to_ascii_lowercase(), id.to_ascii_lowercase());
            by.strip_prefix(&*id).is_some_and(|rest| rest.first().is_none_or(|b| !b.is_ascii_alphanumeric()))
        });
        match () {
            () if [&b"file:"[..], b"copy:", b"cdrom:"].iter().any(|scheme| url.starts_with(scheme)) => "local",
            () if is_own => "distribution",
            () => "third-party",
        }
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
        let trust = self.trust_of(host, &by, &index.url);
        Origin {
            name: name.into(),
            kind: "repository".to_owned(),
            url: Some(without_credentials(&index.url)),
            trust: Some(trust.to_owned()),
        }
    }
}
