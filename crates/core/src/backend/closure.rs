//! What an installation would bring along: the closure of its needs within a catalogue, less what is here.
//!
//! The rules are those that managers have in common: what is installed and fits is kept; of several ways to meet a need
//! the first that the catalogue has is taken; a package by its own name comes before one that provides the name. What is
//! here and no longer fits beside a newer package is upgraded along with it. Where several packages provide a name that
//! is needed, a manager has rules of its own, and the result is said to be uncertain.

use hashbrown::{HashMap, HashSet};

use super::dependency_graph::{Need, Node, Order, Want};
use crate::model::{Pulled, PullsIn, Relation};

/// A package that a catalogue has, at the version that the manager would take.
#[derive(Debug, Clone, Default)]
pub(crate) struct Candidate {
    /// What it offers, its own name first, and what it needs.
    pub(crate) node: Node,
    /// What it is and how large.
    pub(crate) package: Pulled,
}

/// Finds the candidates that have one of these names, or provide it.
pub(crate) type Lookup<'l> = &'l mut dyn FnMut(&HashSet<Vec<u8>>) -> Vec<Candidate>;

/// Far more than any package brings along.
const MAX_PULLED: usize = 20_000;
/// How often more is asked for because of what is there in the end.
const MAX_ADDITIONS: usize = 8;
/// The longest chain of needs that is followed.
const MAX_ROUNDS: usize = 64;

/// The need of a newer version of what is installed.
fn newer_of(node: &Node) -> Option<Need> {
    let (name, version) = node.offers.first()?;
    let version = version.clone().map(|version| (">", version));
    let says = String::from_utf8_lossy(name).into_owned();
    Some(Need { any_of: vec![Want { name: name.clone(), version }], says, relation: Relation::Requires })
}

/// The name that a package is offered under first is its own.
fn own_name(node: &Node) -> &[u8] {
    node.offers.first().map_or(&[], |(name, _)| name)
}

fn meets(offers: &[(Vec<u8>, Option<Vec<u8>>)], want: &Want, order: Order<'_>) -> bool {
    offers.iter().any(|(name, version)| *name == want.name && want.takes(version.as_deref(), order))
}

/// What installing `start` brings along that `installed` does not have. `start` itself is not among it.
pub(crate) fn closure(start: &Node, installed: &[Node], lookup: Lookup<'_>, order: Order<'_>) -> PullsIn {
    let mut state = Closure::new(start, installed, order);
    let mut is_complete = state.follow(lookup);
    for _ in 0..MAX_ROUNDS {
        if state.failed.is_empty() {
            break;
        }
        // What is only recommended and cannot be installed is left out: once more without it.
        let (mut left_out, known) = (std::mem::take(&mut state.left_out), std::mem::take(&mut state.known));
        left_out.extend(std::mem::take(&mut state.failed));
        state = Closure { left_out, known, ..Closure::new(start, installed, order) };
        is_complete = state.follow(lookup);
    }
    let pulled = &state.pulled;
    let total =
        |size: &dyn Fn(&Pulled) -> Option<u64>| pulled.iter().map(|one| size(&one.package)).sum::<Option<u64>>();
    PullsIn {
        download_size: total(&|one| one.download_size),
        installed_size: total(&|one| one.installed_size),
        complete: state.is_certain && is_complete,
        packages: state.pulled.into_iter().map(|one| one.package).collect(),
    }
}

/// The same where packages also come because of what is there in the end: `more` is told what comes along so far, and
/// tells what that needs besides, until it is nothing new. `None` where there is no end to it.
pub(crate) fn closure_until(
    start: &Node,
    installed: &[Node],
    lookup: Lookup<'_>,
    order: Order<'_>,
    more: &mut dyn FnMut(&PullsIn) -> Vec<Need>,
) -> Option<PullsIn> {
    let mut start = start.clone();
    let mut asked: HashSet<Vec<Want>> = HashSet::new();
    for _ in 0..MAX_ADDITIONS {
        let found = closure(&start, installed, lookup, order);
        let mut new = more(&found);
        new.retain(|need| asked.insert(need.any_of.clone()));
        if new.is_empty() {
            return Some(found);
        }
        start.needs.extend(new);
    }
    None
}

/// What is there, by what it offers.
#[derive(Clone)]
pub(crate) struct Present<'n> {
    of_name: HashMap<&'n [u8], Vec<Option<&'n [u8]>>>,
    order: Order<'n>,
}

impl<'n> Present<'n> {
    pub(crate) fn new(nodes: &'n [Node], order: Order<'n>) -> Self {
        Present { of_name: HashMap::new(), order }.with(nodes)
    }

    /// With more packages.
    pub(crate) fn with(mut self, nodes: impl IntoIterator<Item = &'n Node>) -> Self {
        for (name, version) in nodes.into_iter().flat_map(|node| &node.offers) {
            self.of_name.entry(name).or_default().push(version.as_deref());
        }
        self
    }

    /// Whether something meets a want.
    pub(crate) fn meets(&self, want: &Want) -> bool {
        self.of_name
            .get(&*want.name)
            .is_some_and(|versions| versions.iter().any(|version| want.takes(*version, self.order)))
    }
}

/// A need, and by its place the pulled package without which nothing of it were needed: one that is only recommended.
struct Open {
    need: Need,
    for_optional: Option<usize>,
}

/// What is there and what was taken so far.
struct Closure<'c> {
    start: &'c Node,
    order: Order<'c>,
    /// What is installed, by what it offers; without what a newer package stands in for.
    here: HashMap<&'c [u8], Vec<&'c Node>>,
    /// What is installed, by what it needs.
    dependents: HashMap<&'c [u8], Vec<&'c Node>>,
    /// The names of what newer packages stand in for.
    replaced: HashSet<Vec<u8>>,
    pulled: Vec<Candidate>,
    /// The places of pulled packages, by what they offer.
    of_name: HashMap<Vec<u8>, Vec<usize>>,
    /// What the catalogue has of each name that was looked up.
    known: HashMap<Vec<u8>, Vec<Candidate>>,
    is_certain: bool,
    /// Packages that are only recommended, and need something that nobody has.
    failed: HashSet<Vec<u8>>,
    /// Such packages, as they are left out.
    left_out: HashSet<Vec<u8>>,
}

impl<'c> Closure<'c> {
    fn new(start: &'c Node, installed: &'c [Node], order: Order<'c>) -> Self {
        let mut here: HashMap<&[u8], Vec<&Node>> = HashMap::new();
        let mut dependents: HashMap<&[u8], Vec<&Node>> = HashMap::new();
        for node in installed {
            for (name, _) in &node.offers {
                here.entry(name).or_default().push(node);
            }
            for want in node.needs.iter().filter(|need| !need.is_optional()).flat_map(|need| &need.any_of) {
                dependents.entry(&want.name).or_default().push(node);
            }
        }
        let (replaced, pulled, of_name, known) = Default::default();
        let (failed, left_out) = Default::default();
        Closure { start, order, here, dependents, replaced, pulled, of_name, known, is_certain: true, failed, left_out }
    }

    /// Meets one need after the other; whether all of them were followed.
    fn follow(&mut self, lookup: Lookup<'_>) -> bool {
        let before = self.installed_before(own_name(self.start));
        let mut needs: Vec<Need> = self.new_needs(self.start, before).cloned().collect();
        if before.is_some() {
            self.replace(own_name(self.start).to_vec(), &mut needs);
        }
        let mut open: Vec<Open> = needs.into_iter().map(|need| Open { need, for_optional: None }).collect();
        for _ in 0..MAX_ROUNDS {
            open.retain(|one| !self.meets(&one.need));
            if open.is_empty() || self.pulled.len() >= MAX_PULLED {
                break;
            }
            self.look_up(&open, lookup);
            let mut next: Vec<Open> = Vec::new();
            for one in std::mem::take(&mut open) {
                if !self.meets(&one.need) {
                    self.meet(&one, &mut next);
                }
            }
            open = next;
        }
        open.is_empty()
    }

    /// Whether a need is met by what is there, by what was taken, or by what is to be installed itself.
    fn meets(&self, need: &Need) -> bool {
        need.any_of.iter().any(|want| {
            let does = |node: &Node| meets(&node.offers, want, self.order);
            let of_name = |name: &[u8]| self.of_name.get(name).map_or(&[][..], Vec::as_slice);
            does(self.start)
                || self.here.get(&*want.name).is_some_and(|nodes| nodes.iter().any(|node| does(node)))
                || of_name(&want.name).iter().any(|at| does(&self.pulled[*at].node))
        })
    }

    /// Asks the catalogue for the names that were not looked up before.
    fn look_up(&mut self, open: &[Open], lookup: Lookup<'_>) {
        let names = open.iter().flat_map(|one| one.need.any_of.iter().map(|want| want.name.clone()));
        let asked: HashSet<Vec<u8>> = names.filter(|name| !self.known.contains_key(name)).collect();
        if asked.is_empty() {
            return;
        }
        self.known.extend(asked.iter().map(|name| (name.clone(), Vec::new())));
        for candidate in lookup(&asked) {
            let names: HashSet<&Vec<u8>> = candidate.node.offers.iter().map(|(name, _)| name).collect();
            for name in names.into_iter().filter(|name| asked.contains(*name)) {
                self.known.entry(name.clone()).or_default().push(candidate.clone());
            }
        }
    }

    /// The package that meets a need, if the catalogue has one.
    fn found(&mut self, need: &Need) -> Option<Candidate> {
        for want in &need.any_of {
            let Some(known) = self.known.get(&want.name) else { continue };
            let is_left_out = |one: &Candidate| need.is_optional() && self.left_out.contains(own_name(&one.node));
            let fits = |one: &&Candidate| meets(&one.node.offers, want, self.order) && !is_left_out(one);
            let fitting: Vec<&Candidate> = known.iter().filter(fits).collect();
            let own = fitting.iter().find(|one| own_name(&one.node) == want.name);
            // Several versions of one package: the catalogue has the best first.
            let is_one = fitting.iter().all(|one| own_name(&one.node) == own_name(&fitting[0].node));
            let chosen = own.or(if is_one { fitting.first() } else { fitting.last() });
            if let Some(found) = chosen {
                self.is_certain &= own.is_some() || is_one;
                return Some((*found).clone());
            }
        }
        None
    }

    /// What is installed of a package.
    fn installed_before(&self, name: &[u8]) -> Option<&'c Node> {
        self.here.get(name).and_then(|nodes| nodes.iter().find(|node| own_name(node) == name)).copied()
    }

    /// The needs of a package. What an installed one recommends and does not have, its upgrade does not bring either.
    fn new_needs<'n>(&self, node: &'n Node, before: Option<&'n Node>) -> impl Iterator<Item = &'n Need> {
        let is_old = move |need: &Need| {
            need.is_optional() && before.is_some_and(|node| node.needs.iter().any(|old| old.any_of == need.any_of))
        };
        node.needs.iter().filter(move |need| !is_old(need))
    }

    /// Takes what meets a need; what that needs in turn is added to `next`.
    fn meet(&mut self, one: &Open, next: &mut Vec<Open>) {
        let Some(found) = self.found(&one.need) else {
            match one.for_optional {
                _ if one.need.is_optional() => {}
                Some(place) => {
                    self.failed.insert(own_name(&self.pulled[place].node).to_vec());
                }
                None => self.is_certain = false,
            }
            return;
        };
        let for_optional = if one.need.is_optional() { Some(self.pulled.len()) } else { one.for_optional };
        let name = own_name(&found.node).to_vec();
        let before = self.installed_before(&name);
        let mut needs: Vec<Need> = self.new_needs(&found.node, before).cloned().collect();
        for (name, _) in &found.node.offers {
            self.of_name.entry(name.clone()).or_default().push(self.pulled.len());
        }
        self.pulled.push(found);
        if before.is_some() {
            self.replace(name, &mut needs);
        }
        next.extend(needs.into_iter().map(|need| Open { need, for_optional }));
    }

    /// What stands in for a package that is here must suit those that need it: else they are upgraded, too.
    fn replace(&mut self, name: Vec<u8>, next: &mut Vec<Need>) {
        self.here.values_mut().for_each(|nodes| nodes.retain(|node| own_name(node) != name));
        for node in self.dependents.get(&*name).into_iter().flatten() {
            let needs_it = |need: &&Need| need.any_of.iter().any(|want| want.name == name);
            let is_lost = |need: &Need| !need.is_optional() && !self.meets(need);
            if !self.replaced.contains(own_name(node)) && node.needs.iter().filter(needs_it).any(is_lost) {
                next.extend(newer_of(node));
            }
        }
        self.replaced.insert(name);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::version::debian;

    fn need(text: &str) -> Need {
        let (text, relation) = match text.strip_prefix('?') {
            Some(text) => (text, Relation::Recommends),
            None => (text, Relation::Requires),
        };
        let want = |text: &str| {
            let mut words = text.split_whitespace();
            let name = words.next().unwrap().as_bytes().to_vec();
            Want { name, version: words.next().map(|version| (">=", version.as_bytes().to_vec())) }
        };
        Need { any_of: text.split('|').map(want).collect(), says: text.to_owned(), relation }
    }

    fn node(name: &str, version: &str, provides: &[&str], needs: &[&str]) -> Node {
        let own = (name.as_bytes().to_vec(), Some(version.as_bytes().to_vec()));
        let others = provides.iter().map(|name| (name.as_bytes().to_vec(), None));
        Node {
            number: 0,
            offers: std::iter::once(own).chain(others).collect(),
            needs: needs.iter().map(|text| need(text)).collect(),
        }
    }

    #[test]
    fn only_what_is_not_here_comes_along() {
        let catalogue = [
            node("libtide", "3.0", &[], &["libc"]),
            node("libc", "2.40", &[], &[]),
            node("quay-mta", "1", &["mta"], &["libtide"]),
            node("mole-mta", "1", &["mta"], &[]),
            node("charts", "5", &[], &["chartdata"]),
            node("gauges", "5", &[], &["libtide 3.0", "?charts", "?lamps"]),
            node("lamps", "5", &[], &["libc"]),
            node("tide-tools", "3.0", &[], &["libtide 3.0"]),
        ];
        let pinned = Need {
            any_of: vec![Want { name: b"libtide".to_vec(), version: Some(("=", b"2.0".to_vec())) }],
            ..need("libtide")
        };
        let mut tools = node("tide-tools", "2.0", &[], &[]);
        tools.needs.push(pinned);
        let installed = [node("libc", "2.36", &[], &[]), node("libtide", "2.0", &[], &[]), tools];
        for (needs, expected, complete) in [
            (&["libc"][..], &[][..], true),
            (&["libtide"], &[], true),
            (&["libtide 3.0"], &["libtide", "tide-tools"], true),
            (&["libc 2.38", "libtide 3.0"], &["libc", "libtide", "tide-tools"], true),
            (&["nothing|libtide 3.0"], &["libtide", "tide-tools"], true),
            (&["mta"], &["mole-mta"], false),
            (&["charts"], &["charts"], false),
            // What is only recommended and cannot be installed stays away.
            (&["?charts"], &[], true),
            (&["gauges"], &["gauges", "libtide", "lamps", "tide-tools"], true),
            (&["chartplot"], &[], true),
        ] {
            let mut lookup = |names: &HashSet<Vec<u8>>| {
                let has = |node: &&Node| node.offers.iter().any(|(name, _)| names.contains(name));
                let found = catalogue.iter().filter(has).map(|node| Candidate {
                    package: Pulled { name: (&*node.offers[0].0).into(), ..Pulled::default() },
                    node: node.clone(),
                });
                found.collect()
            };
            let start = node("chartplot", "1", &[], needs);
            let found = closure(&start, &installed, &mut lookup, &|a, b| debian::compare(a, b));
            let names: Vec<String> = found.packages.iter().map(|one| one.name.to_string()).collect();
            assert_eq!(
                (&names[..], found.complete),
                (&expected.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>()[..], complete),
                "{needs:?}"
            );
        }
    }
}
