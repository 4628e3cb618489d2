//! Which transactions of managers brought about what differs between two snapshots.
//!
//! A change is a transaction's if it is about a package, or about something that belongs to one, and the last event of
//! that package between the two snapshots is part of the transaction. What no log tells of stays without a cause: it was
//! done by hand, by a manager that keeps no log, or before the log begins.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;

use super::compare::{Change, Comparison, Trace};
use super::snapshot::Snapshot;
use crate::bytes::ByteString;
use crate::model::{Event, Evidence, ManagerId, Scope, as_rfc3339};

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
    let mut last_of: BTreeMap<Key, usize> = BTreeMap::new();
    let mut of_state: BTreeMap<(String, &str), usize> = BTreeMap::new();
    for (place, event) in events.iter().enumerate() {
        let manager = event.manager.to_string();
        last_of.insert((manager.clone(), event.scope.to_data(), event.name.to_data().into_owned()), place);
        of_state.extend(event.transaction.iter().map(|transaction| ((manager.clone(), &**transaction), place)));
    }
    let keys: BTreeMap<&str, Key> = before
        .packages
        .iter()
        .chain(&after.packages)
        .map(|one| (one.id.as_str(), (one.manager.clone(), one.scope.clone(), one.name.clone())))
        .collect();
    let event_of = |trace: &Trace| match trace {
        Trace::Package(id) => last_of.get(keys.get(id.as_str())?).copied(),
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
