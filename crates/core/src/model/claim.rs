//! Claims: a manager's record that a path belongs to a package.

use hashbrown::HashSet;

use super::Evidence;
use crate::bytes::ByteString;
use crate::fs::Kind;

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
pub struct RecordPosition {
    /// The line, counted from 1.
    pub line: u32,
    /// A rule that moved the claim to another path; 0 for none.
    pub rule: u16,
}

/// One claim, as it streams out of a manager's record.
#[derive(Debug, Clone, Copy)]
pub struct Claim<'a> {
    /// The path as the record spells it, links in its directories not followed.
    pub path: &'a [u8],
    /// Who claims it.
    pub claimant: Claimant,
    /// Where it says so.
    pub position: RecordPosition,
}

/// A claim on a path that was asked about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PathClaim {
    /// Who claims it.
    pub claimant: Claimant,
    /// The path as the record spells it; where a whole tree is claimed, the tree's.
    pub path: ByteString,
    /// Where it says so.
    pub position: RecordPosition,
    /// Whether it is on a whole tree: then it says nothing of whether this very file should be there.
    pub on_tree: bool,
}

impl PathClaim {
    /// A claim on a whole tree.
    #[must_use]
    pub fn tree(package: u32, tree: impl Into<ByteString>) -> Self {
        let position = RecordPosition { line: 0, rule: 0 };
        PathClaim { claimant: Claimant::Package(package), path: tree.into(), position, on_tree: true }
    }
}

/// How a digest is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Algorithm {
    /// MD5 (RFC 1321).
    Md5,
    /// SHA-1 (FIPS 180-4).
    Sha1,
    /// SHA-256 (FIPS 180-4).
    Sha256,
    /// SHA-384 (FIPS 180-4).
    Sha384,
    /// SHA-512 (FIPS 180-4).
    Sha512,
}

/// A digest of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Digest {
    /// How it is made.
    pub algorithm: Algorithm,
    /// The digest in lower-case hexadecimal.
    pub hexadecimal: String,
}

impl Digest {
    /// From the bytes of a digest.
    #[must_use]
    pub fn of(algorithm: Algorithm, bytes: &[u8]) -> Self {
        Digest { algorithm, hexadecimal: hex::encode(bytes) }
    }

    /// From its hexadecimal form, in either case.
    #[must_use]
    pub fn from_hexadecimal(algorithm: Algorithm, text: &str) -> Self {
        Digest { algorithm, hexadecimal: text.to_ascii_lowercase() }
    }
}

/// How thoroughly files are compared with their records.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// Only whether they are there: digests, sizes and the like need not be read.
    Presence,
    /// Everything; every content is read.
    Content,
}

/// A file as a package's record describes it. What the record does not say is `None`, and is not compared.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct FileRecord {
    /// The package's number.
    pub package: u32,
    /// Where the file should be now; links in its directories not followed.
    pub path: ByteString,
    /// What sort of entry it is.
    pub kind: Option<Kind>,
    /// The digest of its content.
    pub digest: Option<Digest>,
    /// Its size in bytes.
    pub size: Option<u64>,
    /// Its permissions: the lowest twelve bits of its mode.
    pub mode: Option<u32>,
    /// The number of its owner.
    pub owner: Option<u32>,
    /// The number of its group.
    pub group: Option<u32>,
    /// When it was last written, in seconds since 1970.
    pub modified: Option<i64>,
    /// The target of a link, as spelled.
    pub target: Option<ByteString>,
    /// Whether it holds settings, which users are meant to change.
    pub is_settings: bool,
    /// Whether nothing is wrong when it is not there.
    pub may_be_absent: bool,
}

/// Where a file that a manager made leads when it is started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExecTarget {
    /// What it starts.
    pub to: ExecDestination,
    /// Whether that is chosen anew at each start.
    pub is_shim: bool,
    /// What decided the choice.
    pub why: Vec<Evidence>,
}

/// The target of a wrapper or a shim.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ExecDestination {
    /// This file.
    File(ByteString),
    /// The next program of the same name on the search path, these directories left out.
    NextOnPath(Vec<ByteString>),
    /// Nothing: a start would fail.
    Nowhere,
}

impl ExecTarget {
    /// A wrapper that always starts the same.
    #[must_use]
    pub fn wrapper(to: ByteString) -> Self {
        ExecTarget { to: ExecDestination::File(to), is_shim: false, why: Vec::new() }
    }
}

/// Which claims are asked for. What is not wanted need not be kept, and often not even be read.
#[derive(Debug, Clone)]
pub enum NameFilter {
    /// Every claim.
    All,
    /// Claims on paths whose last part is one of these names.
    Names(HashSet<Box<[u8]>>),
}

impl NameFilter {
    /// The claims on paths whose last part is among `names`.
    pub fn names<'a>(names: impl IntoIterator<Item = &'a [u8]>) -> Self {
        NameFilter::Names(names.into_iter().map(Box::from).collect())
    }

    /// Whether a path with this last part is wanted.
    #[must_use]
    pub fn has(&self, name: &[u8]) -> bool {
        match self {
            NameFilter::All => true,
            NameFilter::Names(names) => names.contains(name),
        }
    }

    /// Whether nothing at all is wanted.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        matches!(self, NameFilter::Names(names) if names.is_empty())
    }
}
