//! What removing packages would free, together with what only they need.

use hashbrown::{HashMap, HashSet};

use super::measure::{Key, Measured};
use crate::backend::Detail;
use crate::managers;
use crate::model::{ManagerKind, Reason};
use crate::queries::by_holder;
use crate::survey::Survey;

/// Who needs whom in one installation.
struct Graph {
    /// What each package needs, hard or not.
    needs: HashMap<u32, Vec<u32>>,
    /// Who cannot do without it.
    dependents: HashMap<u32, Vec<u32>>,
    /// What stays although nothing needs it.
    roots: Vec<u32>,
    /// What is needed now.
    needed: HashSet<u32>,
    /// What the manager does not remove.
    protected: HashSet<u32>,
}

impl Graph {
    /// `None` where the relations are not read, or where removing something does not free it.
    fn of(survey: &Survey<'_>, holder: u16) -> Option<Self> {
        let held = &survey.installations()[usize::from(holder)];
        // What goes from a profile stays in the store as long as an older generation has it.
        if managers::profile(held.location().manager).kind == ManagerKind::Store {
            return None;
        }
        let relations = held.relations()?;
        let (mut needs, mut dependents): (HashMap<u32, Vec<u32>>, HashMap<u32, Vec<u32>>) = Default::default();
        for one in relations.requirements()? {
            needs.entry(one.package).or_default().push(one.needs);
            if !one.relation.is_optional() {
                dependents.entry(one.needs).or_default().push(one.package);
            }
        }
        let asked = held.numbered(Detail::default()).into_iter();
        let asked = asked.filter(|(_, package)| package.reason != Reason::Dependency);
        let mut roots: Vec<u32> = asked.map(|(number, _)| number).collect();
        let kept: HashSet<u32> = relations.kept().into_iter().map(|(number, _)| number).collect();
        let protected: HashSet<u32> =
            kept.iter().copied().filter(|number| relations.protection(*number).is_some()).collect();
        roots.extend(kept);
        let mut graph = Graph { needs, dependents, roots, needed: HashSet::new(), protected };
        graph.needed = graph.reached(&HashSet::new());
        Some(graph)
    }

    /// What the roots need, without these.
    fn reached(&self, without: &HashSet<u32>) -> HashSet<u32> {
        let mut open: Vec<u32> = self.roots.iter().copied().filter(|root| !without.contains(root)).collect();
        let mut reached: HashSet<u32> = open.iter().copied().collect();
        while let Some(number) = open.pop() {
            for next in self.needs.get(&number).into_iter().flatten() {
                if !without.contains(next) && reached.insert(*next) {
                    open.push(*next);
                }
            }
        }
        reached
    }
}

/// The relations of all installations, read when they are first needed.
pub(super) struct Reclaiming<'a, 's> {
    survey: &'a Survey<'s>,
    measured: &'a Measured,
    graphs: HashMap<u16, Option<Graph>>,
}

impl<'a, 's> Reclaiming<'a, 's> {
    pub(super) fn new(survey: &'a Survey<'s>, measured: &'a Measured) -> Self {
        Reclaiming { survey, measured, graphs: HashMap::new() }
    }

    /// The packages of one installation that go when these are removed and what nothing needs then; none where others
    /// need them. `None` where that is not known.
    pub(super) fn going(&mut self, holder: u16, numbers: &[u32]) -> Option<Vec<u32>> {
        let survey = self.survey;
        let graph = self.graphs.entry(holder).or_insert_with(|| Graph::of(survey, holder)).as_ref()?;
        let gone: HashSet<u32> = numbers.iter().copied().collect();
        let is_needed = |number: &u32| {
            let dependents = graph.dependents.get(number).into_iter().flatten();
            dependents.into_iter().any(|other| !gone.contains(other))
        };
        let is_bound = numbers.iter().any(|number| is_needed(number) || graph.protected.contains(number));
        if is_bound || !survey.dependents_elsewhere(holder, numbers).is_empty() {
            return Some(Vec::new());
        }
        let after = graph.reached(&gone);
        let freed = graph.needed.iter().copied().filter(|number| !after.contains(number) && !gone.contains(number));
        Some(gone.iter().copied().chain(freed).collect())
    }

    /// The bytes that removing these packages would free. `None` where that is not known.
    pub(super) fn bytes(&mut self, packages: &[Key]) -> Option<u64> {
        let mut going: HashSet<Key> = HashSet::new();
        for (holder, numbers) in by_holder(packages.iter().copied()) {
            going.extend(self.going(holder, &numbers)?.into_iter().map(|number| (holder, number)));
        }
        // What lies within a tree that goes, goes with it.
        let mut open: Vec<Key> = going.iter().copied().collect();
        while let Some(key) = open.pop() {
            for inner in self.measured.within.get(&key).into_iter().flatten() {
                if going.insert(*inner) {
                    open.push(*inner);
                }
            }
        }
        let sizes = going.iter().map(|key| self.measured.sizes.get(key));
        let own: Option<u64> = sizes.map(|size| size.map(|size| size.own - size.staying)).sum();
        let shared = self.measured.sharing.iter().filter(|(owners, _)| owners.iter().all(|key| going.contains(key)));
        Some(own? + shared.map(|(_, sharing)| sharing.bytes - sharing.staying).sum::<u64>())
    }
}
