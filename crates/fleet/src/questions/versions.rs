//! Which versions of it are there, and how many machines have each?

use std::cmp::Reverse;

use schemars::JsonSchema;
use serde::Serialize;

use super::{Fleet, grouped, some_of};
use crate::store::StoreError;
use crate::value::Row;

/// A version of a package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct VersionEntry {
    /// The manager.
    pub manager: String,
    /// The name of the package.
    pub name: String,
    /// The version.
    pub version: Option<String>,
    /// What upstream calls it; versions of different managers are ordered by this.
    pub upstream: Option<String>,
    /// How many machines have it.
    pub machines: usize,
    /// The first of them, by name.
    pub among_them: Vec<String>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Versions {
    /// What was asked for.
    pub name: String,
    /// How many machines there are.
    pub of: usize,
    /// How many machines have any of it.
    pub with_it: usize,
    /// The versions, the newest first.
    pub versions: Vec<VersionEntry>,
}

/// How versions of a package or a title are spread.
///
/// # Errors
/// What the engine says.
pub fn versions(fleet: &mut Fleet, name: &str) -> Result<Versions, StoreError> {
    // The engine orders: by what upstream calls the versions, then by the manager's own order.
    let rows = fleet.ask(
        "SELECT s.machine, p.manager, p.name, p.version, p.upstream, p.upstream_key, p.version_key \
         FROM packages p JOIN package_lists l ON l.item = p.package JOIN latest s ON s.package_list = l.list \
         WHERE p.name = $1 OR p.title = $1",
        &[name.into()],
    )?;
    let with_it = fleet.names_of(&rows, 0).len();
    let key = |row: &Row| {
        let order = Reverse((row[5].clone(), row[6].clone()));
        (order, row[1].words(), row[2].words(), row[3].text(), row[4].text())
    };
    let entry = |((_, manager, name, version, upstream), rows): (_, Vec<Row>)| {
        let (machines, among_them) = some_of(fleet.names_of(&rows, 0));
        VersionEntry { manager, name, version, upstream, machines, among_them }
    };
    let versions = grouped(rows, key).into_iter().map(entry).collect();
    Ok(Versions { name: name.to_owned(), of: fleet.size(), with_it, versions })
}
