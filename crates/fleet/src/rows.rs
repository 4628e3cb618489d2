//! A snapshot as rows of the store's tables.

use std::collections::{BTreeMap, BTreeSet};

use whodunit_core::history::{PackageRecord, Snapshot};
use whodunit_core::version::Scheme;

use crate::tables::Entity;
use crate::value::{Row, Value, number_of};

/// A list of a snapshot: what it has, and that it has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct List {
    /// What it is made of.
    pub entity: Entity,
    /// Its number.
    pub number: i64,
    /// Rows of the entity's table, each once.
    pub items: Vec<Row>,
    /// Rows of the table of lists.
    pub members: Vec<Row>,
}

/// Everything that a snapshot adds to a store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SnapshotRows {
    /// The number of the snapshot.
    pub number: i64,
    /// Its row in `machines`.
    pub machine: Row,
    /// Its row in `snapshots`.
    pub snapshot: Row,
    /// Rows of `contexts`.
    pub contexts: Vec<Row>,
    /// Its lists.
    pub lists: Vec<List>,
}

/// What tells a machine from the others: its machine id, else its name.
fn identity(snapshot: &Snapshot) -> String {
    let of_host = || format!("host:{}", snapshot.host.as_deref().unwrap_or_default());
    snapshot.machine.clone().unwrap_or_else(of_host)
}

impl SnapshotRows {
    /// The rows of a snapshot that was read from a file with this digest, at this time.
    #[must_use]
    pub fn of(snapshot: &Snapshot, file_digest: &str, loaded_at: &str) -> Self {
        let identity = identity(snapshot);
        let machine = number_of(&[Value::from(&identity)]);
        let (packages, offers) = packages(snapshot);
        let packages_here = packages.len();
        let software = packages.iter().map(|row| row[1].int()).collect::<BTreeSet<i64>>().len();
        let (winners, contexts) = winners(snapshot);
        let lists = vec![
            list(Entity::Packages, packages),
            winners,
            list(Entity::Sources, sources(snapshot)),
            list(Entity::Files, files(snapshot)),
        ];
        let optional = snapshot
            .findings
            .as_ref()
            .map(|_| [list(Entity::Findings, findings(snapshot)), list(Entity::Offers, offers)]);
        let numbers = |lists: &[List]| lists.iter().map(|list| Value::from(list.number)).collect::<Vec<_>>();
        let when = [Value::from(machine), snapshot.taken_at.as_deref().unwrap_or_default().into()];
        let mut what = vec![
            snapshot.host.as_ref().into(),
            snapshot.system.as_ref().into(),
            Value::from(&snapshot.written_by),
            snapshot.losses.len().into(),
            packages_here.into(),
            software.into(),
        ];
        what.extend(numbers(&lists));
        what.extend(optional.as_ref().map_or_else(|| vec![Value::Null, Value::Null], |lists| numbers(lists)));
        // When and from which file it was loaded says nothing about the machine.
        let number = number_of(&[&when[..], &what].concat());
        let own = [&[number.into()], &when[..], &[loaded_at.into(), file_digest.into()], &what].concat();
        let lists = lists.into_iter().chain(optional.into_iter().flatten()).collect();
        SnapshotRows { number, machine: vec![machine.into(), Value::from(&identity)], snapshot: own, contexts, lists }
    }
}

/// A row with its number in front.
fn numbered(values: Row) -> Row {
    let mut row = Vec::with_capacity(values.len() + 1);
    row.push(number_of(&values).into());
    row.extend(values);
    row
}

/// A list of these rows, each once; its number is that of what it has.
fn list(entity: Entity, mut items: Vec<Row>) -> List {
    items.sort_unstable_by_key(|row| row[0].int());
    items.dedup_by_key(|row| row[0].int());
    let number = number_of(&items.iter().map(|row| row[0].clone()).collect::<Vec<_>>());
    let members = items.iter().map(|row| vec![number.into(), row[0].clone()]).collect();
    List { entity, number, items, members }
}

/// The packages, and the newer versions of them.
fn packages(snapshot: &Snapshot) -> (Vec<Row>, Vec<Row>) {
    let (mut rows, mut offers) = (Vec::with_capacity(snapshot.packages.len()), Vec::new());
    for package in &snapshot.packages {
        let row = package_row(package);
        if let Some(newest) = &package.newest {
            let key = scheme(package).key(newest.version.as_bytes());
            offers.push(numbered(vec![
                row[0].clone(),
                Value::from(&newest.version),
                key.into(),
                newest.source.as_ref().into(),
            ]));
        }
        rows.push(row);
    }
    (rows, offers)
}

/// The scheme of a package; that of upstream's versions where an older snapshot does not say.
fn scheme(package: &PackageRecord) -> Scheme {
    package.scheme.unwrap_or(Scheme::Upstream)
}

fn package_row(package: &PackageRecord) -> Row {
    let key = |scheme: Scheme, version: &Option<String>| {
        Value::from(version.as_ref().map(|version| scheme.key(version.as_bytes())))
    };
    let upstream = package.upstream.as_ref().or(package.version.as_ref()).cloned();
    let (manager, name, version) =
        (Value::from(&package.manager), Value::from(&package.name), Value::from(package.version.as_ref()));
    numbered(vec![
        number_of(&[manager.clone(), name.clone()]).into(),
        number_of(&[manager.clone(), name.clone(), version.clone()]).into(),
        Value::from(&package.id),
        manager,
        Value::from(&package.scope),
        Value::from(&package.location),
        name,
        package.title.as_ref().into(),
        version,
        key(scheme(package), &package.version),
        upstream.as_ref().into(),
        key(Scheme::Upstream, &upstream),
        package.arch.as_ref().into(),
        Value::from(&package.kind),
        package.channel.as_ref().into(),
        package.revision.as_ref().into(),
        package.origin.as_ref().into(),
        Value::from(&package.reason),
        Value::from(&package.status),
        package.held.into(),
        package.active.into(),
        package.size.and_then(|size| i64::try_from(size).ok()).into(),
    ])
}

/// What names start: the list, and the sets of contexts.
fn winners(snapshot: &Snapshot) -> (List, Vec<Row>) {
    let mut sets: BTreeMap<i64, &Vec<String>> = BTreeMap::new();
    let mut wins: BTreeMap<i64, (Row, i64)> = BTreeMap::new();
    for winner in &snapshot.winners {
        let row = numbered(vec![Value::from(&winner.name), Value::from(&winner.path), winner.owner.as_ref().into()]);
        let set = number_of(&winner.contexts.iter().map(Value::from).collect::<Vec<_>>());
        sets.insert(set, &winner.contexts);
        wins.insert(row[0].int(), (row, set));
    }
    let pairs: Vec<Value> = wins.iter().flat_map(|(item, (_, set))| [(*item).into(), (*set).into()]).collect();
    let number = number_of(&pairs);
    let members = wins.iter().map(|(item, (_, set))| vec![number.into(), (*item).into(), (*set).into()]).collect();
    let of_set = |(set, contexts): (i64, &Vec<String>)| {
        let one = |context: &String| {
            let (who, context) = context.rsplit_once(' ').unwrap_or(("", context));
            vec![set.into(), who.into(), context.into()]
        };
        contexts.iter().map(one).collect::<Vec<Row>>()
    };
    let contexts = sets.into_iter().flat_map(of_set).collect();
    let items = wins.into_values().map(|(row, _)| row).collect();
    (List { entity: Entity::Winners, number, items, members }, contexts)
}

fn sources(snapshot: &Snapshot) -> Vec<Row> {
    let row = |one: &whodunit_core::history::SourceRecord| {
        numbered(vec![
            Value::from(&one.manager),
            Value::from(&one.scope),
            Value::from(&one.name),
            one.url.as_ref().into(),
            one.enabled.into(),
            Value::from(&one.signed),
        ])
    };
    snapshot.sources.iter().map(row).collect()
}

fn files(snapshot: &Snapshot) -> Vec<Row> {
    let row = |path: &String, kind: &str, content: &Option<String>| {
        numbered(vec![Value::from(path), kind.into(), content.as_ref().into()])
    };
    let unowned = snapshot.unowned.iter().map(|one| row(&one.path, &one.kind, &one.content));
    unowned.chain(snapshot.files.iter().map(|one| row(&one.path, "settings", &one.content))).collect()
}

fn findings(snapshot: &Snapshot) -> Vec<Row> {
    let row = |one: &whodunit_core::history::FindingRecord| {
        numbered(vec![
            Value::from(&one.kind),
            Value::from(&one.severity),
            Value::from(&one.cause),
            Value::from(&one.subject),
            Value::from(&one.summary),
            Value::from(&one.users.join(", ")),
        ])
    };
    snapshot.findings.iter().flatten().map(row).collect()
}
