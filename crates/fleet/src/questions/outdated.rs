//! What could be upgraded, and on how many machines?

use std::cmp::Reverse;
use std::collections::BTreeSet;

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Fleet, MAX_NAMED};
use crate::store::{StoreError, lists};
use crate::value::{Row, Value};

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
    let lists_of: HashMap<i64, i64> = fleet
        .ask("SELECT machine, offer_list FROM latest WHERE offer_list IS NOT NULL", &[])?
        .iter()
        .map(|row| (row[0].int(), row[1].int()))
        .collect();
    let offers: HashMap<i64, Row> = fleet
        .ask(
            "SELECT o.offer, p.manager, p.name, p.version, p.version_key, o.version, o.version_key, o.source, p.held \
             FROM offers o JOIN packages p ON p.package = o.package",
            &[],
        )?
        .into_iter()
        .map(|row| (row[0].int(), row))
        .collect();
    // Each offer by its place, with the group that it belongs to.
    let items = lists::items(fleet.store())?;
    let mut groups: Vec<Group<'_>> = Vec::new();
    let mut numbers: HashMap<(&Value, &Value), usize> = HashMap::new();
    let mut offers_by_place: Vec<Option<(usize, &Row)>> = Vec::with_capacity(items.len());
    for item in &items {
        offers_by_place.push(offers.get(item).map(|row| {
            let number = *numbers.entry((&row[1], &row[2])).or_insert_with(|| {
                groups.push(Group::default());
                groups.len() - 1
            });
            (number, row)
        }));
    }
    let numbers: BTreeSet<i64> = lists_of.values().copied().collect();
    let mut places: HashMap<i64, Vec<usize>> = HashMap::new();
    lists::each(fleet.store(), &Vec::from_iter(numbers), &mut |list, all| {
        places.insert(list, all.to_vec());
    })?;
    let mut affected = 0;
    // In the order of the machines' names, so that the first of each package are known when they are met.
    for (machine, name) in fleet.by_name() {
        let all = lists_of.get(&machine).and_then(|list| places.get(list)).map(Vec::as_slice).unwrap_or_default();
        affected += usize::from(!all.is_empty());
        for place in all {
            if let Some(Some((group, row))) = offers_by_place.get(*place) {
                groups[*group].add(*place, row, machine, &name);
            }
        }
    }
    let mut outdated: Vec<OutdatedEntry> =
        groups.into_iter().filter(|group| group.machines > 0).map(|group| group.told(&offers_by_place)).collect();
    outdated
        .sort_by(|a, b| (Reverse(a.machines), &a.manager, &a.name).cmp(&(Reverse(b.machines), &b.manager, &b.name)));
    let of = lists_of.len();
    Ok(Outdated { of, not_asked: fleet.size().saturating_sub(of), affected, outdated })
}

/// A package on the machines where it is behind.
#[derive(Default)]
struct Group<'r> {
    machines: usize,
    held: usize,
    among_them: Vec<String>,
    /// The machine that was met last, and whether it is held there: several installations on one count once.
    last: Option<(i64, bool)>,
    /// The places of its offers that machines have.
    places: BTreeSet<usize>,
    newest: Option<&'r Row>,
}

impl<'r> Group<'r> {
    fn add(&mut self, place: usize, row: &'r Row, machine: i64, name: &str) {
        let is_same = self.last.is_some_and(|(last, _)| last == machine);
        let was_held = is_same && self.last.is_some_and(|(_, is_held)| is_held);
        if !is_same {
            self.machines += 1;
            if self.among_them.len() < MAX_NAMED {
                self.among_them.push(name.to_owned());
            }
        }
        self.held += usize::from(row[8].is_true() && !was_held);
        self.last = Some((machine, was_held || row[8].is_true()));
        if self.places.insert(place) {
            let key = |row: &'r Row| (&row[6], Reverse(&row[7]));
            if self.newest.is_none_or(|newest| key(newest) < key(row)) {
                self.newest = Some(row);
            }
        }
    }

    fn told(self, offers: &[Option<(usize, &Row)>]) -> OutdatedEntry {
        let rows = || self.places.iter().filter_map(|place| Some(offers.get(*place)?.as_ref()?.1));
        let versions: BTreeSet<(&Value, String)> = rows().map(|row| (&row[4], row[3].words())).collect();
        let (manager, name) = rows().next().map(|row| (row[1].words(), row[2].words())).unwrap_or_default();
        let (newest, source) = self.newest.map(|row| (row[5].words(), row[7].text())).unwrap_or_default();
        OutdatedEntry {
            manager,
            name,
            versions: versions.into_iter().map(|(_, version)| version).collect(),
            newest,
            source,
            machines: self.machines,
            held: self.held,
            among_them: self.among_them,
        }
    }
}
