//! What has changed since a time, and on how many machines?

use std::cmp::Reverse;
use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;

use super::{Fleet, grouped, some_of};
use crate::store::StoreError;
use crate::value::{Row, Value};

/// A change, on every machine that has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FleetChange {
    /// `added`, `removed`, `up`, `down`, or `changed` where the version is the same and something else differs.
    pub change: String,
    /// The manager.
    pub manager: String,
    /// The name of the package.
    pub name: String,
    /// The version it had.
    pub from: Option<String>,
    /// The version it has.
    pub to: Option<String>,
    /// On how many machines.
    pub machines: usize,
    /// The first of them, by name.
    pub among_them: Vec<String>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FleetChanges {
    /// Since when: RFC 3339, UTC.
    pub since: String,
    /// How many machines have a snapshot from before and one from after.
    pub compared: usize,
    /// Machines that have been seen for the first time since then.
    pub new_machines: Vec<String>,
    /// How many machines have not been seen since then.
    pub not_seen: usize,
    /// The changes: those on the most machines first.
    pub changes: Vec<FleetChange>,
}

/// The last snapshot of each machine before a time, and its list.
const BEFORE: &str = "SELECT s.machine, s.package_list FROM snapshots s WHERE s.taken_at < $1 AND NOT EXISTS (\
    SELECT 1 FROM snapshots n WHERE n.machine = s.machine AND n.taken_at < $1 \
    AND (n.taken_at, n.snapshot) > (s.taken_at, s.snapshot))";

/// What differs between the last snapshot of each machine before a time and its newest one.
///
/// # Errors
/// What the engine says.
pub fn changes(fleet: &mut Fleet, since: &str) -> Result<FleetChanges, StoreError> {
    let after = fleet.ask("SELECT machine, package_list, taken_at FROM latest", &[])?;
    let before: BTreeMap<i64, i64> =
        fleet.ask(BEFORE, &[since.into()])?.iter().map(|row| (row[0].int(), row[1].int())).collect();
    let (mut pairs, mut new_machines, mut not_seen, mut compared) = (BTreeMap::new(), Vec::new(), 0, 0);
    for row in &after {
        match before.get(&row[0].int()) {
            _ if row[2].words().as_str() < since => not_seen += 1,
            None => new_machines.push(fleet.name(&row[0])),
            Some(list) => {
                compared += 1;
                // Machines that went the same way are compared once.
                if *list != row[1].int() {
                    pairs.entry((*list, row[1].int())).or_insert_with(Vec::new).push(fleet.name(&row[0]));
                }
            }
        }
    }
    new_machines.sort_unstable();
    let mut on: BTreeMap<Step, Vec<String>> = BTreeMap::new();
    for ((before, after), names) in pairs {
        for step in steps(fleet, before, after)? {
            on.entry(step).or_default().extend(names.iter().cloned());
        }
    }
    let change = |(step, mut names): (Step, Vec<String>)| {
        names.sort_unstable();
        let (machines, among_them) = some_of(names);
        FleetChange {
            change: step.word().to_owned(),
            manager: step.manager,
            name: step.name,
            from: step.from.and_then(|(_, version)| version),
            to: step.to.and_then(|(_, version)| version),
            machines,
            among_them,
        }
    };
    let mut changes: Vec<FleetChange> = on.into_iter().map(change).collect();
    changes.sort_by_key(|one| Reverse(one.machines));
    Ok(FleetChanges { since: since.to_owned(), compared, new_machines, not_seen, changes })
}

/// A version with its sort key.
type Keyed = (Value, Option<String>);

/// What happened to one package.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Step {
    manager: String,
    name: String,
    scope: String,
    from: Option<Keyed>,
    to: Option<Keyed>,
}

impl Step {
    fn word(&self) -> &'static str {
        match (&self.from, &self.to) {
            (None, _) => "added",
            (_, None) => "removed",
            (Some(from), Some(to)) => match from.0.cmp(&to.0) {
                std::cmp::Ordering::Less => "up",
                std::cmp::Ordering::Greater => "down",
                std::cmp::Ordering::Equal => "changed",
            },
        }
    }
}

/// What only one of two lists has, package by package.
fn steps(fleet: &mut Fleet, before: i64, after: i64) -> Result<Vec<Step>, StoreError> {
    let only = "SELECT p.manager, p.name, p.scope, p.version_key, p.version FROM package_lists l \
                JOIN packages p ON p.package = l.item WHERE l.list = $1 AND NOT EXISTS (\
                SELECT 1 FROM package_lists o WHERE o.list = $2 AND o.item = l.item)";
    let key = |row: &Row| (row[0].words(), row[1].words(), row[2].words());
    let gone = fleet.ask(only, &[before.into(), after.into()])?;
    let new = fleet.ask(only, &[after.into(), before.into()])?;
    let mut both: BTreeMap<_, (Vec<Row>, Vec<Row>)> = BTreeMap::new();
    for (key, rows) in grouped(gone, key) {
        both.entry(key).or_default().0 = rows;
    }
    for (key, rows) in grouped(new, key) {
        both.entry(key).or_default().1 = rows;
    }
    let mut steps = Vec::new();
    for ((manager, name, scope), (gone, new)) in both {
        // Several versions of one package: the oldest that went with the oldest that came.
        let keyed = |rows: Vec<Row>| {
            let mut all: Vec<Keyed> = rows.into_iter().map(|row| (row[3].clone(), row[4].text())).collect();
            all.sort_unstable();
            all
        };
        let (gone, new) = (keyed(gone), keyed(new));
        for place in 0..gone.len().max(new.len()) {
            let (from, to) = (gone.get(place).cloned(), new.get(place).cloned());
            steps.push(Step { manager: manager.clone(), name: name.clone(), scope: scope.clone(), from, to });
        }
    }
    Ok(steps)
}
