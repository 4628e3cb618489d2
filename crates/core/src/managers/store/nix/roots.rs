//! What keeps a store path alive (Nix manual, "Garbage Collector Roots").
//!
//! Every link below `/nix/var/nix/gcroots` and `/nix/var/nix/profiles` that leads into the store is a
//! root. One that leads elsewhere, as all below `auto/` do, is a root if there is a link at that place
//! that leads into the store: one hop, and no second. A file whose name is that of a store path is a root
//! for it. From the roots, everything that is referred to lives, and so does the plan of a living output
//! (the setting `keep-derivations`, which is on unless turned off).
//!
//! A running machine also keeps what its processes use; that is not looked at.

use std::collections::BTreeMap;

use hashbrown::HashSet;

use super::layout::Layout;
use super::store::Store;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Root, WalkLimits};

/// The roots, and what they keep.
#[derive(Debug, Default)]
pub struct Alive {
    /// Store path → the links that root it.
    pub roots: BTreeMap<ByteString, Vec<ByteString>>,
    living: HashSet<usize>,
}

const LIMITS: WalkLimits = WalkLimits { depth: 16, entries: 1_000_000 };

impl Alive {
    /// Looks at every root and follows the references.
    pub fn of(root: &Root, store: &Store<'_>) -> Self {
        let mut alive = Alive::default();
        let layout = store.layout;
        for place in [layout.roots, layout.profiles] {
            root.walk(place, LIMITS, &mut |found| {
                if let Some((link, target)) = rooted(root, layout, found.path, found.kind) {
                    let links = alive.roots.entry(target).or_default();
                    if !links.contains(&link) {
                        links.push(link);
                    }
                }
                true
            });
        }
        alive.living = living(store, alive.roots.keys());
        alive
    }

    /// Bytes of what lives by these links alone, as the store has recorded them.
    pub fn freed_without(&self, store: &Store<'_>, given_up: &[&ByteString]) -> u64 {
        let stays = |links: &[ByteString]| links.iter().any(|link| !given_up.contains(&link));
        let left = living(store, self.roots.iter().filter(|(_, links)| stays(links)).map(|(path, _)| path));
        self.living.difference(&left).map(|place| store.rows()[*place].size).sum()
    }

    /// Whether something keeps the path.
    pub fn keeps(&self, store: &Store<'_>, path: &[u8]) -> bool {
        store.place(path).is_some_and(|place| self.living.contains(&place))
    }

    /// The links that keep a path: those that root it, else those that root something that needs it.
    pub fn keepers(&self, store: &Store<'_>, path: &[u8]) -> Vec<ByteString> {
        if let Some(links) = self.roots.get(path) {
            return links.clone();
        }
        let Some(wanted) = store.place(path) else { return Vec::new() };
        let needs = |from: &ByteString| {
            let (mut seen, mut open) = (HashSet::new(), Vec::from_iter(store.place(from)));
            while let Some(place) = open.pop() {
                if place == wanted {
                    return true;
                }
                if seen.insert(place) {
                    open.extend(store.links().references.get(&place).into_iter().flatten());
                }
            }
            false
        };
        self.roots.iter().filter(|(rooted, _)| needs(rooted)).flat_map(|(_, links)| links.clone()).collect()
    }
}

/// What lives by these paths.
fn living<'p>(store: &Store<'_>, roots: impl Iterator<Item = &'p ByteString>) -> HashSet<usize> {
    let links = store.links();
    let mut open: Vec<usize> = roots.filter_map(|path| store.place(path)).collect();
    let mut living = HashSet::new();
    while let Some(place) = open.pop() {
        if living.insert(place) {
            open.extend(links.references.get(&place).into_iter().flatten());
            open.extend(links.plans.get(&place).into_iter().flatten());
        }
    }
    living
}

/// The link by which something is rooted, and the store path that it roots.
fn rooted(root: &Root, layout: &Layout, found: &ByteString, kind: Kind) -> Option<(ByteString, ByteString)> {
    match kind {
        Kind::Link => {
            let first = path::absolute(&root.read_link(found).ok()?, path::parent(found));
            if let Some(rooted) = layout.store_path(&first) {
                return Some((found.clone(), rooted.into()));
            }
            let second = root.read_link(&first).ok()?;
            let second = path::absolute(&second, path::parent(&first));
            layout.store_path(&second).map(|rooted| (first.clone(), rooted.into()))
        }
        Kind::File => {
            let named = path::join(layout.store, path::name(found));
            layout.store_path(&named).map(|rooted| (found.clone(), rooted.into()))
        }
        _ => None,
    }
}
