//! What managers keep of what they fetched.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use hashbrown::HashSet;
use schemars::JsonSchema;
use serde::Serialize;

use super::measure::Measured;
use crate::backend::CachePlace;
use crate::backend::advice;
use crate::bytes::{ByteString, path};
use crate::digests::Progress;
use crate::fs::{Kind, Root};
use crate::host::User;
use crate::managers;
use crate::model::{Actor, CommandLine, ManagerId, Remedy, RemedyKind, Scope};
use crate::survey::Survey;

/// Files that a manager fetches, or makes, again when it needs them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Cache {
    /// Whose they are.
    pub manager: ManagerId,
    /// For whom.
    pub scope: Scope,
    /// What they are.
    pub what: String,
    /// The directory.
    pub path: ByteString,
    /// Bytes on the disk; `null` where a part of it could not be looked at.
    pub bytes: Option<u64>,
    /// The command that empties it, if the manager has one.
    pub remedies: Vec<Remedy>,
}

/// What is smaller is no cache worth emptying: most managers leave a lock or a note in an empty one.
const SMALLEST: u64 = 64 << 10;

/// The caches that are there, the largest first.
pub fn caches_of(survey: &Survey<'_>) -> Vec<Cache> {
    caches(survey, &Measured::default(), &())
}

/// The same, without what files of packages have as well, under other names or in other files.
pub(super) fn caches(survey: &Survey<'_>, packages: &Measured, progress: &dyn Progress) -> Vec<Cache> {
    let size = |dir: &ByteString| usage(survey.root(), dir, packages, progress);
    let mut found = Vec::new();
    for manager in managers::ALL {
        for place in manager.caches() {
            match place.dir.strip_prefix("~/") {
                None => found.extend(cache(survey, &size, manager.id(), place, &ByteString::from(place.dir), None)),
                Some(below) => found.extend(survey.host.users.iter().filter_map(|user| {
                    cache(survey, &size, manager.id(), place, &path::join(&user.home, below.as_bytes()), Some(user))
                })),
            }
        }
    }
    found.sort_by(|a, b| (b.bytes, &a.path).cmp(&(a.bytes, &b.path)));
    found
}

fn cache(
    survey: &Survey<'_>,
    size: &dyn Fn(&ByteString) -> Option<Usage>,
    manager: ManagerId,
    place: &CachePlace,
    dir: &ByteString,
    user: Option<&User>,
) -> Option<Cache> {
    let root = survey.root();
    let dir = root.canonicalize(dir);
    let Usage { bytes, is_empty } = size(&dir)?;
    if is_empty || bytes.is_some_and(|bytes| bytes < SMALLEST) {
        return None;
    }
    let scope = user.map_or(Scope::System, |user| Scope::User(user.name.clone()));
    let actor = user.map_or(Actor::Root, |user| Actor::User(user.name.clone()));
    let remedy = place.clear.map(|command| {
        let remedy = Remedy::new(RemedyKind::Remove, CommandLine::new(command)).to(format!("empty {dir}"));
        advice::addressed(survey.host, &actor, remedy)
    });
    Some(Cache {
        manager,
        scope,
        what: place.what.to_owned(),
        path: dir,
        bytes,
        remedies: remedy.into_iter().collect(),
    })
}

/// Bytes that a file, or a directory with everything in it, takes on the disk; `None` where a part of it could not be
/// looked at, or it is not there.
pub fn tree_size(root: &Root, start: &ByteString) -> Option<u64> {
    usage(root, start, &Measured::default(), &())?.bytes
}

/// What a tree takes.
struct Usage {
    /// Bytes on the disk; `None` where a part could not be looked at.
    bytes: Option<u64>,
    /// Whether there is nothing in it but directories.
    is_empty: bool,
}

/// What a tree takes, every file once and without those that are counted elsewhere; `None` where it is not there.
fn usage(root: &Root, start: &ByteString, packages: &Measured, progress: &dyn Progress) -> Option<Usage> {
    root.entry(start).ok()?;
    let gaps = root.gaps().len();
    let (bytes, is_empty) = (AtomicU64::new(0), AtomicBool::new(true));
    let seen = Mutex::new((HashSet::new(), packages.covered.clone()));
    root.each_entry(start, &|found, meta| {
        if meta.kind != Kind::Dir {
            is_empty.store(false, Ordering::Relaxed);
        }
        // What a package has under another name is counted there.
        let is_new = || {
            let mut seen = seen.lock().unwrap_or_else(PoisonError::into_inner);
            !packages.linked.contains(&meta.identity) && seen.0.insert(meta.identity)
        };
        if meta.links < 2 || meta.kind == Kind::Dir || is_new() {
            progress.done(meta.disk);
            let extents = root.shared_extents(found, meta);
            let mut disk = meta.disk;
            if !extents.is_empty() {
                let mut seen = seen.lock().unwrap_or_else(PoisonError::into_inner);
                disk = disk.saturating_sub(extents.iter().map(|extent| seen.1.add(extent)).sum());
            }
            bytes.fetch_add(disk, Ordering::Relaxed);
        }
        true
    });
    let is_whole = root.gaps().len() == gaps;
    Some(Usage { bytes: is_whole.then(|| bytes.into_inner()), is_empty: is_empty.into_inner() })
}
