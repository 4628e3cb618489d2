//! The schemes by which managers order versions.

use std::cmp::Ordering;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::key::Key;
use super::{
    conda, debian, dewey, gem, gentoo, luarocks, macports, nix, pacman, pep440, perl, r, rpm, semver, tokens, upstream,
};

/// A scheme of ordering. Versions are only ordered within one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Scheme {
    /// conda's.
    Conda,
    /// Debian's.
    Debian,
    /// That of XBPS.
    Dewey,
    /// That of gems.
    Gem,
    /// Portage's, and apk's.
    Gentoo,
    /// That of LuaRocks.
    Luarocks,
    /// That of MacPorts.
    Macports,
    /// Nix's.
    Nix,
    /// pacman's.
    Pacman,
    /// Python's.
    Pep440,
    /// Perl's.
    Perl,
    /// R's.
    R,
    /// rpm's.
    Rpm,
    /// *Semantic Versioning*.
    Semver,
    /// A plain one, for what has none of its own.
    Tokens,
    /// Of upstream's parts, across managers.
    Upstream,
}

/// How a scheme orders, and how it writes a sort key.
type Functions = (fn(&[u8], &[u8]) -> Ordering, fn(&[u8], &mut Key));

impl Scheme {
    /// Every scheme.
    pub const ALL: [Scheme; 16] = [
        Scheme::Conda,
        Scheme::Debian,
        Scheme::Dewey,
        Scheme::Gem,
        Scheme::Gentoo,
        Scheme::Luarocks,
        Scheme::Macports,
        Scheme::Nix,
        Scheme::Pacman,
        Scheme::Pep440,
        Scheme::Perl,
        Scheme::R,
        Scheme::Rpm,
        Scheme::Semver,
        Scheme::Tokens,
        Scheme::Upstream,
    ];

    fn functions(self) -> Functions {
        match self {
            Scheme::Conda => (conda::compare, conda::key),
            Scheme::Debian => (debian::compare, debian::key),
            Scheme::Dewey => (dewey::compare, dewey::key),
            Scheme::Gem => (gem::compare, gem::key),
            Scheme::Gentoo => (gentoo::compare, gentoo::key),
            Scheme::Luarocks => (luarocks::compare, luarocks::key),
            Scheme::Macports => (macports::compare, macports::key),
            Scheme::Nix => (nix::compare, nix::key),
            Scheme::Pacman => (pacman::compare, pacman::key),
            Scheme::Pep440 => (pep440::compare, pep440::key),
            Scheme::Perl => (perl::compare, perl::key),
            Scheme::R => (r::compare, r::key),
            Scheme::Rpm => (rpm::compare, rpm::key),
            Scheme::Semver => (semver::compare, semver::key),
            Scheme::Tokens => (tokens::compare, tokens::key),
            Scheme::Upstream => (upstream::compare, upstream::key),
        }
    }

    /// Orders two versions. Any bytes are compared; what is no version of the scheme is ordered, too.
    #[must_use]
    pub fn compare(self, a: &[u8], b: &[u8]) -> Ordering {
        self.functions().0(a, b)
    }

    /// The sort key of a version: bytes whose plain order is the scheme's, for a database that orders by them.
    ///
    /// Two schemes do not put every text in one order: a version without a release (pacman) or a revision (LuaRocks) is
    /// equal to several that differ, and pacman's order of versions that end in a separator goes in a circle. Their keys
    /// are in some order.
    ///
    /// ```
    /// use whodunit_core::version::Scheme;
    /// assert!(Scheme::Debian.key(b"1.0~rc1") < Scheme::Debian.key(b"1.0"));
    /// assert_eq!(Scheme::Pep440.key(b"1.0"), Scheme::Pep440.key(b"1"));
    /// ```
    #[must_use]
    pub fn key(self, version: &[u8]) -> Vec<u8> {
        let mut key = Key::default();
        self.functions().1(version, &mut key);
        key.into_bytes()
    }
}
