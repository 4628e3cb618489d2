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
    let findings = match kind {
        None => kinds(fleet)?,
        Some(kind) => of_kind(fleet, kind)?,
    };
    Ok(Found { kind: kind.map(str::to_owned), of, not_asked: fleet.size().saturating_sub(of), findings })
}

/// The worse severities first.
fn rank(severity: &str) -> u8 {
    match severity {
        "error" => 0,
        "warning" => 1,
        _ => 2,
    }
}

fn kinds(fleet: &mut Fleet) -> Result<Vec<FoundEntry>, StoreError> {
    let rows = fleet.ask(
        "SELECT s.machine, f.kind, f.cause, f.severity, count(*) \
         FROM latest s JOIN finding_lists l ON l.list = s.finding_list JOIN findings f ON f.finding = l.item \
         WHERE f.severity <> 'note' GROUP BY s.machine, f.kind, f.cause, f.severity",
        &[],
    )?;
    let entry = |((kind, cause), rows): ((String, String), Vec<Row>)| {
        let (machines, among_them) = some_of(fleet.names_of(&rows, 0));
        let worst = rows.iter().map(|row| row[3].words()).min_by_key(|severity| rank(severity));
        let findings = rows.iter().map(|row| row[4].count()).sum();
        let severity = worst.unwrap_or_default();
        FoundEntry { kind, severity, cause, subject: None, summary: None, findings, machines, among_them }
    };
    let groups = grouped(rows, |row| (row[1].words(), row[2].words()));
    Ok(by_importance(groups.into_iter().map(entry).collect()))
}

fn of_kind(fleet: &mut Fleet, kind: &str) -> Result<Vec<FoundEntry>, StoreError> {
    let rows = fleet.ask(
        "SELECT s.machine, f.subject, f.cause, f.severity, f.summary FROM findings f \
         JOIN finding_lists l ON l.item = f.finding JOIN latest s ON s.finding_list = l.list WHERE f.kind = $1",
        &[Value::from(kind)],
    )?;
    let entry = |((subject, cause), rows): ((String, String), Vec<Row>)| {
        let (machines, among_them) = some_of(fleet.names_of(&rows, 0));
        let worst = rows.iter().map(|row| row[3].words()).min_by_key(|severity| rank(severity));
        FoundEntry {
            kind: kind.to_owned(),
            severity: worst.unwrap_or_default(),
            cause,
            subject: Some(subject),
            summary: rows.iter().map(|row| row[4].words()).min(),
            findings: rows.len(),
            machines,
            among_them,
        }
    };
    let groups = grouped(rows, |row| (row[1].words(), row[2].words()));
    Ok(by_importance(groups.into_iter().map(entry).collect()))
}

fn by_importance(mut found: Vec<FoundEntry>) -> Vec<FoundEntry> {
    found.sort_by(|a, b| {
        let key = |one: &FoundEntry| (rank(&one.severity), Reverse(one.machines), Reverse(one.findings));
        key(a).cmp(&key(b)).then_with(|| (&a.kind, &a.cause, &a.subject).cmp(&(&b.kind, &b.cause, &b.subject)))
    });
    found
}
