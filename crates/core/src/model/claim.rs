//! Claims: a manager's record that a path belongs to a package.

use hashbrown::HashSet;

/// Who claims a path, within one installation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Claimant {
    /// The package with this number in the installation.
    Package(u32),
    /// The group of links with this number: its manager placed the link, but owns no program.
    Group(u32),
}

/// Where in the manager's record a claim stands. Only the manager that made it can read it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mark {
    /// The line, counted from 1.
    pub line: u32,
    /// A rule that moved the claim to another path; 0 for none.
    pub rule: u16,
}

/// One claim, as it streams out of a manager's record.
#[derive(Debug, Clone, Copy)]
pub struct Claim<'a> {
    /// The path as the record spells it, links in its folders not followed.
    pub path: &'a [u8],
    /// Who claims it.
    pub claimant: Claimant,
    /// Where it says so.
    pub mark: Mark,
}

/// Which claims are asked for. What is not wanted need not be kept, and often not even be read.
#[derive(Debug, Clone)]
pub enum Wanted {
    /// Every claim.
    All,
    /// Claims on paths whose last part is one of these names.
    Names(HashSet<Box<[u8]>>),
}

impl Wanted {
    /// The claims on paths whose last part is among `names`.
    pub fn names<'a>(names: impl IntoIterator<Item = &'a [u8]>) -> Self {
        Wanted::Names(names.into_iter().map(Box::from).collect())
    }

    /// Whether a path with this last part is wanted.
    #[must_use]
    pub fn has(&self, name: &[u8]) -> bool {
        match self {
            Wanted::All => true,
            Wanted::Names(names) => names.contains(name),
        }
    }

    /// Whether nothing at all is wanted.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        matches!(self, Wanted::Names(names) if names.is_empty())
    }
}
