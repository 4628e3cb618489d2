//! The page about many machines.

use std::collections::BTreeMap;

use whodunit_core::model::{CommandLine, FindingKind};
use whodunit_fleet::questions::Fleet;
use whodunit_fleet::questions::findings::{Found, FoundEntry, found};
use whodunit_fleet::questions::machines::{MachineEntry, Machines, machines};
use whodunit_fleet::questions::outdated::{Outdated, outdated};
use whodunit_fleet::questions::rare::{Rare, rare};
use whodunit_fleet::store::StoreError;

use super::figures::{self, Figure};
use super::page::{First, Head, Report};
use super::table::{Field, Table};
use crate::commands::fleet::named;
use crate::output;

/// What is on fewer machines than this is rare.
const RARE: usize = 3;
/// Kinds of findings that are named first.
const MAX_FIRST: usize = 5;
/// Rows of a figure.
const MAX_BARS: usize = 15;

/// The page about a store, by the word that names it.
pub fn of_store(fleet: &mut Fleet, store: &str) -> Result<Report, StoreError> {
    let (machines, found) = (machines(fleet)?, found(fleet, None)?);
    let (outdated, rare) = (outdated(fleet)?, rare(fleet, RARE)?);
    let all = &machines.machines;
    let systems: BTreeMap<&str, u64> = counted(all.iter().filter_map(|one| one.system.as_deref()));
    let head = Head {
        machine: output::count(all.len(), "machine"),
        system: systems.keys().map(|system| output::safe(system)).collect::<Vec<_>>().join(", "),
        at: all.iter().filter_map(|one| one.taken_at.as_deref()).max().map(output::safe).unwrap_or_default(),
        users: String::new(),
    };
    let tables = vec![findings(&found), behind(&outdated), few(&rare)];
    let figures = vec![spread(&found), seen(all), most_behind(&outdated)];
    let page = Report::new(head, verdict(&machines, &found), table(&machines), figures, None, tables);
    Ok(page.with_first(found.findings.iter().take(MAX_FIRST).map(|one| first(one, store)).collect()))
}

/// How often each text is there.
fn counted<'t>(texts: impl Iterator<Item = &'t str>) -> BTreeMap<&'t str, u64> {
    let mut counts = BTreeMap::new();
    texts.for_each(|text| *counts.entry(text).or_default() += 1);
    counts
}

fn verdict(machines: &Machines, found: &Found) -> (&'static str, String) {
    let with = |count: fn(&MachineEntry) -> Option<usize>| {
        machines.machines.iter().filter(|one| count(one).unwrap_or(0) > 0).count()
    };
    let (errors, warnings) = (with(|one| one.errors), with(|one| one.warnings));
    let of = output::count(found.of, "machine");
    match (found.of, errors, warnings) {
        (0, ..) => ("warning", "No snapshot has findings (whodunit snapshot save --full keeps them)".to_owned()),
        (_, 0, 0) => ("fine", format!("No errors and no warnings on {of}")),
        (_, 0, _) => ("warning", format!("Warnings on {warnings} of {of}")),
        (..) => ("error", format!("Errors on {errors} and warnings on {warnings} of {of}")),
    }
}

/// A kind of finding as something to do: to look where it is. A kind that this version does not know has no command.
fn first(one: &FoundEntry, store: &str) -> First {
    let line = CommandLine::new("whodunit fleet findings").arg(one.kind.as_str()).arg("--store").arg(store);
    let is_known = FindingKind::ALL.iter().any(|kind| kind.to_string() == one.kind);
    First {
        subject: output::safe(&one.kind),
        summary: format!(
            "{} on {}: {}",
            output::safe(&one.severity),
            output::count(one.machines, "machine"),
            named(&one.among_them, one.machines)
        ),
        command: if is_known { output::safe(&line.to_string()) } else { String::new() },
    }
}

fn machines_of(names: &[String], count: usize) -> Field {
    Field::text(named(names, count))
}

/// A count that leads to a part of the page, where there is anything; blank where it is not known.
fn counted_in(part: &str, count: Option<usize>) -> Field {
    match count {
        None => Field::text(""),
        Some(0) => Field::count(0),
        Some(count) => Field::count(count).to(part, ""),
    }
}

fn table(all: &Machines) -> Table {
    let rows = all.machines.iter().map(|one| {
        let mut odd = Vec::new();
        if !one.also_called.is_empty() {
            odd.push(format!("also called {}", one.also_called.join(", ")));
        }
        if one.clock_is_ahead {
            odd.push("its clock was ahead".to_owned());
        }
        vec![
            Field::text(&one.machine),
            Field::text(one.system.as_deref().unwrap_or_default()),
            Field::text(one.taken_at.as_deref().unwrap_or_default()),
            Field::count(one.packages),
            counted_in("findings", one.errors),
            counted_in("findings", one.warnings),
            counted_in("outdated", one.outdated),
            Field::count(one.losses),
            Field::text(odd.join("; ")),
        ]
    });
    let columns =
        ["machine", "system", "last seen", "#packages", "#errors", "#warnings", "#outdated", "#unread", "odd"];
    Table::new("machine", "The machines", &columns, rows.collect())
}

fn findings(found: &Found) -> Table {
    let rows = found.findings.iter().map(|one| {
        vec![
            Field::text(&one.severity),
            Field::text(&one.kind),
            Field::text(&one.cause),
            Field::count(one.findings),
            Field::count(one.machines),
            machines_of(&one.among_them, one.machines),
        ]
    });
    let columns = ["severity", "kind", "cause", "#findings", "#machines", "among them"];
    Table::new("findings", "Findings", &columns, rows.collect())
}

fn behind(outdated: &Outdated) -> Table {
    let rows = outdated.outdated.iter().map(|one| {
        vec![
            Field::text(&one.manager),
            Field::text(&one.name),
            Field::text(one.versions.join(", ")),
            Field::text(&one.newest),
            Field::text(one.source.as_deref().unwrap_or_default()),
            Field::count(one.machines),
            Field::count(one.held),
            machines_of(&one.among_them, one.machines),
        ]
    });
    let columns = ["manager", "package", "installed", "offered", "source", "#machines", "#held", "among them"];
    Table::new("outdated", "What is behind", &columns, rows.collect())
}

fn few(rare: &Rare) -> Table {
    let rows = rare.rare.iter().map(|one| {
        vec![
            Field::text(&one.what),
            Field::text(one.manager.as_deref().unwrap_or_default()),
            Field::text(&one.name),
            Field::text(one.versions.join(", ")),
            Field::count(one.machines),
            machines_of(&one.among_them, one.machines),
        ]
    });
    let columns = ["what", "manager", "name", "versions or content", "#machines", "among them"];
    Table::new("rare", &format!("On fewer than {RARE} machines"), &columns, rows.collect())
}

fn spread(found: &Found) -> Figure {
    let says = format!("On how many of {} each kind of finding is", output::count(found.of, "machine"));
    let rows = found.findings.iter().take(MAX_BARS).map(|one| (output::safe(&one.kind), one.machines as u64));
    figures::counts("kinds", "Findings by kind", says, &["kind", "#machines"], rows.collect())
}

/// On which day each machine was last seen.
fn seen(all: &[MachineEntry]) -> Figure {
    let day = |one: &MachineEntry| one.taken_at.as_ref().map_or("never".to_owned(), |at| at.chars().take(10).collect());
    let days: Vec<String> = all.iter().map(day).collect();
    let counts = counted(days.iter().map(String::as_str));
    let rows: Vec<(String, u64)> = counts.iter().rev().map(|(day, count)| (output::safe(day), *count)).collect();
    let says = match rows.first() {
        None => "No machine has been seen".to_owned(),
        Some((day, count)) => format!("{count} of {} on {day}, the last day", all.len()),
    };
    let rows = rows.into_iter().take(MAX_BARS).collect();
    figures::counts("seen", "Machines by the day on which they were last seen", says, &["day", "#machines"], rows)
}

fn most_behind(outdated: &Outdated) -> Figure {
    let says = format!("{} behind what their sources offer", output::count(outdated.outdated.len(), "package"));
    let rows = outdated.outdated.iter().take(MAX_BARS).map(|one| (output::safe(&one.name), one.machines as u64));
    figures::counts(
        "most-behind",
        "Packages that are behind on the most machines",
        says,
        &["package", "#machines"],
        rows.collect(),
    )
}
