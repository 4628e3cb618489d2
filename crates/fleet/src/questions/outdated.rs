//! What could be upgraded, and on how many machines?

use std::cmp::Reverse;

use schemars::JsonSchema;
use serde::Serialize;

use super::{Fleet, grouped, some_of};
use crate::store::StoreError;
use crate::value::Row;

/// A package that is behind what its sources offer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct OutdatedEntry {
    /// The manager.
    pub manager: String,
    /// The name of the package.
    pub name: String,
    /// The versions that are installed, the oldest first.
    pub versions: Vec<String>,
    /// The newest version that a source of any of these machines offers.
    pub newest: String,
    /// The source that offers it.
    pub source: Option<String>,
    /// On how many machines it is behind.
    pub machines: usize,
    /// On how many of them it is held.
    pub held: usize,
    /// The first of them, by name.
    pub among_them: Vec<String>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Outdated {
    /// How many machines say what is newer.
    pub of: usize,
    /// How many do not: their snapshots were taken without it.
    pub not_asked: usize,
    /// How many have anything that is behind.
    pub affected: usize,
    /// The packages: those on the most machines first.
    pub outdated: Vec<OutdatedEntry>,
}

/// What is behind.
///
/// # Errors
/// What the engine says.
pub fn outdated(fleet: &mut Fleet) -> Result<Outdated, StoreError> {
    let sql = "SELECT count(*) FROM latest WHERE offer_list IS NOT NULL";
    let of = fleet.ask(sql, &[])?.first().map_or(0, |row| row[0].count());
    let rows = fleet.ask(
        "SELECT s.machine, p.manager, p.name, p.version, p.version_key, o.version, o.version_key, o.source, p.held \
         FROM latest s JOIN offer_lists l ON l.list = s.offer_list JOIN offers o ON o.offer = l.item \
         JOIN packages p ON p.package = o.package",
        &[],
    )?;
    let affected = fleet.names_of(&rows, 0).len();
    let entry = |((manager, name), rows): ((String, String), Vec<Row>)| {
        let (machines, among_them) = some_of(fleet.names_of(&rows, 0));
        let newest = rows.iter().max_by_key(|row| (&row[6], Reverse(&row[7])));
        let (newest, source) = newest.map(|row| (row[5].words(), row[7].text())).unwrap_or_default();
        let mut versions: Vec<_> = rows.iter().map(|row| (&row[4], row[3].words())).collect();
        versions.sort_unstable();
        versions.dedup();
        let versions = versions.into_iter().map(|(_, version)| version).collect();
        let held = fleet.names_of(rows.iter().filter(|row| row[8].is_true()), 0).len();
        OutdatedEntry { manager, name, versions, newest, source, machines, held, among_them }
    };
    let groups = grouped(rows, |row| (row[1].words(), row[2].words()));
    let mut outdated: Vec<OutdatedEntry> = groups.into_iter().map(entry).collect();
    outdated
        .sort_by(|a, b| (Reverse(a.machines), &a.manager, &a.name).cmp(&(Reverse(b.machines), &b.manager, &b.name)));
    Ok(Outdated { of, not_asked: fleet.size().saturating_sub(of), affected, outdated })
}
