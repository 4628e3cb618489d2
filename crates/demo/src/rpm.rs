//! Machines of rpm's family: a database in SQLite's form, with the indexes that rpm keeps.

use rusqlite::{Connection, params};

use crate::WriteError;
use crate::machine::SET_UP;
use crate::tree::Tree;

const FILE: &str = "/var/lib/rpm/rpmdb.sqlite";

/// The indexes without which rpm takes the database for a new one.
const INDEXES: [&str; 18] = [
    "Name",
    "Basenames",
    "Group",
    "Requirename",
    "Providename",
    "Conflictname",
    "Obsoletename",
    "Triggername",
    "Dirnames",
    "Installtid",
    "Sigmd5",
    "Sha1header",
    "Filetriggername",
    "Transfiletriggername",
    "Recommendname",
    "Suggestname",
    "Supplementname",
    "Enhancename",
];

/// A package with files of its own in `/usr/bin/` and, with the number of its directory, elsewhere.
pub struct Package {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its release.
    pub release: &'static str,
    /// The directories that its files lie in, each with a slash at the end.
    pub dirs: Vec<String>,
    /// Its files: which of the directories, and the name there.
    pub files: Vec<(u32, String)>,
    /// The SHA-256 of each file, as hexadecimal digits.
    pub digest: String,
}

impl Package {
    fn header(&self) -> Vec<u8> {
        let size = u32::try_from(self.files.len() * 10).unwrap_or(u32::MAX);
        HeaderBuilder::default()
            .text(1000, &self.name)
            .text(1001, &self.version)
            .text(1002, self.release)
            .text(1011, "Quay")
            .text(1022, "noarch")
            .numbers(1008, [u32::try_from(SET_UP).unwrap_or(0)])
            .numbers(1009, [size])
            .bytes(1029, &vec![0; self.files.len()])
            .texts(1035, self.files.iter().map(|_| self.digest.as_str()))
            .texts(1117, self.files.iter().map(|(_, name)| name.as_str()))
            .texts(1118, self.dirs.iter().map(String::as_str))
            .numbers(1116, self.files.iter().map(|(dir, _)| *dir))
            .build()
    }
}

/// A database of these packages.
pub fn write(tree: &Tree, packages: impl IntoIterator<Item = Package>) -> Result<(), WriteError> {
    tree.dir("/var/lib/rpm")?;
    let trouble = |error: rusqlite::Error| tree.trouble(FILE, error);
    let mut connection = Connection::open(tree.place(FILE)).map_err(trouble)?;
    connection
        .execute_batch(
            "PRAGMA page_size = 4096;
             CREATE TABLE 'Packages' (hnum INTEGER PRIMARY KEY AUTOINCREMENT, blob BLOB NOT NULL);",
        )
        .map_err(trouble)?;
    for index in INDEXES {
        let columns = "(key 'TEXT' NOT NULL, hnum INTEGER NOT NULL, idx INTEGER NOT NULL)";
        let sql = format!("CREATE TABLE '{index}' {columns}; CREATE INDEX '{index}_key_idx' ON '{index}'(key ASC);");
        connection.execute_batch(&sql).map_err(trouble)?;
    }
    let transaction = connection.transaction().map_err(trouble)?;
    for (number, package) in (1_u32..).zip(packages) {
        let insert = |sql: &str, row: &[&dyn rusqlite::ToSql]| transaction.prepare_cached(sql)?.execute(row);
        insert("INSERT INTO Packages VALUES (?, ?)", params![number, package.header()]).map_err(trouble)?;
        insert("INSERT INTO Name VALUES (?, ?, 0)", params![package.name, number]).map_err(trouble)?;
        for (place, (_, name)) in (0_u32..).zip(&package.files) {
            insert("INSERT INTO Basenames VALUES (?, ?, ?)", params![name, number, place]).map_err(trouble)?;
        }
    }
    transaction.commit().map_err(trouble)
}

/// A database of so many packages with so many files each, for measurements.
pub fn write_large(tree: &Tree, packages: u32, files: u32) -> Result<(), WriteError> {
    tree.file("/usr/bin/rope-0001-000", b"#!/bin/sh\n", 0o755, SET_UP)?;
    let rope = |number: u32| {
        let name = format!("rope-{number:04}");
        Package {
            version: format!("1.{number}"),
            release: "1.fn1",
            dirs: vec!["/usr/bin/".to_owned(), format!("/usr/share/{name}/")],
            files: (0..files).map(|file| (u32::from(file > 0), format!("{name}-{file:03}"))).collect(),
            digest: "9c".repeat(32),
            name,
        }
    };
    write(tree, (1..=packages).map(rope))
}

/// Puts a header together: for tests of readers, and for measurements.
#[derive(Debug, Default)]
pub struct HeaderBuilder {
    entries: Vec<(u32, u32, Vec<u8>, usize)>,
}

impl HeaderBuilder {
    /// Adds a text.
    #[must_use]
    pub fn text(mut self, tag: u32, text: &str) -> Self {
        self.entries.push((tag, 6, [text.as_bytes(), b"\0"].concat(), 1));
        self
    }

    /// Adds a list of texts.
    #[must_use]
    pub fn texts<'t>(mut self, tag: u32, texts: impl IntoIterator<Item = &'t str>) -> Self {
        let mut count = 0;
        let mut data = Vec::new();
        for text in texts {
            data.extend([text.as_bytes(), b"\0"].concat());
            count += 1;
        }
        self.entries.push((tag, 8, data, count));
        self
    }

    /// Adds a list of 8-bit numbers.
    #[must_use]
    pub fn bytes(mut self, tag: u32, bytes: &[u8]) -> Self {
        self.entries.push((tag, 1, bytes.to_vec(), bytes.len()));
        self
    }

    /// Adds a list of 32-bit numbers.
    #[must_use]
    pub fn numbers(mut self, tag: u32, numbers: impl IntoIterator<Item = u32>) -> Self {
        let data: Vec<u8> = numbers.into_iter().flat_map(u32::to_be_bytes).collect();
        let count = data.len() / 4;
        self.entries.push((tag, 4, data, count));
        self
    }

    /// The blob.
    #[must_use]
    pub fn build(self) -> Vec<u8> {
        let (mut index, mut store) = (Vec::new(), Vec::new());
        let words =
            |index: &mut Vec<u8>, words: [u32; 4]| index.extend(words.iter().flat_map(|word| word.to_be_bytes()));
        let length = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        let count = length(self.entries.len() + 1);
        for (tag, kind, data, count) in self.entries {
            if kind == 4 {
                store.resize(store.len().next_multiple_of(4), 0);
            }
            words(&mut index, [tag, kind, length(store.len()), length(count)]);
            store.extend(data);
        }
        // The region comes first in the index, and its trailer last in the store.
        let mut region = Vec::new();
        words(&mut region, [63, 7, length(store.len()), 16]);
        words(&mut store, [63, 7, 0_u32.wrapping_sub(count * 16), 16]);
        let mut blob = Vec::new();
        blob.extend(count.to_be_bytes());
        blob.extend(length(store.len()).to_be_bytes());
        blob.extend(region);
        blob.extend(index);
        blob.extend(store);
        blob
    }
}
