//! What dnf or zypper would install along with a package, within the metadata that they last fetched: what it requires
//! and recommends, and what supplements the two.
//!
//! Trap: expressions (`(a if b)`) depend on what is installed in the end. They are asked again until nothing is added.

use hashbrown::{HashMap, HashSet};

use super::available::Available;
use super::expression::Expression;
use super::installation::{Brief, RpmInstallation};
use crate::backend::closure::closure;
use crate::backend::dependency_graph::{Need, Node, Want};
use crate::bytes::ByteString;
use crate::fs::Limit;
use crate::model::{Offer, PullsIn, Relation, Scope};
use crate::version::rpm;
use whodunit_formats::key_file::KeyFile;

/// Expressions are asked so often at most.
const MAX_ROUNDS: usize = 8;

/// What is there once everything is installed, by what it offers.
type Present<'n> = HashMap<&'n [u8], Vec<Option<&'n [u8]>>>;

impl RpmInstallation<'_> {
    pub(super) fn brought_along(&self, offer: &Offer) -> Option<PullsIn> {
        if self.location.scope != Scope::System {
            return None;
        }
        let available = self.available.get_or_init(|| {
            let available = Available::read(&self.host.root, self.records(), &self.native_arch());
            available.notes.iter().for_each(|note| self.store.note(note.clone()));
            available
        });
        let place = available.find(&offer.name, offer.version.as_ref()?)?;
        let weak = self.takes_recommended();
        let installed = self.nodes_with(available.files.clone());
        let mut start = available.candidate(place, weak).node;
        let mut lookup = |names: &HashSet<Vec<u8>>| available.with_names(names, weak);
        let before = present(&installed);
        let mut asked: HashSet<Vec<Want>> = HashSet::new();
        let mut is_certain = available.notes.is_empty();
        for _ in 0..MAX_ROUNDS {
            let mut found = closure(&start, &installed, &mut lookup, &rpm::compare_needed);
            let of_pulled = |one: &crate::model::Pulled| available.find(&one.name, one.version.as_ref()?);
            let places: Vec<usize> = found.packages.iter().filter_map(of_pulled).chain([place]).collect();
            let new: Vec<Node> = places.iter().map(|place| available.candidate(*place, weak).node).collect();
            let mut after = before.clone();
            add(&mut after, &new);
            let expressions = places.iter().flat_map(|place| available.expressions(*place, weak));
            let mut more: Vec<Need> = Vec::new();
            for (text, relation) in expressions {
                let says = ByteString::from(text).to_string();
                let needs = Expression::parse(text).and_then(|one| one.needs(&|want| is_there(&after, want)));
                let Some(needs) = needs else {
                    is_certain &= relation.is_optional();
                    continue;
                };
                more.extend(needs.into_iter().map(|any_of| Need { any_of, says: says.clone(), relation }));
            }
            if weak {
                more.extend(available.supplementing(&before, &after));
            }
            more.retain(|need| asked.insert(need.any_of.clone()));
            if more.is_empty() {
                found.complete &= is_certain;
                return Some(found);
            }
            start.needs.extend(more);
        }
        None
    }

    /// The architecture of most packages.
    fn native_arch(&self) -> Vec<u8> {
        let mut counts: HashMap<ByteString, usize> = HashMap::new();
        self.each(&mut |_, header| {
            if let Some(arch) = Brief::of(header).and_then(|brief| brief.arch).filter(|arch| **arch != *b"noarch") {
                *counts.entry(arch).or_default() += 1;
            }
        });
        let most = counts.into_iter().max_by_key(|(arch, count)| (*count, arch.clone()));
        most.map_or_else(|| std::env::consts::ARCH.as_bytes().to_vec(), |(arch, _)| arch.to_vec())
    }

    /// Whether what a package recommends is installed with it: both tools do so, unless they are told not to
    /// (`dnf.conf(5)`, `install_weak_deps`; `zypp.conf`, `solver.onlyRequires`).
    fn takes_recommended(&self) -> bool {
        let setting = |file: &str, key: &str| {
            let content = KeyFile::parse(&self.host.root.read(file.as_bytes(), Limit::SMALL).ok()?);
            content.get("main", key).map(|value| value.trim().to_ascii_lowercase())
        };
        let (said, off) = match self.records().tool(&self.host.root) {
            Some("zypper") => (setting("/etc/zypp/zypp.conf", "solver.onlyRequires"), ["1", "yes", "true", "on"]),
            _ => (setting("/etc/dnf/dnf.conf", "install_weak_deps"), ["0", "no", "false", "off"]),
        };
        said.is_none_or(|said| !off.contains(&&*said))
    }
}

impl Available {
    /// The packages that supplement what is there now, and did not before.
    fn supplementing(&self, before: &Present<'_>, after: &Present<'_>) -> Vec<Need> {
        let holds = |want: &Want, present: &Present<'_>| match want.name.starts_with(b"(") {
            true => Expression::parse(&want.name).is_some_and(|one| one.holds(&|want| is_there(present, want))),
            false => is_there(present, want),
        };
        let new = self.supplements.iter().filter(|(_, want)| holds(want, after) && !holds(want, before));
        let need = |(place, _): &(usize, Want)| {
            let name = self.candidate(*place, false).package.name;
            let any_of = vec![Want { name: name.to_vec(), version: None }];
            Need { any_of, says: name.to_string(), relation: Relation::Recommends }
        };
        new.map(need).collect()
    }
}

fn present(nodes: &[Node]) -> Present<'_> {
    let mut present = HashMap::new();
    add(&mut present, nodes);
    present
}

fn add<'n>(present: &mut Present<'n>, nodes: &'n [Node]) {
    for (name, version) in nodes.iter().flat_map(|node| &node.offers) {
        present.entry(name).or_default().push(version.as_deref());
    }
}

fn is_there(present: &Present<'_>, want: &Want) -> bool {
    let versions = present.get(&*want.name).into_iter().flatten();
    versions.into_iter().any(|version| want.takes(*version, &rpm::compare_needed))
}
