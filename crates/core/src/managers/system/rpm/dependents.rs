//! Who depends on whom: names that packages require, against names and files that others provide. Conditions
//! (`(a if b)`) and what rpm provides itself (`rpmlib(…)`) are taken to be met.

use hashbrown::{HashMap, HashSet};

use super::expression::{Expression, is_rpms_own};
use super::installation::RpmInstallation;
use crate::backend::dependency_graph::{Need, Node, TooManyWays, Want, edges_of, losers, noted, unneeded};
use crate::backend::{Requirement, Unneeded};
use crate::bytes::{ByteString, path};
use crate::model::{CommandLine, Evidence, Reason, Relation, Remedy, RemedyKind};
use crate::version::rpm;
use whodunit_formats::rpm_header::{Header, tag};

/// Bits of a requirement's flags: less, greater, equal.
const SIGNS: u64 = 2 | 4 | 8;

/// What all packages declare.
#[derive(Default)]
struct Declared {
    nodes: Vec<Node>,
    /// What packages say that they add to others (rpm, "Weak dependencies"), each with the number of who says so.
    additions: Vec<(u32, Need)>,
}

impl RpmInstallation<'_> {
    /// The packages that cannot stay once some are removed.
    pub(super) fn dependents_of(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        if !self.may_be_required(removed) {
            return Some(Vec::new());
        }
        let lost = self.noted(losers(&self.declared().nodes, removed, &rpm::compare_needed))?;
        let says = |(number, says): (u32, String)| (number, self.declares(number, Relation::Requires, &says));
        Some(lost.into_iter().map(says).collect())
    }

    fn noted<T>(&self, found: Result<T, TooManyWays>) -> Option<T> {
        noted(&self.host.root, &self.store.file, found)
    }

    /// Whether another package can require something of these: `false` only where the database's own index says so.
    fn may_be_required(&self, removed: &[u32]) -> bool {
        let mut names: HashSet<Vec<u8>> = HashSet::new();
        self.some(removed, &mut |_, header| {
            names.extend(header.text(tag::NAME).map(<[u8]>::to_vec));
            names.extend(header.texts(tag::PROVIDE_NAMES).map(<[u8]>::to_vec));
            names.extend(header.files().map(|(_, dir, name)| [dir, name].concat()));
        });
        self.store.requiring(&names).is_none_or(|found| found.iter().any(|number| !removed.contains(number)))
    }

    /// Who needs whom.
    pub(super) fn all_requirements(&self) -> Option<Vec<Requirement>> {
        let evidence = |number: u32, need: &Need| self.declares(number, need.relation, &need.says);
        let declared = self.declared();
        let mut found = self.noted(Requirement::among(&declared.nodes, &rpm::compare_needed, &evidence))?;
        found.extend(self.additions(&declared)?);
        Some(found)
    }

    /// What adds to what: `Supplements` is `Recommends` as the other side says it, and `Enhances` is `Suggests`.
    fn additions(&self, declared: &Declared) -> Option<Vec<Requirement>> {
        let needs = declared.additions.iter().map(|(number, need)| (*number, need));
        let added = self.noted(edges_of(&declared.nodes, needs, &rpm::compare_needed))?;
        let added = added.into_iter().map(|(number, to, need)| {
            let word = if need.relation == Relation::Recommends { "supplements" } else { "enhances" };
            let evidence = Evidence::entry(self.store.file.clone(), number, format!("{word} {}", need.says));
            Requirement { package: to, needs: number, relation: need.relation, evidence }
        });
        Some(added.collect())
    }

    /// What dnf would remove by `autoremove`: what it noted as a dependency and nothing that was asked for requires,
    /// recommends or suggests, and what supplements nothing of these. `None` where dnf does not manage the machine, or a
    /// reason could not be read.
    pub(super) fn unneeded(&self) -> Option<Unneeded> {
        let records = self.records();
        if self.tool() != Some("dnf") || !records.notes.is_empty() {
            return None;
        }
        let mut wanted: Vec<u32> = Vec::new();
        let mut came_along: Vec<(u32, Evidence)> = Vec::new();
        self.each(&mut |number, header| {
            let (name, arch) = (header.text(tag::NAME).unwrap_or_default(), header.text(tag::ARCH));
            match records.evidence(name, arch).filter(|_| records.reason(name, arch) == Reason::Dependency) {
                Some(evidence) => came_along.push((number, evidence)),
                None => wanted.push(number),
            }
        });
        let declared = self.declared();
        let additions = self.additions(&declared)?;
        let found = loop {
            let found = self.noted(unneeded(&declared.nodes, &wanted, &rpm::compare_needed))?;
            let found: HashSet<u32> = found.into_iter().collect();
            let is_wanted = |one: &&Requirement| {
                one.relation == Relation::Recommends && found.contains(&one.needs) && !found.contains(&one.package)
            };
            let wanted_too: Vec<u32> = additions.iter().filter(is_wanted).map(|one| one.needs).collect();
            if wanted_too.is_empty() {
                break found;
            }
            wanted.extend(wanted_too);
        };
        came_along.retain(|(number, _)| found.contains(number));
        let remedy = Remedy::new(RemedyKind::Remove, CommandLine::new("dnf autoremove"));
        Some(Unneeded { packages: came_along, remedy: Some(remedy.to("remove all that nothing needs")) })
    }

    fn declares(&self, number: u32, relation: Relation, says: &str) -> Evidence {
        Evidence::entry(self.store.file.clone(), number, format!("{} {says}", relation.word()))
    }

    /// Every package with what it provides and needs, and what it adds to.
    fn declared(&self) -> Declared {
        self.declared_with(HashSet::new())
    }

    /// The nodes of all packages. Of their files, they offer those that somebody requires, and these.
    pub(super) fn nodes_with(&self, files: HashSet<Vec<u8>>) -> Vec<Node> {
        self.declared_with(files).nodes
    }

    fn declared_with(&self, mut wanted_files: HashSet<Vec<u8>>) -> Declared {
        let Declared { mut nodes, mut additions } = Declared::default();
        self.each(&mut |number, header| {
            let node = node(number, header);
            let wants = node.needs.iter().flat_map(|need| &need.any_of).filter(|want| want.name.starts_with(b"/"));
            wanted_files.extend(wants.map(|want| want.name.clone()));
            nodes.push(node);
            let strong = named(header, [tag::SUPPLEMENT_NAMES, tag::SUPPLEMENT_FLAGS, tag::SUPPLEMENT_VERSIONS]);
            let hint = named(header, [tag::ENHANCE_NAMES, tag::ENHANCE_FLAGS, tag::ENHANCE_VERSIONS]);
            additions.extend(strong.into_iter().map(|one| (number, need(Relation::Recommends, one))));
            additions.extend(hint.into_iter().map(|one| (number, need(Relation::Suggests, one))));
        });
        // Of files, only those that somebody requires are of interest.
        let names: HashSet<Box<[u8]>> = wanted_files.iter().map(|file| path::name(file).into()).collect();
        let places: HashMap<u32, usize> = nodes.iter().enumerate().map(|(at, node)| (node.number, at)).collect();
        let mut take = |number: u32, header: &Header<'_>| {
            let files = header.files().map(|(_, dir, name)| [dir, name].concat());
            let Some(place) = places.get(&number) else { return };
            nodes[*place].offers.extend(files.filter(|file| wanted_files.contains(file)).map(|file| (file, None)));
        };
        self.among(self.store.with_files(&names), &mut take);
        Declared { nodes, additions }
    }
}

/// The names in an expression such as `(a >= 1 if b)`: any of them may be needed, at whichever version.
fn of_expression(text: &[u8]) -> Vec<Want> {
    let mut names = Vec::new();
    Expression::parse(text).iter().for_each(|expression| expression.names(&mut names));
    names.iter_mut().for_each(|want| want.version = None);
    names
}

/// A name with the flags and the version that belong to it.
type Named<'h> = (&'h [u8], u64, &'h [u8]);

/// Three tags of a header that belong together: names, flags and versions.
fn named<'h>(header: &Header<'h>, [names, flags, versions]: [u32; 3]) -> Vec<Named<'h>> {
    let (flags, versions): (Vec<u64>, Vec<&[u8]>) = (header.numbers(flags).collect(), header.texts(versions).collect());
    let at = |place: usize, name| {
        (name, flags.get(place).copied().unwrap_or_default(), versions.get(place).copied().unwrap_or_default())
    };
    header.texts(names).enumerate().map(|(place, name)| at(place, name)).collect()
}

/// One need as it is declared.
fn need(relation: Relation, (name, flags, version): Named<'_>) -> Need {
    if name.starts_with(b"(") {
        let relation = if relation == Relation::Requires { Relation::RequiresIf } else { relation };
        let says = ByteString::from(name).to_string();
        return Need { any_of: of_expression(name), says, relation };
    }
    let sign = match flags & SIGNS {
        2 => Some("<"),
        4 => Some(">"),
        8 => Some("="),
        10 => Some("<="),
        12 => Some(">="),
        _ => None,
    };
    let version = sign.map(|sign| (sign, version.to_vec()));
    let says = match &version {
        Some((sign, version)) => {
            format!("{} {sign} {}", ByteString::from(name), ByteString::from(version.as_slice()))
        }
        None => ByteString::from(name).to_string(),
    };
    Need { any_of: vec![Want { name: name.to_vec(), version }], says, relation }
}

fn node(number: u32, header: &Header<'_>) -> Node {
    let mut node = Node { number, ..Node::default() };
    // Very old packages do not provide themselves.
    if let Some(name) = header.text(tag::NAME) {
        node.offers.push((name.to_vec(), header.version().map(|version| version.to_vec())));
    }
    for (name, _, version) in named(header, [tag::PROVIDE_NAMES, tag::PROVIDE_FLAGS, tag::PROVIDE_VERSIONS]) {
        node.offers.push((name.to_vec(), Some(version.to_vec()).filter(|version| !version.is_empty())));
    }
    let hard = named(header, [tag::REQUIRE_NAMES, tag::REQUIRE_FLAGS, tag::REQUIRE_VERSIONS]);
    let weak = named(header, [tag::RECOMMEND_NAMES, tag::RECOMMEND_FLAGS, tag::RECOMMEND_VERSIONS]);
    let hint = named(header, [tag::SUGGEST_NAMES, tag::SUGGEST_FLAGS, tag::SUGGEST_VERSIONS]);
    let hard = hard.into_iter().filter(|(name, ..)| !is_rpms_own(name)).map(|one| (Relation::Requires, one));
    let weak = weak.into_iter().map(|one| (Relation::Recommends, one));
    let hint = hint.into_iter().map(|one| (Relation::Suggests, one));
    node.needs.extend(hard.chain(weak).chain(hint).map(|(relation, one)| need(relation, one)));
    node
}
