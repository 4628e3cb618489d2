//! The store: names of paths, and the database of those that are valid.

use std::hash::BuildHasher as _;
use std::sync::{Mutex, OnceLock, PoisonError};

use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use rusqlite::Connection;

use super::layout::{Layout, name_of};
use crate::backend::sqlite;
use crate::bytes::{ByteString, path};
use crate::fs::Root;
use crate::host::Host;
use crate::model::{Loss, Losses};
use crate::version::nix;

/// One valid path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    pub id: i64,
    pub path: ByteString,
    /// When it was registered: seconds since 1970.
    pub registered: Option<i64>,
    /// Bytes of its archive form; 0 where that is not recorded.
    pub size: u64,
    /// The plan by which it was built.
    pub deriver: Option<ByteString>,
}

/// The store of one machine. The database is read on first use.
pub struct Store<'s> {
    host: &'s Host,
    /// Where it lies.
    pub layout: &'static Layout,
    read: OnceLock<Database>,
    links: OnceLock<Links>,
    notes: Losses,
}

#[derive(Default)]
struct Database {
    connection: Option<Mutex<Connection>>,
    rows: Vec<Row>,
    by_path: HashTable<usize>,
    hasher: DefaultHashBuilder,
}

impl Database {
    fn place(&self, path: &[u8]) -> Option<usize> {
        let is_it = |&place: &usize| *self.rows[place].path == *path;
        self.by_path.find(self.hasher.hash_one(path), is_it).copied()
    }

    /// A path has one row; of several in a damaged database, the first.
    fn add(&mut self, row: Row) {
        if self.place(&row.path).is_some() {
            return;
        }
        let place = self.rows.len();
        let (rows, hasher) = (&self.rows, &self.hasher);
        let hash = |&other: &usize| hasher.hash_one(rows.get(other).map_or(&*row.path, |row| &*row.path));
        self.by_path.insert_unique(hasher.hash_one(&*row.path), place, hash);
        self.rows.push(row);
    }
}

/// Who refers to whom, by the places in [`Store::rows`].
#[derive(Debug, Default)]
pub struct Links {
    /// The paths that each path refers to.
    pub references: HashMap<usize, Vec<usize>>,
    /// The plan that each output was built by, while it is still there.
    pub plans: HashMap<usize, Vec<usize>>,
}

impl<'s> Store<'s> {
    pub fn new(host: &'s Host, layout: &'static Layout) -> Self {
        Store { host, layout, read: OnceLock::new(), links: OnceLock::new(), notes: Losses::default() }
    }

    /// What could not be read of the database.
    pub fn notes(&self) -> Vec<Loss> {
        self.notes.list()
    }

    /// Whether the database and all roots could be read: else nothing is known to be dead.
    pub fn is_whole(&self) -> bool {
        let is_of_it = |place: &[u8]| self.layout.all.iter().any(|top| path::within(place, top));
        self.notes.list().is_empty() && !self.host.root.gaps().iter().any(|gap| is_of_it(&gap.path))
    }

    fn note(&self, note: Loss) {
        self.notes.add([note]);
    }

    fn database(&self) -> &Database {
        self.read.get_or_init(|| match read(&self.host.root, self.layout.database) {
            Ok(read) => read,
            Err(error) => {
                self.note(Loss::because(error, "which store paths are valid, and since when, is unknown"));
                Database::default()
            }
        })
    }

    /// Whether the database has been read, or its reading been tried.
    pub fn is_read(&self) -> bool {
        self.read.get().is_some()
    }

    /// Every valid path.
    pub fn rows(&self) -> &[Row] {
        &self.database().rows
    }

    /// The place of a path among the rows.
    pub fn place(&self, path: &[u8]) -> Option<usize> {
        self.database().place(path)
    }

    /// The row of a path.
    pub fn row(&self, path: &[u8]) -> Option<&Row> {
        self.place(path).map(|place| &self.rows()[place])
    }

    /// Who refers to whom.
    pub fn links(&self) -> &Links {
        self.links.get_or_init(|| match self.read_links() {
            Ok(links) => links,
            Err(error) => {
                self.note(Loss::damaged(self.layout.database, error, "references between store paths are unknown"));
                Links::default()
            }
        })
    }

    fn read_links(&self) -> rusqlite::Result<Links> {
        let database = self.database();
        let mut links = Links::default();
        let Some(connection) = &database.connection else { return Ok(links) };
        let connection = connection.lock().unwrap_or_else(PoisonError::into_inner);
        let by_id: HashMap<i64, usize> = database.rows.iter().enumerate().map(|(place, row)| (row.id, place)).collect();
        let mut refs = connection.prepare("SELECT referrer, reference FROM Refs")?;
        let mut rows = refs.query([])?;
        while let Some(row) = rows.next()? {
            if let (Some(&from), Some(&to)) = (by_id.get(&row.get::<_, i64>(0)?), by_id.get(&row.get::<_, i64>(1)?)) {
                links.references.entry(from).or_default().push(to);
            }
        }
        let mut outputs = connection.prepare("SELECT drv, path FROM DerivationOutputs")?;
        let mut rows = outputs.query([])?;
        while let Some(row) = rows.next()? {
            let path: String = row.get(1)?;
            if let (Some(&plan), Some(output)) = (by_id.get(&row.get::<_, i64>(0)?), database.place(path.as_bytes())) {
                links.plans.entry(output).or_default().push(plan);
            }
        }
        Ok(links)
    }

    /// The paths that a path refers to, itself apart.
    pub fn references(&self, path: &[u8]) -> Vec<&Row> {
        let Some(place) = self.place(path) else { return Vec::new() };
        let references = self.links().references.get(&place);
        references.into_iter().flatten().filter(|&&other| other != place).map(|&other| &self.rows()[other]).collect()
    }

    /// Name and version: by the plan that built the path, for an output's name has its own suffix; else
    /// by the path's name.
    pub fn name_and_version(&self, path: &[u8]) -> (ByteString, Option<ByteString>) {
        let deriver = self.row(path).and_then(|row| row.deriver.as_ref());
        let plan = deriver.and_then(|plan| name_of(plan)).and_then(|name| name.strip_suffix(b".drv"));
        let own = name_of(path).unwrap_or(path);
        // A plan of another name built it for somebody else, as one does that unpacks sources.
        let whole = plan.filter(|plan| own.starts_with(plan)).unwrap_or(own);
        let (name, version) = nix::split(whole);
        (name.into(), version.map(ByteString::from))
    }
}

fn read(root: &Root, file: &[u8]) -> Result<Database, String> {
    rows(sqlite::open(root, file)?).map_err(|error| format!("{}: {error}", ByteString::from(file)))
}

fn rows(connection: Connection) -> rusqlite::Result<Database> {
    let mut found = Database::default();
    {
        let mut query = connection.prepare("SELECT id, path, registrationTime, narSize, deriver FROM ValidPaths")?;
        let mut rows = query.query([])?;
        while let Some(row) = rows.next()? {
            let path: String = row.get(1)?;
            let deriver: Option<String> = row.get(4)?;
            let row = Row {
                id: row.get(0)?,
                path: path.into(),
                registered: row.get(2)?,
                size: row.get::<_, Option<i64>>(3)?.and_then(|size| u64::try_from(size).ok()).unwrap_or(0),
                deriver: deriver.filter(|plan| !plan.is_empty()).map(ByteString::from),
            };
            found.add(row);
        }
    }
    found.connection = Some(Mutex::new(connection));
    Ok(found)
}

/// Whether a store path is a part of the manager's own work and not a piece of software: a plan, the
/// make-up of a profile, a system or a home, a lock.
pub fn is_internal(path: &[u8]) -> bool {
    let Some(name) = name_of(path) else { return true };
    let whole: [&[u8]; 7] =
        [b"source", b"user-environment", b"env-manifest.nix", b"profile", b"home-manager-path", b"system", b"home"];
    whole.contains(&name)
        || [&b".drv"[..], b".lock", b"-source", b".tar.gz", b".tar.xz", b".patch"].iter().any(|end| name.ends_with(end))
}
