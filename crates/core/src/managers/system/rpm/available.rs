//! What the packages of the repositories provide and need, all of it at once.
//!
//! A large distribution has 60,000 packages with two million names: each name is kept once, and lists of numbers.

use std::ops::Range;

use hashbrown::{HashMap, HashSet};

use super::catalogues::{self, Catalogue, Relations};
use super::expression::is_rpms_own;
use super::records::Records;
use super::texts::Texts;
use crate::backend::closure::Candidate;
use crate::backend::dependency_graph::{Need, Node, SIGNS, Want};
use crate::bytes::ByteString;
use crate::fs::Root;
use crate::model::{Loss, Pulled, Relation};
use crate::version::rpm;
use whodunit_formats::primary::{self, Primary};

/// All that tells what packages bring along, whichever is asked about.
pub(super) struct Ground {
    pub(super) available: Available,
    pub(super) installed: Vec<Node>,
    /// Whether what is recommended comes along.
    pub(super) weak: bool,
}

/// Every package that a repository in use has for this machine.
#[derive(Default)]
pub(super) struct Available {
    texts: Texts,
    entries: Vec<Entry>,
    packages: Vec<Known>,
    /// Names, each with the place of a package that has or provides it; in the order of the names' numbers. Of one name
    /// those come together that are called the same, the newest first.
    providers: Vec<(u32, u32)>,
    /// Files that a package requires.
    pub(super) files: HashSet<Vec<u8>>,
    /// Packages that are to be installed with others, each with what makes it so.
    supplements: Vec<(usize, Want)>,
    /// What could not be read.
    pub(super) notes: Vec<Loss>,
}

/// A name that is provided or needed, by its number, and the version.
#[derive(Clone, Copy)]
struct Entry {
    name: u32,
    version: u32,
    /// 0 where there is none, else the place in [`SIGNS`], counted from 1.
    sign: u8,
}

impl Entry {
    fn sign(self) -> Option<&'static str> {
        SIGNS.get(usize::from(self.sign).checked_sub(1)?).copied()
    }
}

struct Known {
    name: u32,
    version: u32,
    priority: i32,
    download_size: Option<u64>,
    installed_size: Option<u64>,
    provides: Range<usize>,
    requires: Range<usize>,
    recommends: Range<usize>,
}

impl Available {
    /// Reads the repositories in use: packages for this architecture, and for any.
    pub(super) fn read(root: &Root, records: &Records, arch: &[u8]) -> Self {
        let (mut all, mut notes) = (Available::default(), Vec::new());
        let mut take = |of: &Catalogue<'_>, package: Primary| {
            if package.arch == "noarch" || package.arch.as_bytes() == arch {
                all.add(&package, of.repository.priority);
            }
        };
        catalogues::each(root, records, Relations::Read, &mut take, &mut notes);
        all.notes = notes;
        all.finish();
        all
    }

    fn text(&self, number: u32) -> &[u8] {
        self.texts.get(number)
    }

    fn add(&mut self, package: &Primary, priority: i32) {
        let files: Vec<primary::Entry> =
            package.files.iter().map(|file| primary::Entry { name: file.clone(), ..Default::default() }).collect();
        let needs = package.requires.iter().filter(|one| !is_rpms_own(one.name.as_bytes()));
        self.files
            .extend(needs.clone().filter(|one| one.name.starts_with('/')).map(|one| one.name.clone().into_bytes()));
        let place = self.packages.len();
        let supplements = package.supplements.iter().map(|one| {
            let version = one.sign.map(|sign| (sign, one.version.clone().into_bytes()));
            (place, Want { name: one.name.clone().into_bytes(), version })
        });
        self.supplements.extend(supplements);
        let provides = self.list(package.provides.iter().chain(&files));
        let requires = self.list(needs);
        let recommends = self.list(package.recommends.iter());
        let (name, version) =
            (self.texts.number(package.name.as_bytes()), self.texts.number(package.version.as_bytes()));
        self.packages.push(Known {
            name,
            version,
            priority,
            download_size: package.package,
            installed_size: package.installed,
            provides,
            requires,
            recommends,
        });
    }

    fn list<'e>(&mut self, entries: impl Iterator<Item = &'e primary::Entry>) -> Range<usize> {
        let start = self.entries.len();
        for one in entries {
            let (name, version) = (self.texts.number(one.name.as_bytes()), self.texts.number(one.version.as_bytes()));
            let sign = one.sign.and_then(|sign| SIGNS.iter().position(|other| *other == sign));
            let sign = sign.map_or(0, |place| u8::try_from(place + 1).expect("there are five"));
            self.entries.push(Entry { name, version, sign });
        }
        start..self.entries.len()
    }

    /// Of each name, only the strongest repository that has it counts; who provides what.
    fn finish(&mut self) {
        let mut strongest: HashMap<u32, i32> = HashMap::new();
        for one in &self.packages {
            let known = strongest.entry(one.name).or_insert(one.priority);
            *known = (*known).min(one.priority);
        }
        let mut order: Vec<usize> = (0..self.packages.len()).collect();
        order.retain(|place| strongest[&self.packages[*place].name] == self.packages[*place].priority);
        order.sort_by(|a, b| {
            let (a, b) = (&self.packages[*a], &self.packages[*b]);
            a.name.cmp(&b.name).then_with(|| rpm::compare(self.text(b.version), self.text(a.version)))
        });
        for place in order {
            let one = &self.packages[place];
            let names = self.entries[one.provides.clone()].iter().map(|entry| entry.name);
            let place = u32::try_from(place).expect("fewer packages than names");
            self.providers.extend(std::iter::once(one.name).chain(names).map(|name| (name, place)));
        }
        // The order of those that provide one name stays.
        self.providers.sort_by_key(|(name, _)| *name);
        self.providers.dedup();
    }

    /// The packages that have one of these names, or provide it.
    pub(super) fn with_names(&self, names: &HashSet<Vec<u8>>, weak: bool) -> Vec<Candidate> {
        let mut seen: HashSet<usize> = HashSet::new();
        let places = names.iter().flat_map(|name| self.providers_of(name)).filter(|place| seen.insert(*place));
        places.map(|place| self.candidate(place, weak)).collect()
    }

    fn providers_of<'a>(&'a self, name: &[u8]) -> impl Iterator<Item = usize> + use<'a> {
        let found = self.texts.find(name).map_or(&[][..], |number| {
            let start = self.providers.partition_point(|(other, _)| *other < number);
            let end = self.providers.partition_point(|(other, _)| *other <= number);
            &self.providers[start..end]
        });
        found.iter().map(|(_, place)| *place as usize)
    }

    /// The place of a package.
    pub(super) fn find(&self, name: &[u8], version: &[u8]) -> Option<usize> {
        self.providers_of(name).find(|place| {
            let one = &self.packages[*place];
            self.text(one.name) == name && self.text(one.version) == version
        })
    }

    /// A package; expressions are not among its needs.
    pub(super) fn candidate(&self, place: usize, weak: bool) -> Candidate {
        let one = &self.packages[place];
        let (name, version) = (self.text(one.name), self.text(one.version));
        let mut node = Node::default();
        node.offers.push((name.to_vec(), Some(version.to_vec())));
        node.offers.extend(self.entries[one.provides.clone()].iter().map(|entry| {
            let version = entry.sign().map(|_| self.text(entry.version).to_vec());
            (self.text(entry.name).to_vec(), version)
        }));
        let plain = |entry: &&Entry| !self.text(entry.name).starts_with(b"(");
        let need = |entry: &Entry, relation: Relation| {
            let version = entry.sign().map(|sign| (sign, self.text(entry.version).to_vec()));
            let name = self.text(entry.name);
            let says = ByteString::from(name).to_string();
            Need { any_of: vec![Want { name: name.to_vec(), version }], says, relation }
        };
        let hard = self.entries[one.requires.clone()].iter().filter(plain);
        node.needs.extend(hard.map(|entry| need(entry, Relation::Requires)));
        if weak {
            let soft = self.entries[one.recommends.clone()].iter().filter(plain);
            node.needs.extend(soft.map(|entry| need(entry, Relation::Recommends)));
        }
        Candidate {
            node,
            package: Pulled {
                name: name.into(),
                version: Some(version.into()),
                download_size: one.download_size,
                installed_size: one.installed_size,
                shared: false,
            },
        }
    }

    /// The packages that supplement something, each with what makes it so.
    pub(super) fn supplements(&self) -> impl Iterator<Item = (&[u8], &Want)> {
        self.supplements.iter().map(|(place, want)| (self.text(self.packages[*place].name), want))
    }

    /// The expressions among a package's needs.
    pub(super) fn expressions(&self, place: usize, weak: bool) -> Vec<(&[u8], Relation)> {
        let one = &self.packages[place];
        let of = |range: &Range<usize>, relation: Relation| {
            let texts = self.entries[range.clone()].iter().map(|entry| self.text(entry.name));
            texts.filter(|text| text.starts_with(b"(")).map(move |text| (text, relation))
        };
        let mut found: Vec<(&[u8], Relation)> = of(&one.requires, Relation::Requires).collect();
        if weak {
            found.extend(of(&one.recommends, Relation::Recommends));
        }
        found
    }
}
