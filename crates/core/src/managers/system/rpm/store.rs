//! The database: entries by number, each the header of a package, in one of three forms.

use std::sync::{Mutex, OnceLock, PoisonError};

use hashbrown::HashSet;
use rusqlite::Connection;

use crate::backend::sqlite;
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::{Loss, Losses};
use whodunit_formats::{berkeley, ndb};

/// How a database is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// SQLite's.
    Sqlite,
    /// rpm's own.
    Ndb,
    /// Berkeley DB's hash, of old systems.
    Hash,
}

impl Form {
    /// In the order in which they are looked for.
    pub const ALL: [Form; 3] = [Form::Sqlite, Form::Ndb, Form::Hash];

    /// The name of its file.
    pub fn file(self) -> &'static str {
        match self {
            Form::Sqlite => "rpmdb.sqlite",
            Form::Ndb => "Packages.db",
            Form::Hash => "Packages",
        }
    }
}

/// An open database.
enum Opened {
    Sqlite(Box<Mutex<Connection>>),
    Ndb { image: Vec<u8>, places: Vec<(u32, std::ops::Range<usize>)> },
    Hash(berkeley::Table),
}

/// The database of one installation, opened on first use.
pub struct Store<'s> {
    root: &'s Root,
    /// The database's file.
    pub file: ByteString,
    form: Form,
    opened: OnceLock<Option<Opened>>,
    notes: Losses,
}

impl<'s> Store<'s> {
    pub fn new(root: &'s Root, dir: &[u8], form: Form) -> Self {
        let file = path::join(dir, form.file().as_bytes());
        Store { root, file, form, opened: OnceLock::new(), notes: Losses::default() }
    }

    /// What could not be read so far.
    pub fn notes(&self) -> Vec<Loss> {
        self.notes.list()
    }

    /// Notes a loss, once.
    pub fn note(&self, what: Loss) {
        self.notes.add([what]);
    }

    /// Notes that an entry is no package's header.
    pub fn note_entry(&self, number: u32) {
        let what = format!("entry {number} is damaged");
        self.note(Loss::damaged(self.file.clone(), what, "a package is unknown"));
    }

    /// Whether it was asked for and could not be opened.
    pub fn is_lost(&self) -> bool {
        matches!(self.opened.get(), Some(None))
    }

    fn opened(&self) -> Option<&Opened> {
        let opened = self.opened.get_or_init(|| {
            let opened = match self.form {
                Form::Sqlite => self.open_sqlite(),
                Form::Ndb => self.open_ndb(),
                Form::Hash => self.open_hash(),
            };
            opened.map_err(|problem| self.note(Loss::because(problem, "the packages of rpm are unknown"))).ok()
        });
        opened.as_ref()
    }

    fn open_sqlite(&self) -> Result<Opened, String> {
        Ok(Opened::Sqlite(Box::new(Mutex::new(sqlite::open(self.root, &self.file)?))))
    }

    fn open_ndb(&self) -> Result<Opened, String> {
        let image = self.root.read(&self.file, Limit::RECORD).map_err(|error| error.to_string())?;
        let blobs = ndb::blobs(&image).map_err(|error| format!("{}: {error}", self.file))?;
        let start = image.as_ptr() as usize;
        let mut places = Vec::with_capacity(blobs.len());
        for (number, blob) in blobs {
            match blob {
                Some(blob) => {
                    let at = blob.as_ptr() as usize - start;
                    places.push((number, at..at + blob.len()));
                }
                None => self.note_entry(number),
            }
        }
        Ok(Opened::Ndb { image, places })
    }

    fn open_hash(&self) -> Result<Opened, String> {
        let content = self.root.read(&self.file, Limit::RECORD).map_err(|error| error.to_string())?;
        let table = berkeley::Table::parse(content).map_err(|error| format!("{}: {error}", self.file))?;
        if table.is_cut {
            self.note(Loss::damaged(self.file.clone(), "truncated", "not every package is known"));
        }
        Ok(Opened::Hash(table))
    }

    /// Hands every entry with its number to `take`.
    pub fn each(&self, take: &mut dyn FnMut(u32, &[u8])) {
        match self.opened() {
            Some(Opened::Ndb { image, places }) => {
                places.iter().for_each(|(number, place)| take(*number, &image[place.clone()]));
            }
            Some(Opened::Hash(table)) => {
                for number in table.numbers() {
                    match table.value(number) {
                        Some(blob) => take(number, &blob),
                        None => self.note_entry(number),
                    }
                }
            }
            Some(Opened::Sqlite(connection)) => {
                let connection = connection.lock().unwrap_or_else(PoisonError::into_inner);
                let all = connection.prepare("SELECT hnum, blob FROM Packages ORDER BY hnum").and_then(|mut query| {
                    let mut rows = query.query([])?;
                    while let Some(row) = rows.next()? {
                        match (row.get(0), row.get_ref(1)?.as_blob()) {
                            (Ok(number), Ok(blob)) => take(number, blob),
                            _ => self.note(Loss::damaged(
                                self.file.clone(),
                                "an entry is damaged",
                                "a package is unknown",
                            )),
                        }
                    }
                    Ok(())
                });
                if let Err(error) = all {
                    self.note(Loss::damaged(self.file.clone(), error, "not every package is known"));
                }
            }
            None => {}
        }
    }

    /// One entry.
    pub fn one(&self, number: u32) -> Option<Vec<u8>> {
        match self.opened()? {
            Opened::Ndb { image, places } => {
                let place = places.binary_search_by_key(&number, |(other, _)| *other).ok()?;
                Some(image[places[place].1.clone()].to_vec())
            }
            Opened::Hash(table) => table.value(number),
            Opened::Sqlite(connection) => {
                let connection = connection.lock().unwrap_or_else(PoisonError::into_inner);
                let mut query = connection.prepare_cached("SELECT blob FROM Packages WHERE hnum = ?").ok()?;
                query.query_row([number], |row| row.get(0)).ok()
            }
        }
    }

    /// The numbers of the entries that the database's own index has under a name; `None` where it has no index.
    fn indexed<'n>(&self, table: &str, names: impl Iterator<Item = &'n [u8]>) -> Option<Vec<u32>> {
        let Opened::Sqlite(connection) = self.opened()? else { return None };
        let connection = connection.lock().unwrap_or_else(PoisonError::into_inner);
        let query = format!("SELECT hnum FROM {table} WHERE key = CAST(? AS TEXT)");
        let mut query = connection.prepare_cached(&query).ok()?;
        let mut found = HashSet::new();
        for name in names {
            let mut rows = query.query([name]).ok()?;
            while let Some(row) = rows.next().ok()? {
                found.insert(row.get(0).ok()?);
            }
        }
        let mut found: Vec<u32> = found.into_iter().collect();
        found.sort_unstable();
        Some(found)
    }

    /// The entries that can have a file of one of these names; `None` where all must be looked through.
    pub fn with_files(&self, names: &HashSet<Box<[u8]>>) -> Option<Vec<u32>> {
        self.indexed("Basenames", names.iter().map(|name| &**name))
    }

    /// The entries that can require one of these names; `None` where all must be looked through.
    pub fn requiring(&self, names: &HashSet<Vec<u8>>) -> Option<Vec<u32>> {
        self.indexed("Requirename", names.iter().map(|name| &**name))
    }

    /// The entries that can be packages of this name; `None` where all must be looked through.
    pub fn named(&self, name: &[u8]) -> Option<Vec<u32>> {
        self.indexed("Name", std::iter::once(name))
    }

    /// How many packages there are, keys aside, where the database's own index tells.
    pub fn count(&self) -> Option<usize> {
        match self.opened()? {
            Opened::Ndb { .. } | Opened::Hash(_) => None,
            Opened::Sqlite(connection) => {
                let connection = connection.lock().unwrap_or_else(PoisonError::into_inner);
                let query = "SELECT (SELECT count(*) FROM Name) - (SELECT count(*) FROM Name WHERE key = 'gpg-pubkey')";
                let count: i64 = connection.query_row(query, [], |row| row.get(0)).ok()?;
                usize::try_from(count).ok()
            }
        }
    }
}
