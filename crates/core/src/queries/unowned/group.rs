//! Which of the files came together.
//!
//! Files belong together when they lie in one tree (`/opt/NAME`, `share/NAME`), bear one name in one
//! prefix (`bin/NAME`, `man1/NAME.1`, `libNAME.so`), are one file under several names, or were written
//! within the same minute in one prefix.

use std::collections::BTreeMap;

use hashbrown::HashMap;

use super::Stray;
use crate::bytes::{ByteString, path};
use crate::host::Host;

/// Directories of a prefix whose subdirectories are no piece of software.
const SHARED: &[&str] = &[
    "applications",
    "bash-completion",
    "completions",
    "cmake",
    "dist-packages",
    "doc",
    "fish",
    "icons",
    "info",
    "locale",
    "man",
    "mime",
    "pixmaps",
    "pkgconfig",
    "site-packages",
    "vendor_completions.d",
    "zsh",
];

/// Below this, a time of writing was set by a tool and says nothing: some set the year 1970 or 1980.
const MEANINGLESS_BEFORE: i64 = 631_152_000;

/// Seconds between two files of one installation.
const LONGEST_PAUSE: i64 = 10;

/// The indices of `strays`, one list per group.
pub fn together(host: &Host, strays: &[Stray]) -> Vec<Vec<usize>> {
    let mut sets = Sets::new(strays.len());
    let mut first_with: HashMap<Key, usize> = HashMap::new();
    for (index, stray) in strays.iter().enumerate() {
        for key in keys(host, stray) {
            let first = *first_with.entry(key).or_insert(index);
            sets.cluster(first, index);
        }
    }
    let by_path: HashMap<&ByteString, usize> =
        strays.iter().enumerate().map(|(index, stray)| (&stray.path, index)).collect();
    for (index, stray) in strays.iter().enumerate() {
        if let Some(&target) = stray.exec_target.as_ref().and_then(|target| by_path.get(target)) {
            sets.cluster(index, target);
        }
    }
    cluster_by_minute(host, strays, &mut sets);
    sets.groups()
}

#[derive(Debug, PartialEq, Eq, Hash)]
enum Key {
    Tree(ByteString),
    Name(ByteString, ByteString),
    File((u64, u64)),
}

fn keys(host: &Host, stray: &Stray) -> Vec<Key> {
    let place = Place::of(host, &stray.path);
    let mut keys = vec![Key::File(stray.meta.identity)];
    match place {
        Place::Tree(tree) => keys.push(Key::Tree(tree)),
        Place::Prefix(prefix) => {
            let below = &stray.path[prefix.len()..];
            keys.push(Key::Name(prefix, stem(below)));
        }
    }
    keys
}

/// Where a file lies, as far as it tells what it belongs to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// In a tree that is one piece of software.
    Tree(ByteString),
    /// In a prefix that many share: the part of the path up to `bin`, `lib`, `share` …
    Prefix(ByteString),
}

impl Place {
    pub fn of(host: &Host, file: &[u8]) -> Self {
        // A hidden directory in a home is one tool's own.
        for user in &host.users {
            if let Some(below) = below(file, &user.home)
                && let Some(first) = below.split(|&b| b == b'/').next()
                && first.starts_with(b".")
                && !below.starts_with(b".local/")
            {
                return Place::Tree(path::join(&user.home, first));
            }
        }
        if let Some(below) = below(file, b"/opt")
            && let Some(at) = memchr::memchr(b'/', below)
        {
            return Place::Tree(path::join(b"/opt", &below[..at]));
        }
        // A directory with a version in its name, wherever it is, was unpacked as a whole.
        let mut at = path::parent(file);
        while at.len() > 1 {
            if crate::resolve::hints::of_dir(at).is_some_and(|hint| *hint.evidence.file == *at) {
                return Place::Tree(at.into());
            }
            at = path::parent(at);
        }
        let parts = [
            &b"/bin/"[..],
            b"/sbin/",
            b"/games/",
            b"/lib/",
            b"/lib64/",
            b"/libexec/",
            b"/share/",
            b"/include/",
            b"/etc/",
            b"/src/",
        ];
        let prefix = parts.iter().filter_map(|part| memchr::memmem::find(file, part)).min();
        Place::Prefix(prefix.map_or_else(|| path::parent(file).into(), |at| file[..at].into()))
    }
}

fn below<'a>(file: &'a [u8], dir: &[u8]) -> Option<&'a [u8]> {
    path::within(file, dir).then(|| file[dir.len()..].strip_prefix(b"/").unwrap_or(&[]))
}

/// The name that a file bears in its prefix: its own, or that of the directory that holds all of it.
fn stem(below: &[u8]) -> ByteString {
    let mut parts = below.split(|&b| b == b'/').filter(|part| !part.is_empty()).skip(1);
    let shared = |part: &[u8]| {
        SHARED.iter().any(|name| name.as_bytes() == part) || part.starts_with(b"man") || part.starts_with(b"python")
    };
    let mut last = &b""[..];
    while let Some(part) = parts.next() {
        last = part;
        let is_dir = parts.clone().next().is_some();
        // Below `man` there are only sections, and languages with sections.
        if part == b"man" {
            last = parts.by_ref().last().unwrap_or(part);
        } else if is_dir && !shared(part) {
            break;
        }
    }
    let last = last.strip_prefix(b"lib").filter(|rest| rest.len() > 2).unwrap_or(last);
    last.split(|&b| b == b'.').next().unwrap_or(last).into()
}

fn cluster_by_minute(host: &Host, strays: &[Stray], sets: &mut Sets) {
    let mut by_prefix: BTreeMap<ByteString, Vec<usize>> = BTreeMap::new();
    for (index, stray) in strays.iter().enumerate() {
        if let Place::Prefix(prefix) = Place::of(host, &stray.path)
            && stray.exec_target.is_none()
            && stray.meta.modified >= MEANINGLESS_BEFORE
        {
            by_prefix.entry(prefix).or_default().push(index);
        }
    }
    for mut indices in by_prefix.into_values() {
        indices.sort_by_key(|&index| strays[index].meta.modified);
        let time = |index: usize| strays[index].meta.modified;
        let (mut first, mut last) = (indices[0], indices[0]);
        let mut alike = Alike::default();
        for &index in &indices {
            if time(index) - time(first) >= 60 || time(index) - time(last) > LONGEST_PAUSE {
                (first, alike) = (index, Alike::default());
            }
            // Within it, what bears a similar name; a tool that sets up a machine writes many programs in a second.
            for other in alike.add(&stem_of(host, &strays[index].path), index) {
                sets.cluster(other, index);
            }
            last = index;
        }
    }
}

/// Names of one burst, by how they begin: two are alike if they share four letters, or the whole of the shorter one.
#[derive(Default)]
struct Alike {
    /// The first index whose name begins so: with two, three or four letters.
    by_start: HashMap<ByteString, usize>,
    /// The first index whose name is that, of names with two or three letters.
    short: HashMap<ByteString, usize>,
}

impl Alike {
    /// Adds a name, and tells one index of each set of names that it is alike.
    fn add(&mut self, name: &[u8], index: usize) -> Vec<usize> {
        const LETTERS: usize = 4;
        let starts = || (2..=LETTERS.min(name.len())).map(|end| ByteString::from(&name[..end]));
        let mut found: Vec<usize> = starts().filter_map(|start| self.short.get(&start).copied()).collect();
        let whole: ByteString = name[..LETTERS.min(name.len())].into();
        found.extend(self.by_start.get(&whole).copied());
        if (2..LETTERS).contains(&name.len()) {
            self.short.entry(name.into()).or_insert(index);
        }
        for start in starts() {
            self.by_start.entry(start).or_insert(index);
        }
        found
    }
}

/// The name that a file bears in its prefix.
fn stem_of(host: &Host, file: &ByteString) -> ByteString {
    match Place::of(host, file) {
        Place::Prefix(prefix) => stem(&file[prefix.len()..]),
        Place::Tree(tree) => path::name(&tree).into(),
    }
}

/// Disjoint sets of indices.
struct Sets(Vec<usize>);

impl Sets {
    fn new(count: usize) -> Self {
        Sets((0..count).collect())
    }

    fn head(&mut self, mut at: usize) -> usize {
        while self.0[at] != at {
            self.0[at] = self.0[self.0[at]];
            at = self.0[at];
        }
        at
    }

    fn cluster(&mut self, a: usize, b: usize) {
        let (a, b) = (self.head(a), self.head(b));
        self.0[a.max(b)] = a.min(b);
    }

    fn groups(mut self) -> Vec<Vec<usize>> {
        let mut groups: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        for index in 0..self.0.len() {
            groups.entry(self.head(index)).or_default().push(index);
        }
        groups.into_values().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_begin_alike_are_told_without_comparing_each_with_each() {
        let mut alike = Alike::default();
        let mut groups: Vec<(&str, Vec<usize>)> = Vec::new();
        for (index, name) in
            ["barolog", "tide", "barolog-view", "vi", "vim", "view", "x", "tidegauge", "x"].iter().enumerate()
        {
            groups.push((name, alike.add(name.as_bytes(), index)));
        }
        let of = |name: &str| groups.iter().rfind(|(other, _)| *other == name).unwrap().1.clone();
        assert!(of("barolog").is_empty());
        assert_eq!(of("barolog-view"), [0]);
        assert_eq!(of("tidegauge"), [1]);
        assert_eq!((of("vim"), of("view")), (vec![3], vec![3]));
        assert!(of("x").is_empty(), "one letter tells nothing");
    }

    #[test]
    fn files_of_one_software_bear_one_name() {
        for (below, name) in [
            ("/bin/barolog", "barolog"),
            ("/share/man/man1/barolog.1.gz", "barolog"),
            ("/share/man/de/man1/barolog.1", "barolog"),
            ("/lib/pkgconfig/barolog.pc", "barolog"),
            ("/lib/libbarolog.so.2.1", "barolog"),
            ("/share/barolog/stations/north.csv", "barolog"),
            ("/share/doc/barolog/README", "barolog"),
            ("/lib/python3.11/dist-packages/pegel/core.py", "pegel"),
        ] {
            assert_eq!(stem(below.as_bytes()).to_string(), name, "{below}");
        }
    }
}
