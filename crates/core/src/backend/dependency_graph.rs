//! Who depends on whom, within one manager: which packages can no longer be as they are once some are removed.

use std::cell::Cell;
use std::cmp::Ordering;
use std::collections::BTreeSet;

use hashbrown::{HashMap, HashSet};

use crate::bytes::ByteString;
use crate::fs::Root;
use crate::model::Relation;

/// What a package needs: one of several.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Need {
    /// Any of these is enough.
    pub any_of: Vec<Want>,
    /// As it is written.
    pub says: String,
    /// How hard it is needed.
    pub relation: Relation,
}

impl Need {
    /// A need of something by its name, at whichever version.
    pub(crate) fn of(name: &[u8], relation: Relation) -> Self {
        let any_of = vec![Want { name: name.to_vec(), version: None }];
        Need { any_of, says: ByteString::from(name).to_string(), relation }
    }

    /// Whether a package works without it.
    #[must_use]
    pub fn is_optional(&self) -> bool {
        self.relation.is_optional()
    }
}

/// One way to meet a need.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Want {
    /// A package's name, or something that packages provide.
    pub name: Vec<u8>,
    /// A sign (`<`, `<=`, `=`, `>=`, `>`) and the version that it is about.
    pub version: Option<(&'static str, Vec<u8>)>,
}

/// What one package offers to others, and needs of them.
#[derive(Debug, Clone, Default)]
pub struct Node {
    /// Its number.
    pub number: u32,
    /// Its name, and what it provides, each with a version where it has one.
    pub offers: Vec<(Vec<u8>, Option<Vec<u8>>)>,
    /// What it needs.
    pub needs: Vec<Need>,
}

impl Node {
    /// What it does not work without.
    fn hard_needs(&self) -> impl Iterator<Item = &Need> {
        self.needs.iter().filter(|need| !need.is_optional())
    }
}

/// A manager's ordering of a version against one that is wanted.
pub type Order<'a> = &'a dyn Fn(&[u8], &[u8]) -> Ordering;

impl Want {
    /// Whether this version of what has the name is one that is wanted.
    pub(crate) fn takes(&self, version: Option<&[u8]>, order: Order<'_>) -> bool {
        match (&self.version, version) {
            (None, _) => true,
            (Some((sign, wanted)), Some(version)) => fits(order(version, wanted), sign),
            (Some(_), None) => false,
        }
    }
}

/// The signs of a [`Want`]: how a version compares.
pub(crate) const SIGNS: [&str; 5] = ["<", "<=", "=", ">=", ">"];

/// The sign that a text is.
pub(crate) fn sign_of(text: &[u8]) -> Option<&'static str> {
    SIGNS.into_iter().find(|sign| sign.as_bytes() == text)
}

/// Whether an order is one that a sign takes.
fn fits(order: Ordering, sign: &str) -> bool {
    match sign {
        "<" => order.is_lt(),
        "<=" => order.is_le(),
        "=" => order.is_eq(),
        ">=" => order.is_ge(),
        _ => order.is_gt(),
    }
}

/// Which node offers a name, and at which version.
type Offered<'a> = (usize, Option<&'a [u8]>);

/// So many offers are compared with needs, and so many pairs are told. Five thousand packages of a distribution take a
/// fiftieth of it; where thousands of packages offer one thing that thousands need, nothing else ends.
const MAX_STEPS: usize = 20_000_000;
const MAX_EDGES: usize = 2_000_000;

/// Too many packages offer what too many need.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("too many packages offer what too many others need: which needs which is unknown")]
pub struct TooManyWays;

/// What was found; where that is nothing, the loss is noted with the record in which packages say what they need.
pub fn noted<T>(root: &Root, record: &[u8], found: Result<T, TooManyWays>) -> Option<T> {
    found.map_err(|lost| root.note_gap(record, lost.to_string())).ok()
}

/// Nodes, and who offers what.
struct Graph<'a> {
    nodes: &'a [Node],
    by_name: HashMap<&'a [u8], Vec<Offered<'a>>>,
    order: Order<'a>,
    steps: Cell<usize>,
}

impl<'a> Graph<'a> {
    fn new(nodes: &'a [Node], order: Order<'a>) -> Self {
        let mut by_name: HashMap<&[u8], Vec<Offered<'_>>> = HashMap::new();
        for (place, node) in nodes.iter().enumerate() {
            for (name, version) in &node.offers {
                by_name.entry(name).or_default().push((place, version.as_deref()));
            }
        }
        Graph { nodes, by_name, order, steps: Cell::new(0) }
    }

    /// The places of the nodes that meet a want; none more once there were too many steps.
    fn meeting(&self, want: &Want) -> impl Iterator<Item = usize> {
        let of_name = self.by_name.get(&*want.name).into_iter().flatten();
        let within = of_name.take_while(|_| self.step());
        within.filter(|(_, version)| want.takes(*version, self.order)).map(|(place, _)| *place)
    }

    /// Counts a step; whether it is one of those that are taken.
    fn step(&self) -> bool {
        self.steps.set(self.steps.get() + 1);
        self.steps.get() <= MAX_STEPS
    }

    fn is_met(&self, need: &Need, gone: &HashSet<u32>) -> bool {
        need.any_of.iter().any(|want| self.meeting(want).any(|place| !gone.contains(&self.nodes[place].number)))
    }

    /// What was found, if it was found within the steps.
    fn within_steps<T>(&self, found: T) -> Result<T, TooManyWays> {
        if self.steps.get() <= MAX_STEPS { Ok(found) } else { Err(TooManyWays) }
    }
}

/// The packages that lose something they need when `removed` go, and those that lose these, each with the need that is
/// not met any more. What was not met before is not told.
///
/// # Errors
/// When there are too many ways to meet the needs.
pub fn losers(nodes: &[Node], removed: &[u32], order: Order<'_>) -> Result<Vec<(u32, String)>, TooManyWays> {
    let graph = Graph::new(nodes, order);
    let mut needing: HashMap<&[u8], Vec<usize>> = HashMap::new();
    for (place, node) in nodes.iter().enumerate() {
        for want in node.hard_needs().flat_map(|need| &need.any_of) {
            needing.entry(&want.name).or_default().push(place);
        }
    }
    let nobody = HashSet::new();
    let mut gone: HashSet<u32> = removed.iter().copied().collect();
    let mut found: Vec<(u32, String)> = Vec::new();
    let mut leaving: Vec<usize> = (0..nodes.len()).filter(|place| gone.contains(&nodes[*place].number)).collect();
    while !leaving.is_empty() {
        // Only who needs something of those that leave can lose anything.
        let offers = leaving.iter().flat_map(|place| &nodes[*place].offers);
        let concerned: BTreeSet<usize> = offers
            .filter_map(|(name, _)| needing.get(&**name))
            .flatten()
            .copied()
            .take_while(|_| graph.step())
            .collect();
        leaving.clear();
        let mut new = Vec::new();
        for place in concerned {
            let node = &nodes[place];
            if gone.contains(&node.number) {
                continue;
            }
            let lost = node.hard_needs().find(|need| !graph.is_met(need, &gone) && graph.is_met(need, &nobody));
            if let Some(need) = lost {
                leaving.push(place);
                new.push((node.number, need.says.clone()));
            }
        }
        graph.within_steps(())?;
        gone.extend(new.iter().map(|(number, _)| *number));
        found.extend(new);
    }
    Ok(found)
}

/// Who needs whom: every need with each package that meets it. A need that nothing meets is not among them, and what a
/// package needs of itself neither.
///
/// # Errors
/// When there are too many ways to meet the needs.
pub fn edges<'n>(nodes: &'n [Node], order: Order<'_>) -> Result<Vec<(u32, u32, &'n Need)>, TooManyWays> {
    let needs = nodes.iter().flat_map(|node| node.needs.iter().map(|need| (node.number, need)));
    edges_of(nodes, needs, order)
}

/// As [`edges`], of needs that are not the nodes' own, each with the number of whoever declares it.
///
/// # Errors
/// When there are too many ways to meet the needs.
pub fn edges_of<'n>(
    nodes: &[Node],
    needs: impl Iterator<Item = (u32, &'n Need)>,
    order: Order<'_>,
) -> Result<Vec<(u32, u32, &'n Need)>, TooManyWays> {
    let graph = Graph::new(nodes, order);
    let mut found = Vec::new();
    for (declaring, need) in needs {
        let mut met: Vec<u32> =
            need.any_of.iter().flat_map(|want| graph.meeting(want)).map(|place| nodes[place].number).collect();
        met.sort_unstable();
        met.dedup();
        let others = met.into_iter().filter(|number| *number != declaring);
        found.extend(others.map(|number| (declaring, number, need)));
        graph.within_steps(())?;
        if found.len() > MAX_EDGES {
            return Err(TooManyWays);
        }
    }
    Ok(found)
}

/// What nodes need hard and nothing meets, each with the number of whoever needs it.
///
/// # Errors
/// When there are too many ways to meet the needs.
pub fn unmet<'n>(nodes: &'n [Node], order: Order<'_>) -> Result<Vec<(u32, &'n Need)>, TooManyWays> {
    let graph = Graph::new(nodes, order);
    let nobody = HashSet::new();
    let hard = nodes.iter().flat_map(|node| node.hard_needs().map(|need| (node.number, need)));
    let found = hard.filter(|(_, need)| !graph.is_met(need, &nobody)).collect();
    graph.within_steps(found)
}

/// The packages that none of `wanted` needs, by itself or through others. Whatever meets a need is needed, also where
/// one of several would do.
///
/// # Errors
/// When there are too many ways to meet the needs.
pub fn unneeded(nodes: &[Node], wanted: &[u32], order: Order<'_>) -> Result<Vec<u32>, TooManyWays> {
    let graph = Graph::new(nodes, order);
    let wanted: HashSet<u32> = wanted.iter().copied().collect();
    let mut is_needed: Vec<bool> = nodes.iter().map(|node| wanted.contains(&node.number)).collect();
    let mut open: Vec<usize> = (0..nodes.len()).filter(|place| is_needed[*place]).collect();
    let mut met: HashSet<&Want> = HashSet::new();
    while let Some(place) = open.pop() {
        for want in nodes[place].needs.iter().flat_map(|need| &need.any_of).filter(|want| met.insert(want)) {
            for next in graph.meeting(want) {
                if !std::mem::replace(&mut is_needed[next], true) {
                    open.push(next);
                }
            }
        }
    }
    let unneeded = nodes.iter().zip(is_needed).filter(|(_, is_needed)| !is_needed).map(|(node, _)| node.number);
    graph.within_steps(unneeded.collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_goes_takes_along_what_has_no_other_way() {
        let need = |text: &str| Need {
            any_of: text.split('|').map(|name| Want { name: name.as_bytes().to_vec(), version: None }).collect(),
            says: text.to_owned(),
            relation: Relation::Requires,
        };
        let node = |number, offers: &[&str], needs: &[&str]| Node {
            number,
            offers: offers.iter().map(|name| (name.as_bytes().to_vec(), None)).collect(),
            needs: needs.iter().map(|text| need(text)).collect(),
        };
        let nodes = [
            node(0, &["quay", "mole"], &[]),
            node(1, &["ferry"], &["quay"]),
            node(2, &["board"], &["ferry"]),
            node(3, &["buoy"], &["mole|pier"]),
            node(4, &["pier"], &[]),
            node(5, &["lamp"], &["never-there"]),
        ];
        let order: Order<'_> = &|_, _| Ordering::Equal;
        let lost = losers(&nodes, &[0], order).unwrap();
        assert_eq!(lost, [(1, "quay".to_owned()), (2, "ferry".to_owned())]);
        assert_eq!(losers(&nodes, &[0, 4], order).unwrap().len(), 3);
        let lacking = unmet(&nodes, order).unwrap();
        assert_eq!(
            lacking.iter().map(|(number, need)| (*number, &*need.says)).collect::<Vec<_>>(),
            [(5, "never-there")]
        );
        let who: Vec<(u32, u32)> = edges(&nodes, order).unwrap().iter().map(|edge| (edge.0, edge.1)).collect();
        assert_eq!(who, [(1, 0), (2, 1), (3, 0), (3, 4)]);
        assert_eq!(unneeded(&nodes, &[2], order).unwrap(), [3, 4, 5]);
        assert_eq!(unneeded(&nodes, &[3], order).unwrap(), [1, 2, 5], "whatever would do is needed");
        assert_eq!(unneeded(&nodes, &[], order).unwrap().len(), nodes.len());
    }

    #[test]
    fn what_thousands_offer_and_thousands_need_ends_with_an_error() {
        let order: Order<'_> = &|_, _| Ordering::Equal;
        let node = |number: u32| Node {
            number,
            offers: vec![(b"quay".to_vec(), None), (number.to_string().into_bytes(), None)],
            needs: vec![Need::of(b"quay", Relation::Requires)],
        };
        let nodes: Vec<Node> = (0..5000).map(node).collect();
        assert_eq!(edges(&nodes, order), Err(TooManyWays));
        // One of them is enough, and what was needed once is not looked at again.
        assert_eq!(losers(&nodes, &[0], order), Ok(Vec::new()));
        assert_eq!(unneeded(&nodes, &[0], order), Ok(Vec::new()));
        let chain = |number: u32| Node {
            number,
            offers: vec![(number.to_string().into_bytes(), None)],
            needs: number
                .checked_sub(1)
                .map(|below| Need::of(below.to_string().as_bytes(), Relation::Requires))
                .into_iter()
                .collect(),
        };
        let nodes: Vec<Node> = (0..5000).map(chain).collect();
        assert_eq!(losers(&nodes, &[0], order).unwrap().len(), 4999, "each loses what the one before it offered");
    }
}
