//! Which machines are there, and when were they last seen?

use schemars::JsonSchema;
use serde::Serialize;

use super::Fleet;
use crate::store::StoreError;

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
    let sql = "SELECT s.machine, m.identity, s.system, s.taken_at, \
            (SELECT count(*) FROM snapshots a WHERE a.machine = s.machine), \
            (SELECT count(*) FROM package_lists l WHERE l.list = s.package_list), \
            (SELECT count(*) FROM finding_lists l JOIN findings f ON f.finding = l.item \
             WHERE l.list = s.finding_list AND f.severity = 'error'), \
            (SELECT count(*) FROM finding_lists l JOIN findings f ON f.finding = l.item \
             WHERE l.list = s.finding_list AND f.severity = 'warning'), \
            (SELECT count(*) FROM offer_lists l WHERE l.list = s.offer_list), \
            s.losses, s.finding_list, s.host, s.loaded_at \
        FROM latest s JOIN machines m ON m.machine = s.machine";
    let rows = fleet.ask(sql, &[])?;
    let sql = "SELECT DISTINCT s.machine, s.host FROM snapshots s JOIN latest l ON l.machine = s.machine \
               WHERE s.host <> l.host";
    let others = fleet.ask(sql, &[])?;
    let mut machines: Vec<MachineEntry> = Vec::with_capacity(rows.len());
    for row in &rows {
        let is_full = row[10].int() != 0;
        let counted = |column: usize| is_full.then(|| row[column].count());
        let mut also_called: Vec<String> =
            others.iter().filter(|other| other[0] == row[0]).filter_map(|other| other[1].text()).collect();
        also_called.sort_unstable();
        machines.push(MachineEntry {
            machine: fleet.name(&row[0]),
            identity: row[1].words(),
            system: row[2].text(),
            taken_at: row[3].text().filter(|time| !time.is_empty()),
            snapshots: row[4].count(),
            packages: row[5].count(),
            errors: counted(6),
            warnings: counted(7),
            outdated: counted(8),
            losses: row[9].count(),
            also_called,
            clock_is_ahead: row[3] > row[12],
        });
    }
    machines.sort_by(|a, b| (&a.machine, &a.identity).cmp(&(&b.machine, &b.identity)));
    Ok(Machines { machines })
}
