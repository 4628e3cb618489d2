//! The questions that are asked of a fleet: one file each.
//!
//! Every statement is understood by all engines, and what decides the order of an answer is compared byte by byte, so
//! that the same snapshots give the same answers wherever they are kept.

pub mod changes;
pub mod drift;
pub mod findings;
pub mod machines;
pub mod outdated;
pub mod rare;
pub mod versions;
pub mod whereabouts;

use hashbrown::HashMap;

use crate::store::{Store, StoreError};
use crate::value::{Row, Value};

/// How many machines are named where many are counted.
pub const MAX_NAMED: usize = 5;

/// A store, and what its machines are called.
pub struct Fleet {
    store: Box<dyn Store>,
    /// The name of each machine, by its number.
    names: HashMap<i64, String>,
}

impl Fleet {
    /// Reads the names of the machines.
    ///
    /// # Errors
    /// What the engine says.
    pub fn new(mut store: Box<dyn Store>) -> Result<Self, StoreError> {
        let sql = "SELECT m.machine, m.identity, s.host FROM latest s JOIN machines m ON m.machine = s.machine";
        let rows = store.ask(sql, &[])?;
        let mut hosts: HashMap<String, usize> = HashMap::new();
        for row in &rows {
            *hosts.entry(row[2].words()).or_default() += 1;
        }
        let name = |row: &Row| {
            let (identity, host) = (row[1].words(), row[2].words());
            let identity = identity.strip_prefix("host:").unwrap_or(&identity);
            let short: String = identity.chars().take(8).collect();
            let name = match (host.is_empty(), hosts.get(&host)) {
                (true, _) if short.is_empty() => "unnamed".to_owned(),
                (true, _) => short,
                // Two machines of one name are told apart by what they are.
                (false, Some(2..)) => format!("{host} ({short})"),
                (false, _) => host,
            };
            (row[0].int(), name)
        };
        let names = rows.iter().map(name).collect();
        Ok(Fleet { store, names })
    }

    /// How many machines there are.
    #[must_use]
    pub fn size(&self) -> usize {
        self.names.len()
    }

    /// What a machine is called.
    fn name(&self, machine: &Value) -> String {
        self.names.get(&machine.int()).cloned().unwrap_or_default()
    }

    /// The numbers of the machines with this name, or the beginning of this identity.
    ///
    /// # Errors
    /// What the engine says.
    pub fn named(&mut self, word: &str) -> Result<Vec<i64>, StoreError> {
        let mut found: Vec<i64> =
            self.names.iter().filter(|(_, name)| *name == word).map(|(number, _)| *number).collect();
        if found.is_empty() {
            let sql = "SELECT m.machine FROM latest s JOIN machines m ON m.machine = s.machine \
                       WHERE s.host = $1 OR substr(m.identity, 1, length($1)) = $1";
            found = self.store.ask(sql, &[word.into()])?.iter().map(|row| row[0].int()).collect();
        }
        found.sort_unstable();
        Ok(found)
    }

    /// What the machines are called.
    #[must_use]
    pub fn machine_names(&self) -> Vec<String> {
        self.names.values().cloned().collect()
    }

    /// The names of packages that begin so.
    ///
    /// # Errors
    /// What the engine says.
    pub fn package_names(&mut self, start: &str) -> Result<Vec<String>, StoreError> {
        let sql = "SELECT DISTINCT name FROM packages WHERE substr(name, 1, length($1)) = $1";
        Ok(self.ask(sql, &[start.into()])?.iter().filter_map(|row| row[0].text()).collect())
    }

    /// The numbers and names of all machines, by name.
    fn by_name(&self) -> Vec<(i64, String)> {
        let mut all: Vec<(i64, String)> = self.names.iter().map(|(number, name)| (*number, name.clone())).collect();
        all.sort_unstable_by(|a, b| (&a.1, a.0).cmp(&(&b.1, b.0)));
        all
    }

    /// The names of the machines in a column, in order.
    fn names_of<'r>(&self, rows: impl IntoIterator<Item = &'r Row>, column: usize) -> Vec<String> {
        let mut names: Vec<String> = rows.into_iter().map(|row| self.name(&row[column])).collect();
        names.sort_unstable();
        names.dedup();
        names
    }

    /// The store itself.
    fn store(&mut self) -> &mut dyn Store {
        &mut *self.store
    }

    fn ask(&mut self, sql: &str, parameters: &[Value]) -> Result<Vec<Row>, StoreError> {
        self.store.ask(sql, parameters)
    }
}

/// The first of some names, and how many there are.
fn some_of(mut names: Vec<String>) -> (usize, Vec<String>) {
    let count = names.len();
    names.truncate(MAX_NAMED);
    (count, names)
}

/// Rows that agree in what `key` takes from them, together, in the order of that.
fn grouped<K: Ord>(rows: Vec<Row>, key: impl Fn(&Row) -> K) -> Vec<(K, Vec<Row>)> {
    let mut groups: std::collections::BTreeMap<K, Vec<Row>> = std::collections::BTreeMap::new();
    for row in rows {
        groups.entry(key(&row)).or_default().push(row);
    }
    groups.into_iter().collect()
}
