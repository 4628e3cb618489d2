//! What is wrong, and on how many machines?

use std::cmp::Reverse;

use schemars::JsonSchema;
use serde::Serialize;

use super::{Fleet, grouped, some_of};
use crate::store::StoreError;
use crate::value::{Row, Value};

/// A kind of finding, or one finding, over all machines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FoundEntry {
    /// What kind of finding it is.
    pub kind: String,
    /// How much it matters, at worst.
    pub severity: String,
    /// The sort of its cause.
    pub cause: String,
    /// What it is about; `null` where findings of a kind are counted.
    pub subject: Option<String>,
    /// One sentence, as one of the machines tells it; `null` where findings of a kind are counted.
    pub summary: Option<String>,
    /// How many findings there are.
    pub findings: usize,
    /// On how many machines.
    pub machines: usize,
    /// The first of them, by name.
    pub among_them: Vec<String>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Found {
    /// The kind that was asked for.
    pub kind: Option<String>,
    /// How many machines were asked for findings when their snapshot was taken.
    pub of: usize,
    /// How many were not.
    pub not_asked: usize,
    /// How many have any of these findings.
    pub affected: usize,
    /// The findings: those on the most machines first.
    pub findings: Vec<FoundEntry>,
}

/// What the machines' snapshots have found: each kind, counted; or every finding of one kind. Notes are told only where a
/// kind is asked for.
///
/// # Errors
/// What the engine says.
pub fn found(fleet: &mut Fleet, kind: Option<&str>) -> Result<Found, StoreError> {
    let sql = "SELECT count(*) FROM latest WHERE finding_list IS NOT NULL";
    let of = fleet.ask(sql, &[])?.first().map_or(0, |row| row[0].count());
    let rows = match kind {
        None => fleet.ask(
            "SELECT s.machine, f.kind, f.cause, f.severity, NULL, NULL, count(*) \
             FROM latest s JOIN finding_lists l ON l.list = s.finding_list JOIN findings f ON f.finding = l.item \
             WHERE f.severity <> 'note' GROUP BY s.machine, f.kind, f.cause, f.severity",
            &[],
        ),
        Some(kind) => fleet.ask(
            "SELECT s.machine, f.kind, f.cause, f.severity, f.subject, f.summary, 1 FROM findings f \
             JOIN finding_lists l ON l.item = f.finding JOIN latest s ON s.finding_list = l.list WHERE f.kind = $1",
            &[Value::from(kind)],
        ),
    }?;
    let affected = fleet.names_of(&rows, 0).len();
    let key = |row: &Row| (row[1].words(), row[2].words(), row[4].text());
    let mut findings: Vec<FoundEntry> =
        grouped(rows, key).into_iter().map(|(key, rows)| entry(fleet, key, &rows)).collect();
    findings.sort_by(|a, b| {
        let key = |one: &FoundEntry| (rank(&one.severity), Reverse(one.machines), Reverse(one.findings));
        key(a).cmp(&key(b)).then_with(|| (&a.kind, &a.cause, &a.subject).cmp(&(&b.kind, &b.cause, &b.subject)))
    });
    Ok(Found { kind: kind.map(str::to_owned), of, not_asked: fleet.size().saturating_sub(of), affected, findings })
}

/// The worse severities first.
fn rank(severity: &str) -> u8 {
    match severity {
        "error" => 0,
        "warning" => 1,
        _ => 2,
    }
}

/// Findings of one kind, cause and subject, of several machines.
fn entry(fleet: &Fleet, (kind, cause, subject): (String, String, Option<String>), rows: &[Row]) -> FoundEntry {
    let (machines, among_them) = some_of(fleet.names_of(rows, 0));
    let worst = rows.iter().map(|row| row[3].words()).min_by_key(|severity| rank(severity));
    FoundEntry {
        kind,
        severity: worst.unwrap_or_default(),
        cause,
        subject,
        summary: rows.iter().filter_map(|row| row[5].text()).min(),
        findings: rows.iter().map(|row| row[6].count()).sum(),
        machines,
        among_them,
    }
}
