//! How packages find what they need: in the `node_modules` of their own directory, and then in that of every directory
//! above (Node.js documentation, on modules of CommonJS), links followed.

use std::collections::{BTreeSet, VecDeque};

use hashbrown::{HashMap, HashSet};
use serde_json::Value;

use crate::backend::{Inner, InnerPackage};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::Evidence;

/// The most packages that are looked at for one question.
const MAX_PACKAGES: usize = 50_000;

/// What `package.json` says of needs; what cannot be read needs nothing that is known.
#[derive(Default)]
struct Declared {
    name: Option<ByteString>,
    version: Option<ByteString>,
    /// Names of directories, each with the versions that are wanted.
    needs: Vec<(String, String)>,
}

impl Declared {
    fn read(root: &Root, file: &[u8]) -> Self {
        let content = root.read(file, Limit::SMALL).unwrap_or_default();
        let Ok(Value::Object(document)) = serde_json::from_slice(&content) else { return Declared::default() };
        let text = |key: &str| document.get(key).and_then(Value::as_str).map(ByteString::from);
        let lists = ["dependencies", "optionalDependencies", "peerDependencies"];
        let entries = lists.into_iter().filter_map(|key| document.get(key)?.as_object()).flatten();
        let needs = entries.filter(|(name, _)| is_name(name));
        let needs = needs.map(|(name, wanted)| (name.clone(), wanted.as_str().unwrap_or_default().to_owned()));
        Declared { name: text("name"), version: text("version"), needs: needs.collect() }
    }
}

/// Whether a name is one of a package, and leads nowhere else: `NAME` or `@SCOPE/NAME`.
fn is_name(name: &str) -> bool {
    let (scope, own) = match name.split_once('/') {
        Some((scope, own)) => (scope.strip_prefix('@').unwrap_or_default(), own),
        None => ("-", name),
    };
    let is_part = |part: &str| !part.is_empty() && !part.starts_with('.') && !part.contains(['/', '\0']);
    is_part(scope) && is_part(own)
}

/// The packages below one directory of modules, as far as they were looked at.
pub(super) struct Tree<'r> {
    root: &'r Root,
    declared: HashMap<ByteString, Declared>,
}

impl<'r> Tree<'r> {
    pub(super) fn new(root: &'r Root) -> Self {
        Tree { root, declared: HashMap::new() }
    }

    fn declared(&mut self, dir: &ByteString) -> &Declared {
        let root = self.root;
        self.declared.entry_ref(dir).or_insert_with(|| Declared::read(root, &path::join(dir, b"package.json")))
    }

    /// The directory of what a package in `dir` finds under a name.
    fn found(&self, dir: &ByteString, name: &str) -> Option<ByteString> {
        let mut at: &[u8] = dir;
        loop {
            // Modules in modules are looked for in the directory above alone.
            if path::name(at) != b"node_modules" {
                let place = path::join(&path::join(at, b"node_modules"), name.as_bytes());
                if self.root.target(&place).is_ok() {
                    return Some(self.root.canonicalize_dir(&place));
                }
            }
            if at.len() <= 1 {
                return None;
            }
            at = path::parent(at);
        }
    }

    /// Everything that a package comes upon, nearest first: each directory with the one that needs it, and the need.
    fn reached(
        &mut self,
        start: &ByteString,
        goes_on: &dyn Fn(&ByteString) -> bool,
    ) -> Vec<(ByteString, ByteString, (String, String))> {
        let mut seen: HashSet<ByteString> = HashSet::from_iter([start.clone()]);
        let mut open = VecDeque::from([start.clone()]);
        let mut reached = Vec::new();
        while let Some(dir) = open.pop_front() {
            for need in self.declared(&dir).needs.clone() {
                let Some(target) = self.found(&dir, &need.0).filter(|target| !seen.contains(target)) else { continue };
                if seen.len() >= MAX_PACKAGES {
                    return reached;
                }
                seen.insert(target.clone());
                if goes_on(&target) {
                    open.push_back(target.clone());
                }
                reached.push((target, dir.clone(), need));
            }
        }
        reached
    }

    /// The names of what a package needs of those beside it, by itself or by what lies inside it.
    pub(super) fn needs_beside(&mut self, dir: &ByteString, modules: &ByteString) -> Vec<String> {
        let is_inside = |other: &ByteString| path::within(other, dir);
        let beside = |target: &ByteString, name: &str| *target == path::join(modules, name.as_bytes());
        let reached = self.reached(dir, &is_inside);
        let named = reached.into_iter().filter(|(target, _, (name, _))| beside(target, name));
        named.map(|(_, _, (name, _))| name).collect::<BTreeSet<_>>().into_iter().collect()
    }

    /// The packages of a name that others come upon, from each of these on: numbers, and directories. Those directories
    /// are not told themselves.
    pub(super) fn inner(&mut self, starts: &[(u32, ByteString)], wanted: &[u8]) -> Vec<Inner> {
        let listed: HashSet<&ByteString> = starts.iter().map(|(_, dir)| dir).collect();
        let mut found = Vec::new();
        for (outer, start) in starts {
            let reached = self.reached(start, &|_| true);
            let above: HashMap<&ByteString, (&ByteString, &(String, String))> =
                reached.iter().map(|(target, dir, need)| (target, (dir, need))).collect();
            for (target, _, (name, _)) in &reached {
                let is_called = name.as_bytes() == wanted
                    || self.declared(target).name.as_deref().is_some_and(|name| name == wanted);
                if listed.contains(target) || !is_called {
                    continue;
                }
                let mut chain = Vec::new();
                let mut at = target;
                while let Some((dir, (name, wanted))) = above.get(at) {
                    let declared = self.declared(at);
                    let name = declared.name.clone().unwrap_or_else(|| name.as_str().into());
                    let says = ByteString::from(format!("needs {name} {wanted}").trim_end()).to_string();
                    let evidence = Evidence::at(path::join(dir, b"package.json"), "dependencies", says);
                    chain.push(InnerPackage { name, version: declared.version.clone(), dir: at.clone(), evidence });
                    at = dir;
                }
                chain.reverse();
                found.push(Inner { outer: *outer, chain });
            }
        }
        found
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
mod tests {
    use super::*;

    #[test]
    fn a_package_finds_what_it_needs_inside_and_above_and_nowhere_else() {
        let dir = tempfile::tempdir().unwrap();
        let root = Root::offline(dir.path()).unwrap();
        let write = |place: &str, document: &str| {
            let place = dir.path().join("lib/node_modules").join(place);
            std::fs::create_dir_all(&place).unwrap();
            std::fs::write(place.join("package.json"), document).unwrap();
        };
        let needs = |name: &str, version: &str, needs: &str| {
            format!(r#"{{"name":"{name}","version":"{version}","dependencies":{{{needs}}}}}"#)
        };
        write("lantern", &needs("lantern", "1.0.0", r#""wick":"^1","lamp-oil":"2","../../../etc":"1""#));
        // Wick has an oil of its own, which needs what lies above; the peer goes round in a circle.
        write("lantern/node_modules/wick", &needs("wick", "1.2.0", r#""lamp-oil":"^1""#));
        let oil = r#"{"name":"lamp-oil","version":"1.0.0","peerDependencies":{"wick":"*","gone":"*"},"optionalDependencies":[]}"#;
        write("lantern/node_modules/wick/node_modules/lamp-oil", oil);
        // An alias, and a name that is damaged.
        write("lantern/node_modules/lamp-oil", &needs("@harbour/oil", "2.0.0", r#""mast":"*""#));
        write("mast", "{");
        let at = |place: &str| ByteString::from(format!("/lib/node_modules/{place}").as_str());
        let mut tree = Tree::new(&root);
        assert_eq!(tree.needs_beside(&at("lantern"), &"/lib/node_modules".into()), ["mast"]);
        let starts = [(3, at("lantern")), (4, at("mast"))];
        let mut told = |name: &str| -> Vec<String> {
            let inner = tree.inner(&starts, name.as_bytes());
            let link =
                |one: &InnerPackage| format!("{} {}", one.evidence.says, one.version.clone().unwrap_or_default());
            inner.iter().map(|one| one.chain.iter().map(link).collect::<Vec<_>>().join(", ")).collect()
        };
        assert_eq!(told("wick"), ["needs wick ^1 1.2.0"]);
        assert_eq!(told("lamp-oil"), ["needs @harbour/oil 2 2.0.0", "needs wick ^1 1.2.0, needs lamp-oil ^1 1.0.0"]);
        assert_eq!(told("@harbour/oil"), ["needs @harbour/oil 2 2.0.0"]);
        // What its manager lists is told as a package of it.
        assert!(told("mast").is_empty() && told("gone").is_empty());
    }
}
