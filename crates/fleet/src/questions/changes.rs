//! What has changed since a time, and on how many machines?

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Fleet, some_of};
use crate::store::{StoreError, ask_in, lists};
use crate::value::Value;

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
    /// How many of them have changed.
    pub affected: usize,
    /// Machines that have been seen for the first time since then.
    pub new_machines: Vec<String>,
    /// How many machines have not been seen since then.
    pub not_seen: usize,
    /// The changes: those on the most machines first.
    pub changes: Vec<FleetChange>,
}

/// How many pairs of lists are compared at once.
const PAIRS: usize = 200;

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
    let mut affected = 0;
    let differences = differences(fleet, pairs.keys().copied())?;
    let known = packages(fleet, &differences)?;
    for ((_, names), (gone, new)) in pairs.into_iter().zip(differences) {
        affected += names.len();
        for step in steps(&known, &gone, &new) {
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
    Ok(FleetChanges { since: since.to_owned(), compared, affected, new_machines, not_seen, changes })
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

/// The packages that only the first list of a pair has, and those that only the second has.
type Difference = (Vec<i64>, Vec<i64>);

/// What differs between the lists of each pair.
fn differences(fleet: &mut Fleet, pairs: impl Iterator<Item = (i64, i64)>) -> Result<Vec<Difference>, StoreError> {
    let pairs: Vec<(i64, i64)> = pairs.collect();
    let all_items = lists::items(fleet.store())?;
    let mut found = Vec::with_capacity(pairs.len());
    for some in pairs.chunks(PAIRS) {
        let numbers: BTreeSet<i64> = some.iter().flat_map(|(before, after)| [*before, *after]).collect();
        let mut places: HashMap<i64, Vec<usize>> = HashMap::new();
        lists::each(fleet.store(), &Vec::from_iter(numbers), &mut |list, all| {
            places.insert(list, all.to_vec());
        })?;
        let of = |list: &i64| places.get(list).map(Vec::as_slice).unwrap_or_default();
        // Places ascend.
        let only = |one: &[usize], other: &[usize]| {
            let only = one.iter().filter(|place| other.binary_search(place).is_err());
            only.filter_map(|place| all_items.get(*place).copied()).collect::<Vec<i64>>()
        };
        found.extend(some.iter().map(|(before, after)| (only(of(before), of(after)), only(of(after), of(before)))));
    }
    Ok(found)
}

/// Manager, name and scope of a package.
type Key = (String, String, String);

/// What is to be known of a package that came or went.
type Known = HashMap<i64, (Key, Keyed)>;

/// Versions that went, and versions that came.
type Versions<'k> = (Vec<&'k Keyed>, Vec<&'k Keyed>);

/// The packages of these differences.
fn packages(fleet: &mut Fleet, differences: &[Difference]) -> Result<Known, StoreError> {
    let numbers: BTreeSet<i64> = differences.iter().flat_map(|(gone, new)| gone.iter().chain(new)).copied().collect();
    let numbers: Vec<Value> = numbers.into_iter().map(Value::from).collect();
    let mut known = Known::new();
    let sql = "SELECT package, manager, name, scope, version_key, version FROM packages WHERE package";
    ask_in(fleet.store(), sql, &numbers, &mut |row| {
        let key = (row[1].words(), row[2].words(), row[3].words());
        known.insert(row[0].int(), (key, (row[4].clone(), row[5].text())));
    })?;
    Ok(known)
}

/// What happened to each package.
fn steps(known: &Known, gone: &[i64], new: &[i64]) -> Vec<Step> {
    let mut both: BTreeMap<&Key, Versions<'_>> = BTreeMap::new();
    for (key, version) in gone.iter().filter_map(|item| known.get(item)) {
        both.entry(key).or_default().0.push(version);
    }
    for (key, version) in new.iter().filter_map(|item| known.get(item)) {
        both.entry(key).or_default().1.push(version);
    }
    let mut steps = Vec::new();
    for ((manager, name, scope), (mut gone, mut new)) in both {
        // Several versions of one package: the oldest that went with the oldest that came.
        gone.sort_unstable();
        new.sort_unstable();
        for place in 0..gone.len().max(new.len()) {
            let of = |versions: &[&Keyed]| versions.get(place).map(|version| (*version).clone());
            let (from, to) = (of(&gone), of(&new));
            steps.push(Step { manager: manager.clone(), name: name.clone(), scope: scope.clone(), from, to });
        }
    }
    steps
}
