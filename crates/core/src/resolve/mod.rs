//! Search paths, and the resolution of names to programs.
//!
//! Lookup follows the POSIX shell (XCU 2.9.1.4, XBD 8.3 `PATH`): directories in order; an empty entry is
//! the current directory; what is no regular file, or is not executable, is skipped. Every copy is
//! found, not only the first. A file that is reached twice, through `/bin` and `/usr/bin` or through a
//! link, is one copy.

pub mod contexts;
pub mod hints;
pub mod launchers;
pub mod libraries;
pub mod manuals;
pub mod modules;
mod places;
mod resolution;
mod shell_files;
pub mod temporary;
pub mod words;

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Meta, Root};
use crate::host::{ENVIRONMENT, Host};
use crate::model::Evidence;
use hashbrown::HashSet;

pub use contexts::{Context, Overrides, Possible, ResolvedContext, resolve_context};
pub use places::{program_dirs, trees_of_programs};
use words::Words;

pub use resolution::{End, How, Resolution, Script, Step};

/// One directory of a search path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its place in the list, from 1.
    pub number: usize,
    /// As the list spells it; empty for the current directory.
    pub spelled: ByteString,
    /// The directory that is searched, absolute.
    pub dir: ByteString,
    /// The path with every link followed.
    pub canonical: ByteString,
    /// Who says so.
    pub because: Evidence,
}

/// A search path for commands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SearchPath {
    /// The context that it stands for.
    pub context: Context,
    /// Its directories in order. Those searched already under another spelling are left out.
    pub entries: Vec<Entry>,
    /// Entries that nothing can be said of, and why.
    pub unknown: Vec<Evidence>,
    /// Directories that may be in it.
    pub possible: Vec<Possible>,
    /// Whether a user gave the list.
    pub is_given: bool,
    /// Whose it is, where it is a user's.
    pub user: Option<ByteString>,
    /// What the context's shell takes names for, before it searches.
    pub words: Option<Arc<Words>>,
}

/// A file that a name reaches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Copy {
    /// The path under which it is found.
    pub path: ByteString,
    /// The place in the list of the directory that reaches it, from 0.
    pub entry: usize,
    /// The file's own metadata, links followed.
    pub meta: Meta,
}

/// The copies that a name reaches, and what was skipped on the way.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Reached {
    /// In order: the winner first.
    pub copies: Vec<Copy>,
    /// Files of that name that cannot be started, and why.
    pub skipped: Vec<Evidence>,
}

/// The most of an entry that cannot be a directory that is shown.
const MAX_SHOWN: usize = 200;

impl SearchPath {
    /// The search path of a context: of the user whose login stands for all.
    #[must_use]
    pub fn of(host: &Host, context: Context) -> Self {
        match context {
            Context::Here => {
                let list = host.env.path.clone().unwrap_or_default();
                let because = |number| Evidence::at(ENVIRONMENT, format!("PATH, entry {number}"), "");
                Self::from_list(host, context, numbered(&list, because), Vec::new())
            }
            _ => Self::in_context(
                host,
                &resolve_context(host, context, &contexts::default_user(host), &Overrides::default()),
            ),
        }
    }

    /// The search path that a context has.
    #[must_use]
    pub fn in_context(host: &Host, resolved: &ResolvedContext) -> Self {
        let (listed, unknown) = resolved.list("PATH");
        let listed = listed.into_iter().map(|one| (one.dir, one.because)).collect();
        SearchPath {
            user: Some(resolved.user.name.clone()),
            words: Words::of(resolved).map(Arc::new),
            possible: resolved.possibles(),
            ..Self::from_list(host, resolved.context, listed, unknown)
        }
    }

    /// The search path that a user gave.
    #[must_use]
    pub fn given(host: &Host, context: Context, list: &[u8]) -> Self {
        let listed = numbered(list, |number| Evidence::entry("--path", number, ""));
        SearchPath { is_given: true, ..Self::from_list(host, context, listed, Vec::new()) }
    }

    fn from_list(host: &Host, context: Context, list: Vec<(ByteString, Evidence)>, unknown: Vec<Evidence>) -> Self {
        let (entries, possible) = (Vec::new(), Vec::new());
        let mut path = SearchPath { context, entries, unknown, possible, is_given: false, user: None, words: None };
        let mut seen = HashSet::new();
        for (number, (spelled, mut because)) in (1..).zip(list) {
            if !spelled.starts_with(b"/") && !host.root.is_live() {
                let shown = ByteString::from(&spelled[..spelled.len().min(MAX_SHOWN)]);
                let more = if spelled.len() > MAX_SHOWN { "…" } else { "" };
                because.says = format!("{shown:?}{more} depends on the current directory; skipped");
                path.unknown.push(because);
                continue;
            }
            let dir = path::absolute(&spelled, &host.env.dir);
            let canonical = host.root.canonicalize_dir(&dir);
            if because.says.is_empty() {
                because.says = format!("the search path contains {dir}");
            }
            if seen.insert(canonical.clone()) {
                path.entries.push(Entry { number, spelled, dir, canonical, because });
            }
        }
        path
    }

    /// The first program of a name in these directories alone.
    #[must_use]
    pub fn first_in(&self, host: &Host, dirs: &[ByteString], name: &[u8]) -> Option<ByteString> {
        let because = Evidence::whole("PATH", "");
        let list = dirs.iter().map(|dir| (dir.clone(), because.clone())).collect();
        let reached = Self::from_list(host, self.context, list, Vec::new()).reach(&host.root, name);
        reached.copies.into_iter().next().map(|copy| copy.path)
    }

    /// The search path without these directories.
    #[must_use]
    pub fn without(&self, dirs: &[ByteString]) -> Self {
        let mut shorter = self.clone();
        shorter.entries.retain(|entry| !dirs.contains(&entry.canonical));
        shorter
    }

    /// What may make the search path another one than is told here: entries that mean nothing in an
    /// offline tree, and what start-up files do that is not known.
    #[must_use]
    pub fn unknowns(&self) -> &[Evidence] {
        &self.unknown
    }

    /// Every copy that `name` reaches, in order. A name with a slash reaches nothing here.
    #[must_use]
    pub fn reach(&self, root: &Root, name: &[u8]) -> Reached {
        let mut reached = Reached::default();
        if name.is_empty() || name.contains(&b'/') {
            return reached;
        }
        for (index, entry) in self.entries.iter().enumerate() {
            self.try_at(root, index, &path::join(&entry.dir, name), &mut reached);
        }
        reached
    }

    fn try_at(&self, root: &Root, index: usize, candidate: &ByteString, reached: &mut Reached) {
        let meta = match root.target(candidate) {
            Ok(meta) => meta,
            Err(error) if error.is_missing() => {
                if root.entry(candidate).is_ok() {
                    let why = "a dangling link; skipped";
                    reached.skipped.push(Evidence::at(candidate.clone(), "link", why));
                }
                return;
            }
            Err(error) => {
                reached.skipped.push(Evidence::at(candidate.clone(), "lookup", format!("{}; skipped", error.reason())));
                return;
            }
        };
        match meta.kind {
            Kind::File if root.can_execute(candidate, meta) => {
                let is_known = reached.copies.iter().any(|copy| copy.meta.identity == meta.identity);
                reached.copies.extend((!is_known).then(|| Copy { path: candidate.clone(), entry: index, meta }));
            }
            Kind::File => {
                let why = "not executable; skipped";
                reached.skipped.push(Evidence::at(candidate.clone(), format!("mode {:04o}", meta.mode), why));
            }
            // A directory of that name is nothing that a user would take for the program.
            _ => {}
        }
    }

    /// Every name that stands in more than one directory, with the copies that it reaches. Names that
    /// reach one copy only, be it in two places, are left out.
    #[must_use]
    pub fn ambiguous(&self, root: &Root) -> BTreeMap<ByteString, Reached> {
        let mut dirs_of: BTreeMap<ByteString, Vec<usize>> = BTreeMap::new();
        for (index, entry) in self.entries.iter().enumerate() {
            let Ok(names) = root.dir(&entry.dir).and_then(|dir| dir.list()) else { continue };
            for (name, kind) in names {
                if matches!(kind, Kind::File | Kind::Link) {
                    dirs_of.entry(name).or_default().push(index);
                }
            }
        }
        dirs_of.retain(|_, indices| indices.len() > 1);
        let with_copies = dirs_of.into_iter().map(|(name, indices)| {
            let mut reached = Reached::default();
            for index in indices {
                self.try_at(root, index, &path::join(&self.entries[index].dir, &name), &mut reached);
            }
            (name, reached)
        });
        with_copies.filter(|(_, reached)| reached.copies.len() > 1).collect()
    }

    /// Why the copy that wins comes before the one behind it.
    #[must_use]
    pub fn because(&self, reached: &Reached) -> Vec<Evidence> {
        let Some(winner) = reached.copies.first() else { return Vec::new() };
        let first = &self.entries[winner.entry];
        let mut because = vec![first.because.clone()];
        if let Some(second) = reached.copies.get(1) {
            let second = &self.entries[second.entry];
            because[0].says = format!("{} comes before {} (entry {})", first.dir, second.dir, second.number);
        }
        because
    }
}

/// The directories of a list, each with who says so.
fn numbered(list: &[u8], because: impl Fn(usize) -> Evidence) -> Vec<(ByteString, Evidence)> {
    (1..).zip(list.split(|&b| b == b':')).map(|(number, spelled)| (spelled.into(), because(number))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::host::{ProcessEnv, UserSelection};

    /// What POSIX says of `PATH`, on a tree with every kind of obstacle.
    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn copies_are_found_in_order_and_obstacles_passed_over() {
        use std::fs;
        use std::os::unix::fs::{PermissionsExt as _, symlink};
        let tree = tempfile::tempdir().unwrap();
        let at = |path: &str| tree.path().join(path);
        for dir in ["usr/bin", "usr/local/bin", "opt/bin", "dir/bin/pegel", "plain"] {
            fs::create_dir_all(at(dir)).unwrap();
        }
        for (file, mode) in
            [("usr/bin/pegel", 0o755), ("opt/bin/pegel", 0o755), ("plain/pegel", 0o644), ("opt/bin/knoten", 0o755)]
        {
            fs::write(at(file), file).unwrap();
            fs::set_permissions(at(file), fs::Permissions::from_mode(mode)).unwrap();
        }
        symlink("usr/bin", at("bin")).unwrap();
        symlink("/usr/bin/pegel", at("usr/local/bin/pegel")).unwrap();
        symlink("/gone", at("usr/local/bin/knoten")).unwrap();
        symlink("b", at("a")).unwrap();
        symlink("a", at("b")).unwrap();
        let host = Host::new(Root::offline(tree.path()).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
        let list = b"/dir/bin:/plain:/missing:/a:rel::/usr/local/bin:/bin:/opt/bin:/usr/bin:/opt/bin";
        let search = SearchPath::given(&host, Context::Login, list);

        assert_eq!(search.unknown.len(), 2, "a relative and an empty entry mean nothing offline");
        let reached = search.reach(&host.root, b"pegel");
        let copies: Vec<_> = reached.copies.iter().map(|copy| copy.path.to_string()).collect();
        assert_eq!(copies, ["/usr/local/bin/pegel", "/opt/bin/pegel"]);
        assert_eq!(reached.skipped.len(), 2, "no mode, a circle: {:?}", reached.skipped);
        assert_eq!(search.because(&reached)[0].says, "/usr/local/bin comes before /opt/bin (entry 9)");
        let knoten = search.reach(&host.root, b"knoten");
        assert_eq!(knoten.copies.len(), 1);
        assert_eq!(knoten.skipped[1].says, "a dangling link; skipped");
        assert_eq!(
            search.ambiguous(&host.root).into_keys().map(|name| name.to_string()).collect::<Vec<_>>(),
            ["pegel"]
        );
        assert!(search.reach(&host.root, b"bin/pegel").copies.is_empty());
    }
}
