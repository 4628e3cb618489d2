//! Which version apt would take (`apt_preferences(5)`, "How APT Interprets Priorities").
//!
//! Of all versions the one with the highest priority, and of those the newest; a version that is older than the
//! installed one only with a priority of 1000 or more. A pin for the package itself says the priority of a version;
//! else it is the highest of the lists that have it.

use std::cmp::Ordering;

use super::Apt;
use super::indexes::{Entry, Index};
use super::pins::NEVER;
use crate::bytes::ByteString;
use crate::version::debian;

/// What is installed of a package.
#[derive(Debug, Clone, Copy)]
pub struct Installed<'a> {
    /// Its version.
    pub version: &'a ByteString,
    /// Tells builds apart.
    pub digest: u64,
}

/// One version of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    /// The version.
    pub version: ByteString,
    /// Its priority.
    pub priority: i32,
    /// Entries of lists that have it, by their places in what was given.
    pub entries: Vec<usize>,
    /// Whether it is installed.
    pub installed: bool,
    /// Whether apt would take it, or keep it.
    pub candidate: bool,
}

/// Every version of one package of one architecture, the newest first.
pub fn choose(
    apt: &Apt,
    name: &[u8],
    installed: Option<Installed<'_>>,
    entries: &[Entry],
    of: &[usize],
) -> Vec<Choice> {
    let mut choices: Vec<(u64, Choice)> = Vec::new();
    if let Some(Installed { version, digest }) = installed {
        let choice = Choice {
            version: version.clone(),
            priority: NEVER,
            entries: Vec::new(),
            installed: true,
            candidate: false,
        };
        choices.push((digest, choice));
    }
    for &place in of {
        let entry = &entries[place];
        let same =
            choices.iter_mut().find(|(digest, choice)| *digest == entry.digest && choice.version == entry.version);
        match same {
            Some((_, choice)) => choice.entries.push(place),
            None => choices.push((
                entry.digest,
                Choice {
                    version: entry.version.clone(),
                    priority: NEVER,
                    entries: vec![place],
                    installed: false,
                    candidate: false,
                },
            )),
        }
    }
    let mut choices: Vec<Choice> = choices.into_iter().map(|(_, choice)| choice).collect();
    choices.sort_by(|a, b| debian::compare(&b.version, &a.version));
    for choice in &mut choices {
        let files: Vec<&Index> = choice.entries.iter().map(|&place| &apt.indexes[entries[place].index]).collect();
        let of_lists = choice.entries.iter().map(|&place| apt.pins.of_file(entries[place].index)).max();
        let of_files =
            of_lists.into_iter().chain(choice.installed.then(|| apt.pins.of_installed())).max().unwrap_or(NEVER);
        choice.priority = match apt.pins.of_version(name, &choice.version, &files) {
            Some(pinned) if of_files != NEVER => pinned,
            _ => of_files,
        };
    }
    let mut best: Option<(usize, i32)> = None;
    for (place, choice) in choices.iter().enumerate() {
        if choice.priority <= best.map_or(0, |(_, priority)| priority) {
            continue;
        }
        let is_older = installed.is_some_and(|now| debian::compare(&choice.version, now.version) == Ordering::Less);
        if is_older && choice.priority < 1000 {
            continue;
        }
        best = Some((place, choice.priority));
    }
    if let Some((place, _)) = best {
        choices[place].candidate = true;
    }
    choices
}
