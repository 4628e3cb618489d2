//! Which transactions of managers brought about what differs between two snapshots.
//!
//! A change is a transaction's if it is about a package, or about something that belongs to one, and the last transaction
//! with that package between the two snapshots left it as the later one has it. What no log tells of stays without a
//! cause: it was done by hand, by a manager that keeps no log, or before the log begins.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::Serialize;

use super::compare::{Change, Comparison, Trace};
use super::snapshot::{PackageRecord, Snapshot};
use crate::bytes::ByteString;
use crate::model::{Action, Event, Evidence, ManagerId, Scope, Status, as_rfc3339};

/// A transaction that brought about changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Transaction {
    /// When: RFC 3339, UTC; `null` where the record gives no time.
    #[serde(serialize_with = "as_rfc3339")]
    #[schemars(with = "Option<String>")]
    pub at: Option<i64>,
    /// The manager whose log or record tells of it.
    pub manager: ManagerId,
    /// For whom it was done.
    pub scope: Scope,
    /// Who asked for it, as far as the log tells.
    pub by: Option<String>,
    /// The command, as the log has it.
    pub command: Option<String>,
    /// What the log calls it; `null` where it knows no transactions.
    pub transaction: Option<String>,
    /// The changes, by their places in `changes`, counted from 0.
    pub changes: Vec<usize>,
    /// Where it stands.
    pub evidence: Vec<Evidence>,
}

/// A package as snapshots and logs both have it: manager, scope and name.
type Key = (String, String, String);

/// The transactions that brought about what differs, the oldest first. `events` are those of the later machine, in the
/// order of time.
#[must_use]
pub fn transactions(
    before: &Snapshot,
    after: &Snapshot,
    comparison: &Comparison,
    events: &[Event],
) -> Vec<Transaction> {
    let packages = Packages::of(before, after);
    let mut events_of: BTreeMap<Key, Vec<usize>> = BTreeMap::new();
    let mut of_state: BTreeMap<(String, &str), usize> = BTreeMap::new();
    for (place, event) in events.iter().enumerate() {
        let manager = event.manager.to_string();
        let key = (manager.clone(), event.scope.to_data(), event.name.to_data().into_owned());
        events_of.entry(key).or_default().push(place);
        of_state.extend(event.transaction.iter().map(|transaction| ((manager.clone(), &**transaction), place)));
    }
    let of_package = |id: &str| {
        let theirs = events_of.get(packages.keys.get(id)?)?;
        let last = &events[*theirs.last()?];
        // Of two versions side by side, one transaction can bring one and take the other.
        let mut together = theirs.iter().rev().copied().take_while(|place| events[*place].is_together_with(last));
        together.find(|place| packages.left_by(&events[*place], id))
    };
    let event_of = |trace: &Trace| match trace {
        Trace::Package(id) => of_package(id),
        Trace::State(manager, name) => of_state.get(&(manager.clone(), name.as_str())).copied(),
    };
    // Of two packages, what the later transaction did is what differs now.
    let event_of = |change: &Change| change.traces.iter().filter_map(event_of).max();
    let mut found: Vec<Transaction> = Vec::new();
    let mut of_event: BTreeMap<usize, usize> = BTreeMap::new();
    let mut with_event: Vec<(usize, usize)> =
        comparison.changes.iter().enumerate().filter_map(|(place, change)| Some((event_of(change)?, place))).collect();
    with_event.sort_unstable();
    for (event, place) in with_event {
        let first = first_of(events, event);
        let at = *of_event.entry(first).or_insert_with(|| {
            found.push(Transaction::of(&events[first]));
            found.len() - 1
        });
        found[at].changes.push(place);
    }
    found.iter_mut().for_each(|one| one.changes.sort_unstable());
    found.sort_by_key(|one| one.at);
    found
}

/// The packages of two snapshots, by their ids.
struct Packages<'a> {
    before: BTreeMap<&'a str, &'a PackageRecord>,
    after: BTreeMap<&'a str, &'a PackageRecord>,
    keys: BTreeMap<&'a str, Key>,
    /// What is there afterwards under any id.
    keys_after: BTreeSet<Key>,
}

impl<'a> Packages<'a> {
    fn of(before: &'a Snapshot, after: &'a Snapshot) -> Self {
        let is_there = |one: &&PackageRecord| one.status != Status::ConfigRemains.word();
        let by_id =
            |one: &'a Snapshot| one.packages.iter().filter(is_there).map(|one| (one.id.as_str(), one)).collect();
        let key = |one: &PackageRecord| (one.manager.clone(), one.scope.clone(), one.name.clone());
        let both = before.packages.iter().chain(&after.packages);
        Packages {
            before: by_id(before),
            after: by_id(after),
            keys: both.map(|one| (one.id.as_str(), key(one))).collect(),
            keys_after: after.packages.iter().filter(is_there).map(key).collect(),
        }
    }

    /// Whether a package can be as it is afterwards because of an event.
    fn left_by(&self, event: &Event, id: &str) -> bool {
        let version = |of: &BTreeMap<&str, &PackageRecord>| of.get(id).map(|one| one.version.clone());
        let (was, is) = (version(&self.before), version(&self.after));
        match event.action {
            Action::Remove => is.is_none(),
            Action::Install | Action::Upgrade | Action::Downgrade => {
                // In the very second of the earlier snapshot, it may have been done already.
                let brought = event.to.as_ref().map(|to| to.to_data().into_owned());
                let is_older = brought.is_some() && was != is && was == Some(brought);
                !is_older && self.keys_after.contains(&self.keys[id])
            }
            Action::Configure | Action::Switch => true,
        }
    }
}

/// The first event of the transaction that an event is part of.
fn first_of(events: &[Event], place: usize) -> usize {
    let one = &events[place];
    let is_part = |other: &Event| other.is_together_with(one);
    events[..place].iter().position(is_part).unwrap_or(place)
}

impl Transaction {
    fn of(event: &Event) -> Self {
        Transaction {
            at: event.at,
            manager: event.manager,
            scope: event.scope.clone(),
            by: event.by.clone(),
            command: event.command.clone(),
            transaction: event.transaction.clone(),
            changes: Vec::new(),
            evidence: event.evidence.iter().take(1).cloned().collect(),
        }
    }
}

/// Whether two snapshots are of one machine, as far as they tell.
#[must_use]
pub fn is_one_machine(snapshot: &Snapshot, machine: Option<&String>, host: Option<&ByteString>) -> bool {
    match (&snapshot.machine, machine) {
        (Some(one), Some(other)) => one == other,
        _ => snapshot.host.as_deref().map(str::as_bytes) == host.map(|host| &**host),
    }
}

#[cfg(test)]
mod tests {
    use super::super::compare::{compare, tests::snapshot};
    use super::*;

    #[test]
    fn a_change_is_that_transaction_s_which_left_the_package_as_it_is() {
        use Action::{Configure, Install, Remove, Upgrade};
        const ONE: &[&str] = &["dpkg/system/tarn 1"];
        const TWO: &[&str] = &["dpkg/system/tarn 2"];
        const KERNELS: [&[&str]; 2] =
            [&["rpm/system/keel@1 1", "rpm/system/keel@2 2"], &["rpm/system/keel@2 2", "rpm/system/keel@3 3"]];
        /// An event: what, from, to, and when.
        type Row = (Action, Option<&'static str>, Option<&'static str>, i64);
        /// What happens, packages before and after, the log, and what is told.
        type Case<'t> = (&'t str, &'t [&'t str], &'t [&'t str], &'t [Row], &'t [(i64, usize)]);
        // The times of the transactions that are told, and how many changes each has.
        let table: &[Case<'_>] = &[
            ("came", &[], ONE, &[(Install, None, Some("1"), 5)], &[(5, 1)]),
            ("went", ONE, &[], &[(Remove, Some("1"), None, 5)], &[(5, 1)]),
            ("upgraded", ONE, TWO, &[(Upgrade, Some("1"), Some("2"), 5)], &[(5, 1)]),
            ("purged later", ONE, &[], &[(Remove, Some("1"), None, 5), (Configure, None, None, 6)], &[(6, 1)]),
            ("taken, and back without a word", &[], ONE, &[(Remove, Some("1"), None, 5)], &[]),
            ("brought, and gone without a word", ONE, &[], &[(Upgrade, Some("0"), Some("2"), 5)], &[]),
            ("brought before the first snapshot", ONE, TWO, &[(Install, None, Some("1"), 5)], &[]),
            (
                "two versions side by side, one brought and one taken",
                KERNELS[0],
                KERNELS[1],
                &[(Install, None, Some("3"), 5), (Remove, Some("1"), None, 5)],
                &[(5, 1)],
            ),
            (
                "one of two versions side by side taken",
                KERNELS[0],
                &KERNELS[1][..1],
                &[(Remove, Some("1"), None, 5)],
                &[(5, 1)],
            ),
        ];
        for (what, before, after, log, expected) in table {
            let (before, after) = (snapshot(before), snapshot(after));
            let events: Vec<Event> = log
                .iter()
                .map(|(action, from, to, at)| {
                    let is_keel = before.packages.iter().any(|one| one.name == "keel");
                    let (manager, name) =
                        if is_keel { (ManagerId("rpm"), "keel") } else { (ManagerId("dpkg"), "tarn") };
                    Event {
                        at: Some(*at),
                        from: from.map(ByteString::from),
                        to: to.map(ByteString::from),
                        ..Event::of(manager, Scope::System, *action, name)
                    }
                })
                .collect();
            let comparison = compare(&before, &after);
            let told = transactions(&before, &after, &comparison, &events);
            let told: Vec<(i64, usize)> = told.iter().map(|one| (one.at.unwrap(), one.changes.len())).collect();
            assert_eq!(told, *expected, "{what}: {:?}", comparison.changes);
        }
    }
}
