//! Who needs whom, over all managers, looked at from below.

use hashbrown::HashMap;

use super::ChainLink;
use crate::backend::{Detail, Installation, Relations, Requirement};
use crate::bytes::{ByteString, path};
use crate::model::{Evidence, Reason, Relation, Scope};
use crate::queries::impact::{How, lost_by};
use crate::queries::{CheckContext, by_holder};

/// Something that can need packages.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) enum Node {
    /// A package: holder and number.
    Package(u16, u32),
    /// Something else, by its path.
    Path(ByteString),
}

/// What is below a node in a chain.
#[derive(Debug, Clone)]
pub(super) struct Step {
    pub(super) node: Node,
    pub(super) relation: Relation,
    pub(super) evidence: Evidence,
}

/// What the packages of one installation need: for each, who needs it. `None` where that is not read.
type Above = Option<HashMap<u32, Vec<Requirement>>>;

/// The relations, read when they are first needed.
pub(super) struct Web<'a, 's> {
    cx: &'a CheckContext<'a, 's>,
    above: HashMap<u16, Above>,
    reasons: HashMap<u16, HashMap<u32, Reason>>,
    kept: HashMap<u16, HashMap<u32, Evidence>>,
}

impl<'a, 's> Web<'a, 's> {
    pub(super) fn new(cx: &'a CheckContext<'a, 's>) -> Self {
        Web { cx, above: HashMap::new(), reasons: HashMap::new(), kept: HashMap::new() }
    }

    fn held(&self, holder: u16) -> &'a dyn Installation {
        &*self.cx.survey.installations()[usize::from(holder)]
    }

    /// Whether a package was asked for.
    pub(super) fn reason(&mut self, holder: u16, number: u32) -> Reason {
        let held = self.held(holder);
        let reasons = self.reasons.entry(holder).or_insert_with(|| {
            held.numbered(Detail::default()).into_iter().map(|(at, one)| (at, one.reason)).collect()
        });
        // Paths of a store that a profile has, or that are no software, came along as well.
        reasons.get(&number).copied().unwrap_or(Reason::Dependency)
    }

    /// Whether a user asked for it; `None` where that is not recorded. A thing that is no package stands for itself.
    pub(super) fn asked_for(&mut self, node: &Node) -> Option<bool> {
        match node {
            Node::Package(holder, number) => super::asked_for(self.reason(*holder, *number)),
            Node::Path(_) => None,
        }
    }

    /// Where it says that its manager keeps a package by a rule of its own.
    pub(super) fn kept(&mut self, node: &Node) -> Option<&Evidence> {
        let (holder, number) = node.package()?;
        let held = self.held(holder);
        let kept =
            self.kept.entry(holder).or_insert_with(|| held.relations().into_iter().flat_map(Relations::kept).collect());
        kept.get(&number)
    }

    fn of(&mut self, holder: u16) -> &Above {
        let held = self.held(holder);
        self.above.entry(holder).or_insert_with(|| {
            let requirements = held.relations()?.requirements()?;
            let mut above: HashMap<u32, Vec<Requirement>> = HashMap::new();
            for requirement in requirements {
                above.entry(requirement.needs).or_default().push(requirement);
            }
            Some(above)
        })
    }

    /// Whether it is read what the packages of an installation need.
    pub(super) fn is_read(&mut self, holder: u16) -> bool {
        self.of(holder).is_some()
    }

    /// What needs these, each with what it needs. `suggested` takes suggestions for needs.
    pub(super) fn above(&mut self, level: &[Node], suggested: bool) -> Vec<(Node, Step)> {
        let mut found = Vec::new();
        let packages: Vec<(u16, u32)> = level.iter().filter_map(Node::package).collect();
        for &(holder, number) in &packages {
            let needed = Node::Package(holder, number);
            let above = self.of(holder).as_ref().and_then(|above| above.get(&number));
            let strong = |one: &&Requirement| suggested || one.relation != Relation::Suggests;
            found.extend(above.into_iter().flatten().filter(strong).map(|one| {
                let step = Step { node: needed.clone(), relation: one.relation, evidence: one.evidence.clone() };
                (Node::Package(holder, one.package), step)
            }));
        }
        self.add_foreign(&packages, &mut found);
        found.extend(packages.iter().filter_map(|package| self.application(*package)));
        found
    }

    /// What needs these in other installations of their managers, and what keeps them without being a package.
    fn add_foreign(&self, packages: &[(u16, u32)], found: &mut Vec<(Node, Step)>) {
        for (holder, numbers) in by_holder(packages.iter().copied()) {
            let held = self.held(holder);
            let Some(relations) = held.relations() else { continue };
            found.extend(relations.keepers(&numbers).into_iter().map(|(number, path, evidence)| {
                let node = Node::Package(holder, number);
                (Node::Path(path), Step { node, relation: Relation::KeptBy, evidence })
            }));
            let elsewhere = self.cx.survey.dependents_elsewhere(holder, &numbers);
            found.extend(elsewhere.into_iter().map(|(other, one)| {
                let node = Node::Package(holder, one.needs);
                (Node::Package(other, one.package), Step { node, relation: one.relation, evidence: one.evidence })
            }));
        }
    }

    /// The application for whose sake a tool made the environment that a package is in.
    fn application(&self, (holder, number): (u16, u32)) -> Option<(Node, Step)> {
        let owner = self.held(holder).owner(number);
        let Scope::Environment(dir) = &owner.scope else { return None };
        let settings = path::join(dir, b"pyvenv.cfg");
        let application = self.cx.survey.ownership_of(&settings).filter(|one| one.id != owner.id)?;
        let (of, at) = self.cx.survey.by_name_or_id(&application.id).into_iter().next()?;
        let evidence = Evidence::directory(dir.clone(), format!("the environment of {}", application.name));
        Some((
            Node::Package(of, at),
            Step { node: Node::Package(holder, number), relation: Relation::KeptBy, evidence },
        ))
    }

    /// The environments, scripts and compiled programs that need a package without its manager knowing.
    pub(super) fn programs(&self, needed: (u16, u32)) -> Vec<(Node, Step)> {
        let mut found = Vec::new();
        for lost in lost_by(self.cx, &[needed]) {
            let relation = match lost.how {
                How::Base | How::Interpreter => Relation::BaseOf,
                How::Library => Relation::Requires,
                _ => continue,
            };
            let owner =
                lost.owner.as_ref().and_then(|owner| self.cx.survey.by_name_or_id(&owner.id).into_iter().next());
            let node = match (owner, lost.path) {
                // What its own manager records is told by that.
                (Some((holder, _)), _) if holder == needed.0 => continue,
                (Some((holder, number)), _) => Node::Package(holder, number),
                (None, Some(path)) => Node::Path(path),
                (None, None) => continue,
            };
            let Some(evidence) = lost.evidence.into_iter().next() else { continue };
            found.push((node, Step { node: Node::Package(needed.0, needed.1), relation, evidence }));
        }
        found
    }

    /// A node as a part of a chain.
    pub(super) fn link(&mut self, node: &Node, below: Option<(Relation, Evidence)>) -> ChainLink {
        let kept = if below.is_none() { self.kept(node).cloned() } else { None };
        let (relation, evidence) = below.map_or((None, None), |(relation, evidence)| (Some(relation), Some(evidence)));
        match node {
            Node::Package(holder, number) => {
                let held = self.held(*holder);
                let owner = held.owner(*number);
                let evidence = evidence.or(kept).map_or_else(|| held.package_evidence(*number), |one| vec![one]);
                ChainLink { id: owner.id.clone(), relation, evidence, owner: Some(owner) }
            }
            Node::Path(path) => {
                ChainLink { id: path.clone(), relation, evidence: evidence.into_iter().collect(), owner: None }
            }
        }
    }
}

impl Node {
    fn package(&self) -> Option<(u16, u32)> {
        match self {
            Node::Package(holder, number) => Some((*holder, *number)),
            Node::Path(_) => None,
        }
    }
}
