//! Where a store and all that belongs to it lies. Guix keeps its store as Nix does, at other places.

use crate::bytes::{ByteString, path};
use crate::host::User;
use crate::model::{ManagerId, Scope, package_id};

/// The places of one store.
#[derive(Debug, Clone, Copy)]
pub struct Layout {
    /// The manager.
    pub id: ManagerId,
    /// The store.
    pub store: &'static [u8],
    /// The database of valid paths.
    pub database: &'static [u8],
    /// Profiles that all users share; those of one user are in `per-user/NAME` there.
    pub profiles: &'static [u8],
    /// Links that keep paths alive, profiles apart.
    pub roots: &'static [u8],
    /// All that has to be readable for anything to be known as dead.
    pub all: &'static [&'static [u8]],
    /// Directories of a home with profiles of the user's.
    pub home_profiles: &'static [&'static str],
    /// Links in a home that lead to the user's profiles.
    pub home_links: &'static [&'static str],
    /// The name of the profile that the manager takes without being told another: the machine's, and a user's.
    pub usual: [&'static [u8]; 2],
    /// Whether commands that act on it were run in a test. Others are not printed.
    pub has_commands: bool,
}

/// Nix's.
pub const NIX: Layout = Layout {
    id: ManagerId("nix"),
    store: b"/nix/store",
    database: b"/nix/var/nix/db/db.sqlite",
    profiles: b"/nix/var/nix/profiles",
    roots: b"/nix/var/nix/gcroots",
    all: &[b"/nix"],
    home_profiles: &[".local/state/nix/profiles"],
    home_links: &[".local/state/nix/profile", ".nix-profile"],
    usual: [b"default", b"profile"],
    has_commands: true,
};

/// That of Guix.
pub const GUIX: Layout = Layout {
    id: ManagerId("guix"),
    store: b"/gnu/store",
    database: b"/var/guix/db/db.sqlite",
    profiles: b"/var/guix/profiles",
    roots: b"/var/guix/gcroots",
    all: &[b"/gnu", b"/var/guix"],
    home_profiles: &[],
    home_links: &[".guix-profile", ".guix-home", ".config/guix/current"],
    usual: [b"system", b"guix-profile"],
    has_commands: false,
};

impl Layout {
    /// The store path in which a path lies: the store, and `HASH-NAME`.
    pub fn store_path<'p>(&self, path: &'p [u8]) -> Option<&'p [u8]> {
        let below = path.strip_prefix(self.store)?.strip_prefix(b"/")?;
        let end = memchr::memchr(b'/', below).unwrap_or(below.len());
        let whole = &path[..self.store.len() + 1 + end];
        name_of(whole).map(|_| whole)
    }

    /// The id of a path of the store.
    pub fn store_id(&self, path: &[u8]) -> ByteString {
        package_id(self.id, &Scope::System, &path::join(b"store", path::name(path)))
    }

    /// Links of a user's that lead to a profile, and have no number.
    pub fn single_links(&self, user: &User) -> Vec<ByteString> {
        let mut links: Vec<ByteString> =
            self.home_links.iter().map(|link| path::join(&user.home, link.as_bytes())).collect();
        if self.id == NIX.id {
            links.insert(0, path::join(b"/etc/profiles/per-user", &user.name));
        }
        links
    }
}

/// The name of a store path, behind its hash: 32 characters of Nix's own alphabet and a hyphen.
pub fn name_of(path: &[u8]) -> Option<&[u8]> {
    let last = crate::bytes::path::name(path);
    let is_digit = |b: &u8| b.is_ascii_digit() || (b.is_ascii_lowercase() && !b"eotu".contains(b));
    let sound = last.len() > 33 && last[..32].iter().all(is_digit) && last[32] == b'-';
    sound.then(|| &last[33..])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn store_paths_are_told_by_their_hash() {
        let hash = "6m9fffkf9s19ak8zgzgi2z852z6wpzvj";
        let path = format!("/nix/store/{hash}-osier-2.3.9");
        assert_eq!(NIX.store_path(format!("{path}/bin/osier").as_bytes()), Some(path.as_bytes()));
        assert_eq!(NIX.store_path(path.as_bytes()), Some(path.as_bytes()));
        assert_eq!(name_of(path.as_bytes()), Some(&b"osier-2.3.9"[..]));
        for path in [
            "/nix/store",
            "/nix/store/.links/x",
            "/nix/store/short-x",
            &format!("/nix/store/{}-x", "e".repeat(32)),
            "/nix/storeroom",
        ] {
            assert_eq!(NIX.store_path(path.as_bytes()), None, "{path}");
        }
    }
}
