//! Why a package is here: the chains from what a user asked for down to it.

mod web;

use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;

use super::CheckContext;
use super::timeline::{Span, timeline};
use crate::backend::InnerPackage;
use crate::bytes::ByteString;
use crate::model::{Action, Event, Evidence, ManagerId, Owner, Reason, Relation, Status};
use crate::survey::Survey;
use web::{Node, Step, Web};

/// One thing in a chain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ChainLink {
    /// A package's id, or the path of something that is no package: an unowned program, an environment, a root of a
    /// store.
    pub id: ByteString,
    /// How the thing before it needs it; `null` for the first.
    pub relation: Option<Relation>,
    /// Where that stands; for the first, where it says that it is there.
    pub evidence: Vec<Evidence>,
    /// The package; none for a path.
    #[serde(skip)]
    pub owner: Option<Owner>,
}

/// One reason why a package is here.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Chain {
    /// The package that is explained.
    pub id: ByteString,
    /// Whether a user asked for what the chain begins with; `null` where its manager does not record that.
    pub asked_for: Option<bool>,
    /// Whether the manager keeps what the chain begins with by a rule of its own, whatever needs it.
    pub kept: bool,
    /// When, by whom and with which command, as far as a log or a record tells.
    pub request: Option<Event>,
    /// From what was asked for down to the package that is explained.
    pub chain: Vec<ChainLink>,
}

/// A package that is explained.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Explained {
    /// The package.
    #[serde(flatten)]
    pub owner: Owner,
    /// Whether it was asked for itself.
    pub reason: Reason,
    /// Why its manager keeps it whatever needs it, or does not remove it without being forced to.
    pub protection: Option<Evidence>,
    /// Whether it is read what the packages of its manager need: else there can be reasons that are not told.
    pub is_complete: bool,
}

/// The answer.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Why {
    /// The packages that are explained.
    pub packages: Vec<Explained>,
    /// The reasons; those of one package together, the shortest first.
    pub chains: Vec<Chain>,
}

/// Explains these packages (holder and number).
#[must_use]
pub fn why(cx: &CheckContext<'_, '_>, packages: &[(u16, u32)]) -> Why {
    let mut web = Web::new(cx);
    let mut answer = Why::default();
    for &(holder, number) in packages {
        let held = &cx.survey.installations()[usize::from(holder)];
        let relations = held.relations();
        answer.packages.push(Explained {
            owner: held.owner(number),
            reason: web.reason(holder, number),
            protection: relations
                .and_then(|relations| relations.protection(number))
                .or_else(|| web.kept(&Node::Package(holder, number)).cloned()),
            is_complete: web.is_read(holder),
        });
        let programs = web.programs((holder, number));
        let mut chains = chains(&mut web, (holder, number), &programs, false);
        // What only a suggestion keeps is told where nothing else does.
        if !chains.iter().any(|chain| chain.asked_for == Some(true) || chain.kept) {
            let weaker = self::chains(&mut web, (holder, number), &programs, true);
            chains = if weaker.is_empty() { chains } else { weaker };
        }
        if chains.is_empty() {
            let asked_for = asked_for(web.reason(holder, number));
            chains.push(chain(&mut web, &HashMap::new(), &Node::Package(holder, number), asked_for));
        }
        answer.chains.append(&mut chains);
    }
    add_requests(cx.survey, &mut answer.chains);
    answer
}

/// Explains the packages of a name that lie inside others, of whichever manager.
#[must_use]
pub fn why_inside(cx: &CheckContext<'_, '_>, name: &[u8]) -> Why {
    let mut web = Web::new(cx);
    let mut answer = Why::default();
    for (holder, held) in (0..).zip(cx.survey.installations()) {
        let Some(relations) = held.relations() else { continue };
        for inner in relations.inner(name) {
            let top = Node::Package(holder, inner.outer);
            let mut chain = vec![web.link(&top, None)];
            let (manager, scope) = (held.location().manager, &held.location().scope);
            chain.extend(inner.chain.into_iter().map(|one| {
                let InnerPackage { name, version, dir: id, evidence } = one;
                let owner =
                    Owner { id: id.clone(), manager, scope: scope.clone(), name, version, status: Status::Installed };
                ChainLink { id, relation: Some(Relation::Requires), evidence: vec![evidence], owner: Some(owner) }
            }));
            let Some(owner) = chain.last().and_then(|link| link.owner.clone()) else { continue };
            let id = owner.id.clone();
            if !answer.packages.iter().any(|known| known.owner.id == id) {
                let explained = Explained { owner, reason: Reason::Dependency, protection: None, is_complete: true };
                answer.packages.push(explained);
            }
            let asked_for = web.asked_for(&top);
            answer.chains.push(Chain { id, asked_for, kept: false, request: None, chain });
        }
    }
    // What came along itself is no reason where something that was asked for is one.
    let is_asked = |chain: &&Chain| chain.asked_for != Some(false);
    let asked: HashSet<ByteString> = answer.chains.iter().filter(is_asked).map(|chain| chain.id.clone()).collect();
    answer.chains.retain(|chain| is_asked(&chain) || !asked.contains(&chain.id));
    answer.chains.sort_by_cached_key(|chain| (chain.id.clone(), chain.chain.len()));
    add_requests(cx.survey, &mut answer.chains);
    answer
}

fn asked_for(reason: Reason) -> Option<bool> {
    match reason {
        Reason::Explicit => Some(true),
        Reason::Dependency => Some(false),
        Reason::Unknown => None,
    }
}

/// The shortest chain from each thing that stands at the top of one. `programs` need the package without its manager
/// knowing.
fn chains(web: &mut Web<'_, '_>, target: (u16, u32), programs: &[(Node, Step)], suggested: bool) -> Vec<Chain> {
    let start = Node::Package(target.0, target.1);
    let mut below: HashMap<Node, Step> = HashMap::new();
    let mut seen: HashSet<Node> = HashSet::from_iter([start.clone()]);
    let mut level = vec![start.clone()];
    let mut tops: Vec<(Node, Option<bool>)> = Vec::new();
    let mut kept: HashSet<Node> = HashSet::new();
    if web.reason(target.0, target.1) == Reason::Explicit {
        tops.push((start.clone(), Some(true)));
    }
    while !level.is_empty() {
        let mut steps = web.above(&level, suggested);
        if level[0] == start {
            steps.extend(programs.iter().cloned());
        }
        // Of two ways of the same length the harder one is told.
        steps.sort_by_key(|(_, step)| step.relation);
        let held_up: HashSet<Node> = steps.iter().map(|(_, step)| step.node.clone()).collect();
        let is_free = |node: &&Node| **node != start && !held_up.contains(*node);
        let free: Vec<(Node, Option<bool>)> =
            level.iter().filter(is_free).map(|node| (node.clone(), web.asked_for(node))).collect();
        tops.extend(free);
        level.clear();
        for (node, step) in steps {
            if !seen.insert(node.clone()) {
                continue;
            }
            below.insert(node.clone(), step);
            match web.asked_for(&node) {
                Some(true) => tops.push((node, Some(true))),
                asked_for if web.kept(&node).is_some() => {
                    kept.insert(node.clone());
                    tops.push((node, asked_for));
                }
                _ => level.push(node),
            }
        }
    }
    // What begins with something that nobody needs any more explains little where there is a better reason.
    let is_reason = |node: &Node, asked_for: Option<bool>| asked_for == Some(true) || kept.contains(node);
    if tops.iter().any(|(node, asked_for)| is_reason(node, *asked_for)) {
        tops.retain(|(node, asked_for)| asked_for.is_none() || is_reason(node, *asked_for));
    }
    let mut found: Vec<Chain> = tops.into_iter().map(|(top, asked_for)| chain(web, &below, &top, asked_for)).collect();
    let weakest = |chain: &Chain| chain.chain.iter().filter_map(|link| link.relation).max();
    let id = |chain: &Chain| chain.chain[0].id.clone();
    found.sort_by_cached_key(|chain| {
        (chain.chain.len(), chain.asked_for != Some(true), weakest(chain).is_some_and(Relation::is_optional), id(chain))
    });
    found
}

/// The chain from one thing down.
fn chain(web: &mut Web<'_, '_>, below: &HashMap<Node, Step>, top: &Node, asked_for: Option<bool>) -> Chain {
    let mut chain = vec![web.link(top, None)];
    let mut at = top;
    while let Some(step) = below.get(at) {
        chain.push(web.link(&step.node, Some((step.relation, step.evidence.clone()))));
        at = &step.node;
    }
    let kept = web.kept(top).is_some();
    Chain { id: chain[chain.len() - 1].id.clone(), asked_for, kept, request: None, chain }
}

/// Adds to each chain how that came which it begins with.
fn add_requests(survey: &Survey<'_>, chains: &mut [Chain]) {
    let tops = || chains.iter().filter(|chain| chain.asked_for != Some(false));
    let owners: Vec<&Owner> = tops().filter_map(|chain| chain.chain[0].owner.as_ref()).collect();
    if owners.is_empty() {
        return;
    }
    let mut managers: Vec<ManagerId> = owners.iter().map(|owner| owner.manager).collect();
    managers.sort_unstable();
    managers.dedup();
    let events = timeline(survey, &Span { managers, ..Span::default() }).events;
    let key = |event: &Event| (event.manager, event.scope.clone(), event.name.clone());
    let installs = events.into_iter().filter(|event| event.action == Action::Install);
    // The last one counts: what was removed in between was asked for anew.
    let last: HashMap<_, Event> = installs.map(|event| (key(&event), event)).collect();
    for chain in chains.iter_mut().filter(|chain| chain.asked_for != Some(false)) {
        let Some(owner) = &chain.chain[0].owner else { continue };
        chain.request = last.get(&(owner.manager, owner.scope.clone(), owner.name.clone())).cloned();
    }
}
