//! Where profiles lie, and their numbered generations.

use super::layout::Layout;
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::Host;
use crate::model::Scope;

/// A profile: a link whose name others share with a number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Profile {
    /// The link itself.
    pub link: ByteString,
    /// Whose it is.
    pub scope: Scope,
    /// Whether its programs are on the user's or machine's usual path: the profile that `nix-env`
    /// and `nix profile` take without being told another.
    pub usual: bool,
}

/// One generation.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Generation {
    /// The link that keeps it.
    pub link: ByteString,
    /// Its number.
    pub number: u64,
    /// The store path that it leads to.
    pub target: ByteString,
    /// When it was made: seconds since 1970.
    pub made: i64,
}

/// Every profile of the machine and of the users whose homes count, in all places where old and new
/// releases, and configuration managers, keep them.
pub fn find(host: &Host, layout: &Layout) -> Vec<Profile> {
    let [usual_of_machine, usual_of_user] = layout.usual;
    let mut found = Vec::new();
    for link in links_in(host, layout.profiles) {
        let usual = path::name(&link) == usual_of_machine;
        found.push(Profile { link, scope: Scope::System, usual });
    }
    for user in &host.users {
        let scope = Scope::User(user.name.clone());
        let of_user = path::join(&path::join(layout.profiles, b"per-user"), &user.name);
        let own = layout.home_profiles.iter().map(|dir| path::join(&user.home, dir.as_bytes()));
        for link in std::iter::once(of_user).chain(own).flat_map(|dir| links_in(host, &dir)) {
            let usual = path::name(&link) == usual_of_user;
            found.push(Profile { link, scope: scope.clone(), usual });
        }
        // Without numbers: a link into the store itself, or to a profile in a place of its own.
        for link in layout.single_links(user) {
            let leads =
                host.root.read_link(&link).map(|to| host.root.canonicalize(&path::absolute(&to, path::parent(&link))));
            let known = |found: &[Profile], to: &ByteString| {
                found.iter().any(|profile| host.root.canonicalize(&profile.link) == *to)
            };
            match leads {
                Ok(to) if known(&found, &to) => {}
                Ok(to) if is_numbered(path::name(&to)).is_some() => {}
                Ok(to) if host.root.entry(&to).is_ok_and(|meta| meta.kind == Kind::Link) && to.starts_with(b"/") => {
                    found.push(Profile { link: to, scope: scope.clone(), usual: true });
                }
                Ok(to) if layout.store_path(&to).is_some() => {
                    found.push(Profile { link, scope: scope.clone(), usual: true });
                }
                _ => {}
            }
        }
    }
    found
}

/// The links in a directory that are profiles and not generations.
fn links_in(host: &Host, dir: &[u8]) -> Vec<ByteString> {
    let Ok(names) = host.root.dir(dir).and_then(|dir| dir.list()) else { return Vec::new() };
    let profiles = names.into_iter().filter(|(name, kind)| *kind == Kind::Link && is_numbered(name).is_none());
    profiles.map(|(name, _)| path::join(dir, &name)).collect()
}

/// `NAME-7-link` → 7.
fn is_numbered(name: &[u8]) -> Option<u64> {
    let stem = name.strip_suffix(b"-link")?;
    let at = memchr::memrchr(b'-', stem)?;
    std::str::from_utf8(&stem[at + 1..]).ok()?.parse().ok()
}

impl Profile {
    /// The profile's name.
    pub fn name(&self) -> &[u8] {
        path::name(&self.link)
    }

    /// Its generations, by number.
    pub fn generations(&self, host: &Host) -> Vec<Generation> {
        let dir = path::parent(&self.link);
        let Ok(names) = host.root.dir(dir).and_then(|dir| dir.list()) else { return Vec::new() };
        let start = [self.name(), b"-"].concat();
        let numbered = names.iter().filter(|(name, kind)| *kind == Kind::Link && name.starts_with(&start)).filter_map(
            |(name, _)| {
                // The name may itself hold hyphens: only the number may follow it.
                let number = is_numbered(name)?;
                (name.len() == start.len() + number.to_string().len() + b"-link".len())
                    .then(|| (number, path::join(dir, name)))
            },
        );
        let mut generations: Vec<Generation> = numbered
            .filter_map(|(number, link)| {
                let target = host.root.read_link(&link).ok()?;
                let made = host.root.entry(&link).ok()?.modified;
                Some(Generation { target: path::absolute(&target, dir), link, number, made })
            })
            .collect();
        generations.sort_by_key(|generation| generation.number);
        generations
    }

    /// The number of the generation in force, and the store path that the profile leads to.
    pub fn current(&self, host: &Host, layout: &Layout) -> (Option<u64>, Option<ByteString>) {
        let Ok(first) = host.root.read_link(&self.link) else { return (None, None) };
        let number = is_numbered(path::name(&first));
        let mut at = host.root.canonicalize(&path::absolute(&first, path::parent(&self.link)));
        // The profile leads to a generation, and that into the store; both hops are links.
        for _ in 0..8 {
            if layout.store_path(&at).is_some() {
                return (number, Some(at));
            }
            match host.root.read_link(&at) {
                Ok(next) => at = host.root.canonicalize(&path::absolute(&next, path::parent(&at))),
                Err(_) => break,
            }
        }
        (number, None)
    }
}
