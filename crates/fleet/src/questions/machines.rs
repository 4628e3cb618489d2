//! Which machines are there, and when were they last seen?

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use super::Fleet;
use crate::store::StoreError;
use crate::value::Value;

/// One machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct MachineEntry {
    /// What it is called; where several have one name, with the beginning of its identity.
    pub machine: String,
    /// What tells it from the others: a digest of its machine id, or `host:NAME` where it has none.
    pub identity: String,
    /// The system and its version.
    pub system: Option<String>,
    /// When its newest snapshot was taken: RFC 3339, UTC; `null` where it does not say.
    pub taken_at: Option<String>,
    /// How many snapshots of it there are.
    pub snapshots: usize,
    /// How many packages it has.
    pub packages: usize,
    /// Findings that are errors; `null` where its snapshot has no findings.
    pub errors: Option<usize>,
    /// Findings that are warnings.
    pub warnings: Option<usize>,
    /// Packages of which a source has a newer version.
    pub outdated: Option<usize>,
    /// How many records could not be read on it.
    pub losses: usize,
    /// Its other names: it was called so, or it is a copy with the same machine id.
    pub also_called: Vec<String>,
    /// Whether its clock was ahead of the one where its snapshot was loaded.
    pub clock_is_ahead: bool,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Machines {
    /// The machines, by name.
    pub machines: Vec<MachineEntry>,
}

/// Every machine.
///
/// # Errors
/// What the engine says.
pub fn machines(fleet: &mut Fleet) -> Result<Machines, StoreError> {
    let rows = fleet.ask(
        "SELECT s.machine, m.identity, s.system, s.taken_at, s.packages, s.losses, s.finding_list, s.offer_list, s.loaded_at \
         FROM latest s JOIN machines m ON m.machine = s.machine",
        &[],
    )?;
    let snapshots = numbers(fleet, "SELECT machine, count(*) FROM snapshots GROUP BY machine")?;
    // Machines that are alike have one list.
    let of_severity = |severity: &str| {
        format!(
            "SELECT l.list, count(*) FROM finding_lists l JOIN findings f ON f.finding = l.item \
             WHERE f.severity = '{severity}' GROUP BY l.list"
        )
    };
    let (errors, warnings) = (numbers(fleet, &of_severity("error"))?, numbers(fleet, &of_severity("warning"))?);
    let outdated = numbers(fleet, "SELECT list, count(*) FROM offer_lists GROUP BY list")?;
    let sql = "SELECT DISTINCT s.machine, s.host FROM snapshots s JOIN latest l ON l.machine = s.machine \
               WHERE s.host <> l.host";
    let others = fleet.ask(sql, &[])?;
    let mut machines: Vec<MachineEntry> = Vec::with_capacity(rows.len());
    for row in &rows {
        let counted = |list: &Value, counts: &HashMap<i64, usize>| {
            (*list != Value::Null).then(|| counts.get(&list.int()).copied().unwrap_or(0))
        };
        let mut also_called: Vec<String> =
            others.iter().filter(|other| other[0] == row[0]).filter_map(|other| other[1].text()).collect();
        also_called.sort_unstable();
        machines.push(MachineEntry {
            machine: fleet.name(&row[0]),
            identity: row[1].words(),
            system: row[2].text(),
            taken_at: row[3].text().filter(|time| !time.is_empty()),
            snapshots: snapshots.get(&row[0].int()).copied().unwrap_or(0),
            packages: row[4].count(),
            errors: counted(&row[6], &errors),
            warnings: counted(&row[6], &warnings),
            outdated: counted(&row[7], &outdated),
            losses: row[5].count(),
            also_called,
            clock_is_ahead: row[3] > row[8],
        });
    }
    machines.sort_by(|a, b| (&a.machine, &a.identity).cmp(&(&b.machine, &b.identity)));
    Ok(Machines { machines })
}

/// The answer to a statement as a count for each number.
fn numbers(fleet: &mut Fleet, sql: &str) -> Result<HashMap<i64, usize>, StoreError> {
    Ok(fleet.ask(sql, &[])?.iter().map(|row| (row[0].int(), row[1].count())).collect())
}
