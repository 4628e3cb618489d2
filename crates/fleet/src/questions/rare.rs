//! What do few machines have, and whose program differs from all others?

use schemars::JsonSchema;
use serde::Serialize;

use super::{Fleet, grouped, some_of};
use crate::store::StoreError;
use crate::value::Row;

/// A program with this content is the same on at least so many machines before another one is odd.
const USUAL: usize = 3;

/// Software that few machines have, or a file that is different on one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RareEntry {
    /// `package`, or `file` for an unowned program whose content differs.
    pub what: String,
    /// The manager; `null` for a file.
    pub manager: Option<String>,
    /// The name of the package, or the path of the file.
    pub name: String,
    /// The versions; of a file, the digest that is odd.
    pub versions: Vec<String>,
    /// How many machines have it.
    pub machines: usize,
    /// The first of them, by name.
    pub among_them: Vec<String>,
    /// Of a file: on how many machines the usual content is.
    pub usual_on: Option<usize>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Rare {
    /// What is on fewer machines than this is rare.
    pub fewer_than: usize,
    /// How many machines there are.
    pub of: usize,
    /// What is rare: the rarest first.
    pub rare: Vec<RareEntry>,
}

/// What fewer machines than this have.
///
/// # Errors
/// What the engine says.
pub fn rare(fleet: &mut Fleet, fewer_than: usize) -> Result<Rare, StoreError> {
    let rows = fleet.ask(
        "SELECT s.machine, p.manager, p.name, p.version FROM holders h \
         JOIN packages p ON p.software = h.number JOIN package_lists l ON l.item = p.package \
         JOIN latest s ON s.package_list = l.list WHERE h.what = 'software' AND h.machines < $1",
        &[fewer_than.into()],
    )?;
    let entry = |((manager, name), rows): ((String, String), Vec<Row>)| {
        let (machines, among_them) = some_of(fleet.names_of(&rows, 0));
        let mut versions: Vec<String> = rows.iter().filter_map(|row| row[3].text()).collect();
        versions.sort_unstable();
        versions.dedup();
        let manager = Some(manager);
        RareEntry { what: "package".to_owned(), manager, name, versions, machines, among_them, usual_on: None }
    };
    let groups = grouped(rows, |row| (row[1].words(), row[2].words()));
    let mut rare: Vec<RareEntry> = groups.into_iter().map(entry).collect();
    rare.extend(odd_files(fleet)?);
    rare.sort_by(|a, b| (a.machines, &a.what, &a.manager, &a.name).cmp(&(b.machines, &b.what, &b.manager, &b.name)));
    Ok(Rare { fewer_than, of: fleet.size(), rare })
}

/// Unowned programs that are on one machine other than on all the others that have them.
fn odd_files(fleet: &mut Fleet) -> Result<Vec<RareEntry>, StoreError> {
    let rows = fleet.ask(
        "SELECT s.machine, f.path, f.content FROM files f \
         JOIN file_lists l ON l.item = f.file JOIN latest s ON s.file_list = l.list \
         WHERE f.kind <> 'settings' AND f.content IS NOT NULL AND f.path IN (\
            SELECT path FROM files WHERE kind <> 'settings' AND content IS NOT NULL \
            GROUP BY path HAVING count(DISTINCT content) > 1)",
        &[],
    )?;
    let mut odd = Vec::new();
    for (path, rows) in grouped(rows, |row| row[1].words()) {
        let contents: Vec<(String, Vec<String>)> = grouped(rows, |row| row[2].words())
            .into_iter()
            .map(|(content, rows)| (content, fleet.names_of(&rows, 0)))
            .collect();
        let usual = contents.iter().map(|(_, names)| names.len()).max().unwrap_or(0);
        for (content, among_them) in contents.into_iter().filter(|(_, names)| names.len() == 1 && usual >= USUAL) {
            odd.push(RareEntry {
                what: "file".to_owned(),
                manager: None,
                name: path.clone(),
                versions: vec![content],
                machines: 1,
                among_them,
                usual_on: Some(usual),
            });
        }
    }
    Ok(odd)
}
