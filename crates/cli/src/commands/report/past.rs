//! Pages about what was kept: a snapshot, and what differs between two states.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use whodunit_core::bytes::ByteString;
use whodunit_core::history::{Change, Difference, PackageRecord, Snapshot, Subject, compare};

use super::figures::{self, Palette, Tiles};
use super::page::{Head, Report};
use super::table::{Field, Table};
use super::tables::{INVENTORY, MACHINE};
use crate::commands::compare::{lost, words};
use crate::output;

/// Packages that are installed, and not only what is left of them.
fn installed(snapshot: &Snapshot) -> impl Iterator<Item = &PackageRecord> {
    snapshot.packages.iter().filter(|package| package.status != "config-remains")
}

fn text(text: &Option<String>) -> Field {
    Field::text(text.as_deref().unwrap_or_default())
}

fn head(snapshot: &Snapshot) -> Head {
    Head {
        machine: snapshot.host.as_deref().map_or_else(|| "a machine".to_owned(), output::safe),
        system: snapshot.system.as_deref().map(output::safe).unwrap_or_default(),
        at: snapshot.taken_at.as_deref().map(output::safe).unwrap_or_default(),
        users: snapshot.users_seen.iter().map(|user| output::safe(user)).collect::<Vec<_>>().join(", "),
    }
}

/// The machine as a snapshot has it, and whether something could not be read then.
pub fn of_snapshot(snapshot: &Snapshot) -> (Report, bool) {
    let packages: Vec<&PackageRecord> = installed(snapshot).collect();
    let palette = Palette::named(|id| packages.iter().any(|package| package.manager == id));
    let mut tiles = Tiles::new();
    for package in &packages {
        let title = package.title.as_ref().unwrap_or(&package.name);
        tiles.entry(&package.manager).or_default().push((output::safe(title), package.size.unwrap_or(0)));
    }
    let mut months: BTreeMap<String, u64> = BTreeMap::new();
    for at in packages.iter().filter_map(|package| package.installed_at.as_ref()) {
        *months.entry(at.chars().take(7).collect()).or_default() += 1;
    }
    let months: Vec<(String, u64)> = months.into_iter().rev().collect();
    let says = "When what was there then was installed, as far as it was known".to_owned();
    let figures = vec![
        figures::bytes(tiles, &palette),
        figures::counts("changes", "Installed by month", says, &["month", "#packages"], months),
    ];
    let when = snapshot.taken_at.as_deref().map(|at| format!(" on {}", output::safe(at))).unwrap_or_default();
    let verdict = format!("As it was{when}: {}", output::count(packages.len(), "package"));
    let tables = vec![
        inventory(&packages),
        winners(snapshot),
        launchers(snapshot),
        paths(snapshot),
        unowned(snapshot),
        sources(snapshot),
        services(snapshot),
        losses(&snapshot.losses),
    ];
    let page = Report::new(head(snapshot), ("fine", verdict), machine(&packages), figures, None, tables);
    (page, !snapshot.losses.is_empty())
}

/// A row for each installation.
fn machine(packages: &[&PackageRecord]) -> Table {
    let mut installations: BTreeMap<[&str; 3], Vec<&PackageRecord>> = BTreeMap::new();
    for one in packages {
        installations.entry([&one.manager, &one.scope, &one.location]).or_default().push(one);
    }
    let rows = installations.into_iter().map(|([manager, scope, location], packages)| {
        let count = |is_counted: fn(&PackageRecord) -> bool| {
            Field::count(packages.iter().filter(|one| is_counted(one)).count())
        };
        let sizes: Vec<u64> = packages.iter().filter_map(|one| one.size).collect();
        vec![
            Field::text(manager),
            Field::text(scope),
            Field::text(location),
            count(|_| true).to("inventory", manager),
            count(|one| one.reason == "explicit"),
            count(|one| one.held),
            Field::bytes((!sizes.is_empty()).then(|| sizes.iter().sum())),
        ]
    });
    Table::new("machine", "The machine", &MACHINE, rows.collect())
}

fn inventory(packages: &[&PackageRecord]) -> Table {
    let rows = packages.iter().map(|one| {
        vec![
            Field::text(&one.name),
            text(&one.version),
            Field::text(&one.manager),
            Field::text(&one.scope),
            Field::text(&one.reason),
            text(&one.origin),
            Field::text(one.installed_at.iter().flat_map(|at| at.chars()).take(10).collect::<String>()),
            Field::bytes(one.size),
        ]
    });
    Table::new("inventory", "Inventory", &INVENTORY, rows.collect())
}

fn winners(snapshot: &Snapshot) -> Table {
    let rows = snapshot.winners.iter().map(|one| {
        vec![Field::text(&one.name), Field::text(&one.path), text(&one.owner), Field::text(one.contexts.join(", "))]
    });
    Table::new("names", "What each name started", &["name", "program", "owner", "contexts"], rows.collect())
}

fn launchers(snapshot: &Snapshot) -> Table {
    let rows = snapshot.launchers.iter().map(|one| {
        vec![Field::text(&one.id), text(&one.name), Field::yes(one.shown), text(&one.starts), text(&one.owner)]
    });
    Table::new("launchers", "Launchers", &["id", "name", "shown", "starts", "owner"], rows.collect())
}

fn paths(snapshot: &Snapshot) -> Table {
    let rows = snapshot.search_paths.iter().flat_map(|one| {
        (1..).zip(&one.entries).map(|(number, (directory, because))| {
            vec![
                Field::text(&one.context),
                text(&one.user),
                Field::number(number),
                Field::text(directory),
                Field::text(because),
            ]
        })
    });
    Table::new("paths", "Search paths", &["context", "user", "#place", "directory", "put there by"], rows.collect())
}

fn unowned(snapshot: &Snapshot) -> Table {
    let rows =
        snapshot.unowned.iter().map(|one| vec![Field::text(&one.path), Field::text(&one.kind), text(&one.content)]);
    Table::new("unowned", "Unowned programs", &["file", "kind", "content"], rows.collect())
}

fn sources(snapshot: &Snapshot) -> Table {
    let rows = snapshot.sources.iter().map(|one| {
        vec![
            Field::text(&one.manager),
            Field::text(&one.name),
            text(&one.url),
            Field::yes(one.enabled),
            Field::text(&one.signed),
        ]
    });
    Table::new("sources", "Sources", &["manager", "name", "address", "enabled", "signed"], rows.collect())
}

fn services(snapshot: &Snapshot) -> Table {
    let rows = snapshot.services.iter().map(|one| {
        vec![Field::text(&one.name), Field::text(&one.scope), Field::text(&one.file), Field::yes(one.enabled)]
    });
    Table::new("services", "Services and jobs", &["name", "scope", "file", "enabled"], rows.collect())
}

fn losses(losses: &[String]) -> Table {
    let rows = losses.iter().map(|loss| vec![Field::text(loss)]);
    Table::new("coverage", "What could not be read", &["lost"], rows.collect())
}

/// What differs between two states, each with the word that names it; and whether something could not be compared.
pub fn of_two((a, before): (&OsString, &Snapshot), (b, after): (&OsString, &Snapshot)) -> (Report, bool) {
    let comparison = compare(before, after);
    let changes = &comparison.changes;
    let named = |word: &OsString| ByteString::from(word.as_bytes()).to_string();
    let mut kinds: Vec<Subject> = changes.iter().map(|one| one.what).collect();
    kinds.dedup();
    let of_kind = |kind: Subject| changes.iter().filter(move |one| one.what == kind);
    let counted = kinds.iter().map(|kind| (words(*kind).0.to_owned(), number(of_kind(*kind).count())));
    let mut counted: Vec<(String, u64)> = counted.collect();
    counted.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    let verdict = match changes.len() {
        0 => format!("Nothing differs between {} and {}", named(a), named(b)),
        count => format!("From {} to {}: {}", named(a), named(b), output::count(count, "change")),
    };
    let mut of_manager: BTreeMap<String, u64> = BTreeMap::new();
    for one in of_kind(Subject::Package) {
        let manager = one.subject.split('/').next().unwrap_or_default();
        *of_manager.entry(format!("{manager} {}", mark(one))).or_default() += 1;
    }
    let says = "How many things of each kind differ".to_owned();
    let of_packages = "Packages by manager, and how they differ".to_owned();
    let of_manager = of_manager.into_iter().collect();
    let figures = vec![
        figures::counts("kinds", "Changes by kind", says, &["kind", "#changes"], counted),
        figures::counts("managers", "Changes of packages", of_packages, &["manager", "#packages"], of_manager),
    ];
    let mut tables: Vec<Table> = kinds.iter().map(|kind| table(*kind, of_kind(*kind))).collect();
    let notes: Vec<String> = comparison.not_compared.iter().cloned().chain(lost(before, after)).collect();
    let is_incomplete = !notes.is_empty();
    tables.push(losses(&notes));
    let class = if changes.is_empty() { "fine" } else { "warning" };
    let both = states(&[(named(a), before), (named(b), after)]);
    let page = Report::new(head(after), (class, verdict), both, figures, None, tables);
    (page, is_incomplete)
}

fn number(count: usize) -> u64 {
    u64::try_from(count).unwrap_or(u64::MAX)
}

/// The two states, side by side.
fn states(both: &[(String, &Snapshot); 2]) -> Table {
    let rows = both.iter().map(|(name, one)| {
        vec![
            Field::text(name),
            text(&one.taken_at),
            text(&one.host),
            text(&one.system),
            Field::count(installed(one).count()),
        ]
    });
    Table::new("machine", "The states", &["state", "taken", "machine", "system", "#packages"], rows.collect())
}

fn mark(one: &Change) -> &str {
    match (one.change, one.of.as_deref()) {
        (Difference::Changed, Some(of @ ("up" | "down"))) => of,
        (change, _) => change.word(),
    }
}

/// The changes of one kind.
fn table<'c>(kind: Subject, changes: impl Iterator<Item = &'c Change>) -> Table {
    let rows = changes.map(|one| {
        let contexts: BTreeSet<&String> = one.contexts.iter().collect();
        let contexts: Vec<&str> = contexts.into_iter().map(String::as_str).collect();
        let of = one.of.as_deref().filter(|of| !["up", "down"].contains(of)).unwrap_or_default();
        vec![
            Field::text(mark(one)),
            Field::text(&one.subject),
            Field::text(of),
            text(&one.from),
            text(&one.to),
            Field::text(contexts.join(", ")),
        ]
    });
    let id = kind.word().replace(' ', "-");
    Table::new(&id, words(kind).0, &["change", "subject", "of", "from", "to", "contexts"], rows.collect())
}
