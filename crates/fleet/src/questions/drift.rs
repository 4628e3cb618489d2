//! How far is each machine from a reference?

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};

use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;

use super::Fleet;
use crate::store::StoreError;
use crate::store::lists::{self, Tally};
use crate::value::{Value, number_of};

/// How many machines and differences are told.
const MAX_TOLD: usize = 10;

/// How far one machine is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Distance {
    /// The machine.
    pub machine: String,
    /// The sum of the three.
    pub distance: usize,
    /// Packages of the reference that it lacks.
    pub missing: usize,
    /// Packages that it has besides; not counted against a manifest, which names no dependencies.
    pub surplus: usize,
    /// Packages that it has at other versions.
    pub other_version: usize,
}

/// A package in which machines differ from the reference.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct Differing {
    /// How many machines differ in it.
    pub machines: usize,
    /// The manager.
    pub manager: String,
    /// The name of the package.
    pub name: String,
    /// The version of the reference; `null` where the reference does not have it.
    pub version: Option<String>,
    /// How: `missing`, `surplus` or `other-version`.
    pub how: String,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Drift {
    /// The reference.
    pub reference: String,
    /// How many machines were compared with it.
    pub of: usize,
    /// How many of them do not differ.
    pub same: usize,
    /// The middle distance: half of the machines are nearer.
    pub median: usize,
    /// The machines, the furthest first.
    pub distances: Vec<Distance>,
    /// What differs most often.
    pub differs_most: Vec<Differing>,
}

/// A piece of software that the reference has: manager, name, and its versions; none where any will do.
pub type Reference = BTreeMap<(String, String), BTreeSet<Option<String>>>;

/// What a machine has, as a reference.
///
/// # Errors
/// What the engine says.
pub fn of_machine(fleet: &mut Fleet, machine: i64) -> Result<Reference, StoreError> {
    let rows = fleet.ask(
        "SELECT DISTINCT p.manager, p.name, p.version FROM latest s JOIN package_lists l ON l.list = s.package_list \
         JOIN packages p ON p.package = l.item WHERE s.machine = $1",
        &[machine.into()],
    )?;
    let mut reference = Reference::new();
    for row in rows {
        reference.entry((row[0].words(), row[1].words())).or_default().insert(row[2].text());
    }
    Ok(reference)
}

/// How far the machines are from a reference. `is_whole` tells whether it names everything that a machine should have;
/// the machine that is the reference itself is left out.
///
/// # Errors
/// What the engine says.
pub fn drift(
    fleet: &mut Fleet,
    name: &str,
    reference: &Reference,
    is_whole: bool,
    own: Option<i64>,
) -> Result<Drift, StoreError> {
    // Per list, for several machines may have the same: how much of the reference it has, and at which versions.
    let sql = "SELECT s.machine, s.package_list, s.software FROM latest s";
    let machines = fleet.ask(sql, &[])?;
    let users = users_of_lists(&machines, own);
    let places = places_of(fleet, reference)?;
    let (mut having, mut exactly) = (vec![Tally::default(); reference.len()], vec![Tally::default(); reference.len()]);
    let mut counts: BTreeMap<i64, (usize, usize)> = BTreeMap::new();
    let numbers: Vec<i64> = users.keys().copied().collect();
    let mut round = 0;
    lists::each(fleet.store(), &numbers, &mut |list, items| {
        round += 1;
        let on = users.get(&list).copied().unwrap_or(0);
        let count = counts.entry(list).or_default();
        // Of several versions one is enough.
        for (place, is_exact) in items.iter().filter_map(|item| *places.get(*item)?) {
            count.0 += usize::from(having[place].add(round, on));
            count.1 += usize::from(is_exact && exactly[place].add(round, on));
        }
    })?;
    let distance = |row: &crate::value::Row| {
        let (common, same) = counts.get(&row[1].int()).copied().unwrap_or_default();
        let surplus = if is_whole { row[2].count().saturating_sub(common) } else { 0 };
        let (missing, other_version) = (reference.len() - common, common - same);
        let distance = missing + surplus + other_version;
        Distance { machine: fleet.name(&row[0]), distance, missing, surplus, other_version }
    };
    let mut distances: Vec<Distance> = machines.iter().filter(|row| own != Some(row[0].int())).map(distance).collect();
    distances.sort_by(|a, b| (Reverse(a.distance), &a.machine).cmp(&(Reverse(b.distance), &b.machine)));
    let of = distances.len();
    let mut differs_most = differing(reference, &having, &exactly, of);
    if is_whole {
        differs_most.extend(surplus(fleet, reference)?);
    }
    differs_most.sort_by(|a, b| Reverse(a.machines).cmp(&Reverse(b.machines)).then_with(|| a.cmp(b)));
    differs_most.truncate(MAX_TOLD);
    Ok(Drift {
        reference: name.to_owned(),
        of,
        same: distances.iter().filter(|one| one.distance == 0).count(),
        median: distances.get(of / 2).map_or(0, |one| one.distance),
        distances,
        differs_most,
    })
}

/// How many machines have each list now.
fn users_of_lists(machines: &[crate::value::Row], own: Option<i64>) -> BTreeMap<i64, usize> {
    let mut users = BTreeMap::new();
    for row in machines.iter().filter(|row| own != Some(row[0].int())) {
        *users.entry(row[1].int()).or_default() += 1;
    }
    users
}

/// The number of a piece of software, as rows of packages have it.
fn software((manager, name): &(String, String)) -> i64 {
    number_of(&[Value::from(manager), Value::from(name)])
}

/// The numbers of its releases.
fn releases((manager, name): &(String, String), versions: &BTreeSet<Option<String>>) -> Vec<i64> {
    let of = |version: &Option<String>| number_of(&[Value::from(manager), Value::from(name), version.as_ref().into()]);
    versions.iter().map(of).collect()
}

/// What of the reference is missing or at another version, and on how many machines.
fn differing(reference: &Reference, having: &[Tally], exactly: &[Tally], of: usize) -> Vec<Differing> {
    let mut found = Vec::new();
    for ((key, versions), (have, exact)) in reference.iter().zip(having.iter().zip(exactly)) {
        let one = |machines: usize, how: &str| Differing {
            machines,
            manager: key.0.clone(),
            name: key.1.clone(),
            version: versions.iter().flatten().next_back().cloned(),
            how: how.to_owned(),
        };
        found.push(one(of - have.machines.min(of), "missing"));
        found.push(one(have.machines - exact.machines, "other-version"));
    }
    found.retain(|one| one.machines > 0);
    found
}

/// Of each package, by its place, which piece of the reference it is, and whether it is at a version of the reference.
fn places_of(fleet: &mut Fleet, reference: &Reference) -> Result<Vec<Option<(usize, bool)>>, StoreError> {
    let software: HashMap<i64, usize> = reference.keys().map(software).zip(0..).collect();
    let exact: HashSet<i64> = reference.iter().flat_map(|(key, versions)| releases(key, versions)).collect();
    let is_free: Vec<bool> = reference.values().map(BTreeSet::is_empty).collect();
    let known = lists::releases(fleet.store())?;
    let place = |(of, release): (i64, i64)| {
        let place = *software.get(&of)?;
        Some((place, is_free[place] || exact.contains(&release)))
    };
    Ok(known.into_iter().map(|both| both.and_then(place)).collect())
}

/// What the reference does not have and most other machines do.
fn surplus(fleet: &mut Fleet, reference: &Reference) -> Result<Vec<Differing>, StoreError> {
    let rows = fleet.ask(
        "SELECT DISTINCT h.machines, p.manager, p.name FROM holders h JOIN packages p ON p.software = h.number \
         WHERE h.what = 'software' ORDER BY h.machines DESC, p.manager, p.name",
        &[],
    )?;
    let is_surplus = |key: &(String, String)| !reference.contains_key(key);
    let entry = |row: crate::value::Row| {
        let key = (row[1].words(), row[2].words());
        is_surplus(&key).then(|| Differing {
            machines: row[0].count(),
            manager: key.0,
            name: key.1,
            version: None,
            how: "surplus".to_owned(),
        })
    };
    Ok(rows.into_iter().filter_map(entry).take(MAX_TOLD).collect())
}

/// The furthest of the machines.
#[must_use]
pub fn furthest(drift: &Drift) -> &[Distance] {
    &drift.distances[..drift.distances.len().min(MAX_TOLD)]
}
