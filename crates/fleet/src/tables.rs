//! The tables of a store, as far as rows are written to them. Their whole definition is `schema.sql`.

/// The type of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Type {
    /// A whole number of 64 bits.
    Int,
    /// Text.
    Text,
    /// Bytes.
    Bytes,
}

use Type::{Bytes, Int, Text};

/// A table: its name, and its columns in the order in which rows have them.
#[derive(Debug, Clone, Copy)]
pub struct Table {
    /// Its name.
    pub name: &'static str,
    /// Its columns.
    pub columns: &'static [(&'static str, Type)],
}

/// The machines.
pub const MACHINES: Table = Table { name: "machines", columns: &[("machine", Int), ("identity", Text)] };

/// The snapshots.
pub const SNAPSHOTS: Table = Table {
    name: "snapshots",
    columns: &[
        ("snapshot", Int),
        ("machine", Int),
        ("taken_at", Text),
        ("loaded_at", Text),
        ("file_digest", Text),
        ("host", Text),
        ("system", Text),
        ("written_by", Text),
        ("losses", Int),
        ("packages", Int),
        ("software", Int),
        ("package_list", Int),
        ("winner_list", Int),
        ("source_list", Int),
        ("file_list", Int),
        ("finding_list", Int),
        ("offer_list", Int),
    ],
};

/// Which contexts of which users a set of contexts has.
pub const CONTEXTS: Table = Table { name: "contexts", columns: &[("contexts", Int), ("who", Text), ("context", Text)] };

/// The places of packages and offers in packed lists.
pub const PLACES: Table = Table { name: "places", columns: &[("place", Int), ("item", Int)] };

/// The lists of packages and of offers, packed.
pub const PACKED_LISTS: Table = Table { name: "packed_lists", columns: &[("list", Int), ("items", Bytes)] };

/// On how many machines software and releases are.
pub const HOLDERS: Table = Table { name: "holders", columns: &[("what", Text), ("number", Int), ("machines", Int)] };

/// What lists are made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Entity {
    /// Installed packages.
    Packages,
    /// Files that a name starts.
    Winners,
    /// Sources of packages.
    Sources,
    /// Unowned programs and settings.
    Files,
    /// Findings.
    Findings,
    /// Newer versions.
    Offers,
}

impl Entity {
    /// Every one, in the order of the columns of [`SNAPSHOTS`] that name their lists.
    pub const ALL: [Entity; 6] =
        [Entity::Packages, Entity::Winners, Entity::Sources, Entity::Files, Entity::Findings, Entity::Offers];

    /// The column of [`SNAPSHOTS`] that names the list of a snapshot.
    #[must_use]
    pub const fn column(self) -> usize {
        FIRST_LIST + self as usize
    }

    /// The table that has each of them once.
    #[must_use]
    pub fn table(self) -> Table {
        let (name, columns): (&str, &[(&str, Type)]) = match self {
            Entity::Packages => ("packages", PACKAGES),
            Entity::Winners => ("winners", &[("winner", Int), ("name", Text), ("path", Text), ("owner", Text)]),
            Entity::Sources => ("sources", SOURCES),
            Entity::Files => ("files", &[("file", Int), ("path", Text), ("kind", Text), ("content", Text)]),
            Entity::Findings => ("findings", FINDINGS),
            Entity::Offers => ("offers", OFFERS),
        };
        Table { name, columns }
    }

    /// The table that says which lists have which.
    #[must_use]
    pub fn lists(self) -> Table {
        let name = match self {
            Entity::Packages => "package_lists",
            Entity::Winners => "winner_lists",
            Entity::Sources => "source_lists",
            Entity::Files => "file_lists",
            Entity::Findings => "finding_lists",
            Entity::Offers => "offer_lists",
        };
        let columns: &[(&str, Type)] = match self {
            Entity::Winners => &[("list", Int), ("item", Int), ("contexts", Int)],
            _ => &[("list", Int), ("item", Int)],
        };
        Table { name, columns }
    }
}

/// The first column of [`SNAPSHOTS`] that names a list.
const FIRST_LIST: usize = 11;

const PACKAGES: &[(&str, Type)] = &[
    ("package", Int),
    ("software", Int),
    ("release", Int),
    ("id", Text),
    ("manager", Text),
    ("scope", Text),
    ("location", Text),
    ("name", Text),
    ("title", Text),
    ("version", Text),
    ("version_key", Bytes),
    ("upstream", Text),
    ("upstream_key", Bytes),
    ("arch", Text),
    ("kind", Text),
    ("channel", Text),
    ("revision", Text),
    ("origin", Text),
    ("reason", Text),
    ("status", Text),
    ("held", Int),
    ("active", Int),
    ("size", Int),
];

const SOURCES: &[(&str, Type)] = &[
    ("source", Int),
    ("manager", Text),
    ("scope", Text),
    ("name", Text),
    ("url", Text),
    ("enabled", Int),
    ("signed", Text),
];

const FINDINGS: &[(&str, Type)] = &[
    ("finding", Int),
    ("kind", Text),
    ("severity", Text),
    ("cause", Text),
    ("subject", Text),
    ("summary", Text),
    ("users", Text),
];

const OFFERS: &[(&str, Type)] =
    &[("offer", Int), ("package", Int), ("version", Text), ("version_key", Bytes), ("source", Text)];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_column_of_a_list_is_named_after_its_table() {
        for entity in Entity::ALL {
            assert_eq!(format!("{}s", SNAPSHOTS.columns[entity.column()].0), entity.lists().name);
        }
    }
}
