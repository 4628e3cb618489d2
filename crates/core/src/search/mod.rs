//! What a name reaches: search paths, and the trail behind each program.
//!
//! Look-up follows the POSIX shell (XCU 2.9.1.4, XBD 8.3 `PATH`): folders in order; an empty entry is
//! the current folder; what is no regular file, or may not be executed, is passed over. Every copy is
//! found, not only the first. A file that is reached twice, through `/bin` and `/usr/bin` or through a
//! link, is one copy.

pub mod contexts;
pub mod hints;
pub mod launchers;
pub mod libraries;
pub mod manuals;
pub mod modules;
mod places;
pub mod shell;
mod trail;
pub mod words;

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::model::Evidence;
use crate::root::{Kind, Meta, Root};
use crate::scene::Scene;
use crate::text::{Text, path};
use hashbrown::HashSet;

pub use contexts::{Context, Situation, Wish, situation};
pub use places::{program_folders, trees_of_programs};
use words::Words;

pub use trail::{End, How, Script, Step, Trail};

/// One folder of a search path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its place in the list, from 1.
    pub number: usize,
    /// As the list spells it; empty for the current folder.
    pub spelled: Text,
    /// The folder that is searched, absolute.
    pub folder: Text,
    /// The same with every link followed.
    pub settled: Text,
    /// Who says so.
    pub because: Evidence,
}

/// A search path for commands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SearchPath {
    /// The situation that it stands for.
    pub context: Context,
    /// Its folders in order. Those searched already under another spelling are left out.
    pub entries: Vec<Entry>,
    /// Entries that nothing can be said of, and why.
    pub unknown: Vec<Evidence>,
    /// Whether a person gave the list.
    pub is_given: bool,
    /// Whose it is, where it is a person's.
    pub person: Option<Text>,
    /// What the context's shell takes names for, before it searches.
    pub words: Option<Arc<Words>>,
}

/// A file that a name reaches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Copy {
    /// The path under which it is found.
    pub path: Text,
    /// The place in the list of the folder that reaches it, from 0.
    pub entry: usize,
    /// What is known of the file itself, links followed.
    pub meta: Meta,
}

/// The copies that a name reaches, and what was passed over on the way.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Reached {
    /// In order: the winner first.
    pub copies: Vec<Copy>,
    /// Files of that name that cannot be started, and why.
    pub passed_over: Vec<Evidence>,
}

impl SearchPath {
    /// The search path of a context: of the person whose log-in stands for all.
    #[must_use]
    pub fn of(scene: &Scene, context: Context) -> Self {
        match context {
            Context::Here => {
                let list = scene.here.path.clone().unwrap_or_default();
                let because = |number| Evidence::at("environment of this process", format!("PATH, entry {number}"), "");
                Self::from_list(scene, context, numbered(&list, because), Vec::new())
            }
            _ => {
                Self::in_situation(scene, &situation(scene, context, &contexts::usual_person(scene), &Wish::default()))
            }
        }
    }

    /// The search path that a situation has.
    #[must_use]
    pub fn in_situation(scene: &Scene, situation: &Situation) -> Self {
        let (listed, unknown) = situation.list("PATH");
        let listed = listed.into_iter().map(|one| (one.folder, one.because)).collect();
        SearchPath {
            person: Some(situation.person.name.clone()),
            words: Words::of(situation).map(Arc::new),
            ..Self::from_list(scene, situation.context, listed, unknown)
        }
    }

    /// The search path that a person gave.
    #[must_use]
    pub fn given(scene: &Scene, context: Context, list: &[u8]) -> Self {
        let listed = numbered(list, |number| Evidence::at("--path", format!("entry {number}"), ""));
        SearchPath { is_given: true, ..Self::from_list(scene, context, listed, Vec::new()) }
    }

    fn from_list(scene: &Scene, context: Context, list: Vec<(Text, Evidence)>, unknown: Vec<Evidence>) -> Self {
        let mut path = SearchPath { context, entries: Vec::new(), unknown, is_given: false, person: None, words: None };
        let mut seen = HashSet::new();
        for (number, (spelled, mut because)) in (1..).zip(list) {
            if !spelled.starts_with(b"/") && !scene.root.is_live() {
                because.says = format!("{spelled:?} depends on the current folder; passed over");
                path.unknown.push(because);
                continue;
            }
            let folder = path::absolute(&spelled, &scene.here.folder);
            let settled = scene.root.settle_folder(&folder);
            if because.says.is_empty() {
                because.says = format!("a search of {folder}");
            }
            if seen.insert(settled.clone()) {
                path.entries.push(Entry { number, spelled, folder, settled, because });
            }
        }
        path
    }

    /// The same search path without some folders.
    #[must_use]
    pub fn without(&self, folders: &[Text]) -> Self {
        let mut shorter = self.clone();
        shorter.entries.retain(|entry| !folders.contains(&entry.settled));
        shorter
    }

    /// What may make the search path another one than is told here: entries that mean nothing in an
    /// offline tree, and what start-up files do that is not known.
    #[must_use]
    pub fn doubts(&self) -> &[Evidence] {
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
            self.try_at(root, index, &path::join(&entry.folder, name), &mut reached);
        }
        reached
    }

    fn try_at(&self, root: &Root, index: usize, candidate: &Text, reached: &mut Reached) {
        let meta = match root.target(candidate) {
            Ok(meta) => meta,
            Err(error) if error.is_missing() => {
                if root.entry(candidate).is_ok() {
                    let why = "a link that leads nowhere; passed over";
                    reached.passed_over.push(Evidence::at(candidate.clone(), "link", why));
                }
                return;
            }
            Err(error) => {
                reached.passed_over.push(Evidence::at(
                    candidate.clone(),
                    "look-up",
                    format!("{}; passed over", error.reason()),
                ));
                return;
            }
        };
        match meta.kind {
            Kind::File if root.can_execute(candidate, meta) => {
                let is_known = reached.copies.iter().any(|copy| copy.meta.identity == meta.identity);
                reached.copies.extend((!is_known).then(|| Copy { path: candidate.clone(), entry: index, meta }));
            }
            Kind::File => {
                let why = "not executable; passed over";
                reached.passed_over.push(Evidence::at(candidate.clone(), format!("mode {:04o}", meta.mode), why));
            }
            // A folder of that name is nothing that a person would take for the program.
            _ => {}
        }
    }

    /// Every name that stands in more than one folder, with the copies that it reaches. Names that
    /// reach one copy only, be it in two places, are left out.
    #[must_use]
    pub fn crowded(&self, root: &Root) -> BTreeMap<Text, Reached> {
        let mut folders_of: BTreeMap<Text, Vec<usize>> = BTreeMap::new();
        for (index, entry) in self.entries.iter().enumerate() {
            let Ok(names) = root.folder(&entry.folder).and_then(|folder| folder.list()) else { continue };
            for (name, kind) in names {
                if matches!(kind, Kind::File | Kind::Link) {
                    folders_of.entry(name).or_default().push(index);
                }
            }
        }
        folders_of.retain(|_, indices| indices.len() > 1);
        let with_copies = folders_of.into_iter().map(|(name, indices)| {
            let mut reached = Reached::default();
            for index in indices {
                self.try_at(root, index, &path::join(&self.entries[index].folder, &name), &mut reached);
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
            because[0].says = format!("{} comes before {} (entry {})", first.folder, second.folder, second.number);
        }
        because
    }
}

/// The folders of a list, each with who says so.
fn numbered(list: &[u8], because: impl Fn(usize) -> Evidence) -> Vec<(Text, Evidence)> {
    (1..).zip(list.split(|&b| b == b':')).map(|(number, spelled)| (spelled.into(), because(number))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::{Here, People};

    /// What POSIX says of `PATH`, on a tree with every kind of obstacle.
    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn copies_are_found_in_order_and_obstacles_passed_over() {
        use std::fs;
        use std::os::unix::fs::{PermissionsExt as _, symlink};
        let tree = tempfile::tempdir().unwrap();
        let at = |path: &str| tree.path().join(path);
        for folder in ["usr/bin", "usr/local/bin", "opt/bin", "dir/bin/pegel", "plain"] {
            fs::create_dir_all(at(folder)).unwrap();
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
        let scene = Scene::new(Root::offline(tree.path()).unwrap(), &People::Everyone, Here::default()).unwrap();
        let list = b"/dir/bin:/plain:/missing:/a:rel::/usr/local/bin:/bin:/opt/bin:/usr/bin:/opt/bin";
        let search = SearchPath::given(&scene, Context::Login, list);

        assert_eq!(search.unknown.len(), 2, "a relative and an empty entry mean nothing offline");
        let reached = search.reach(&scene.root, b"pegel");
        let copies: Vec<_> = reached.copies.iter().map(|copy| copy.path.to_string()).collect();
        assert_eq!(copies, ["/usr/local/bin/pegel", "/opt/bin/pegel"]);
        assert_eq!(reached.passed_over.len(), 2, "no mode, a circle: {:?}", reached.passed_over);
        assert_eq!(search.because(&reached)[0].says, "/usr/local/bin comes before /opt/bin (entry 9)");
        let knoten = search.reach(&scene.root, b"knoten");
        assert_eq!(knoten.copies.len(), 1);
        assert_eq!(knoten.passed_over[1].says, "a link that leads nowhere; passed over");
        assert_eq!(search.crowded(&scene.root).into_keys().map(|name| name.to_string()).collect::<Vec<_>>(), ["pegel"]);
        assert!(search.reach(&scene.root, b"bin/pegel").copies.is_empty());
    }
}
