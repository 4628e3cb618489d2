//! Which machines have it: at which version, from which source, and is it what runs?

use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;

use super::Fleet;
use crate::store::StoreError;

/// A package on a machine, or a program of this name that is another package's or nobody's.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct Whereabout {
    /// The machine.
    pub machine: String,
    /// The id of the package; `null` for a program that no manager claims.
    pub id: Option<String>,
    /// Its version.
    pub version: Option<String>,
    /// Where it came from.
    pub source: Option<String>,
    /// The file that its name starts, where it is what runs somewhere.
    pub runs: Option<String>,
    /// In how many contexts of how many users it runs, together.
    pub contexts: usize,
    /// Whether the package is called so; else only the program is.
    pub is_package: bool,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Whereabouts {
    /// What was asked for.
    pub name: String,
    /// How many machines there are.
    pub of: usize,
    /// Where it is, by machine.
    pub places: Vec<Whereabout>,
}

/// Where a package, a title or a command is.
///
/// # Errors
/// What the engine says.
pub fn whereabouts(fleet: &mut Fleet, name: &str) -> Result<Whereabouts, StoreError> {
    let packages = fleet.ask(
        "SELECT s.machine, p.id, p.version, p.origin FROM packages p \
         JOIN package_lists l ON l.item = p.package JOIN latest s ON s.package_list = l.list \
         WHERE p.name = $1 OR p.title = $1",
        &[name.into()],
    )?;
    // What the name starts.
    let programs = fleet.ask(
        "SELECT s.machine, w.owner, w.path, \
            (SELECT count(*) FROM contexts c WHERE c.contexts = l.contexts) \
         FROM winners w JOIN winner_lists l ON l.item = w.winner JOIN latest s ON s.winner_list = l.list \
         WHERE w.name = $1",
        &[name.into()],
    )?;
    let mut starts: HashMap<(i64, Option<String>), (String, usize)> = HashMap::new();
    let mut owners: HashMap<(i64, String), (Option<String>, Option<String>)> = HashMap::new();
    for row in &programs {
        let known = starts.entry((row[0].int(), row[1].text())).or_default();
        if known.0.is_empty() || row[2].words() < known.0 {
            known.0 = row[2].words();
        }
        known.1 += row[3].count();
    }
    let shown: HashSet<(i64, String)> = packages.iter().map(|row| (row[0].int(), row[1].words())).collect();
    if starts.keys().any(|(machine, owner)| owner.as_ref().is_some_and(|id| !shown.contains(&(*machine, id.clone())))) {
        let rows = fleet.ask(
            "SELECT DISTINCT s.machine, p.id, p.version, p.origin FROM winners w \
             JOIN winner_lists l ON l.item = w.winner JOIN latest s ON s.winner_list = l.list \
             JOIN packages p ON p.id = w.owner \
             JOIN package_lists k ON k.list = s.package_list AND k.item = p.package WHERE w.name = $1",
            &[name.into()],
        )?;
        owners.extend(rows.iter().map(|row| ((row[0].int(), row[1].words()), (row[2].text(), row[3].text()))));
    }
    let mut places = Vec::new();
    for row in &packages {
        let (runs, contexts) = starts.get(&(row[0].int(), row[1].text())).cloned().unzip();
        places.push(Whereabout {
            machine: fleet.name(&row[0]),
            id: row[1].text(),
            version: row[2].text(),
            source: row[3].text(),
            runs,
            contexts: contexts.unwrap_or(0),
            is_package: true,
        });
    }
    for ((machine, owner), (path, contexts)) in starts {
        let id = owner.clone().unwrap_or_default();
        if shown.contains(&(machine, id.clone())) {
            continue;
        }
        let (version, source) = owners.get(&(machine, id)).cloned().unwrap_or_default();
        places.push(Whereabout {
            machine: fleet.name(&machine.into()),
            id: owner,
            version,
            source,
            runs: Some(path),
            contexts,
            is_package: false,
        });
    }
    places.sort_unstable();
    Ok(Whereabouts { name: name.to_owned(), of: fleet.size(), places })
}
