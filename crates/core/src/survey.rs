//! The machine as known: every installation opened once, and what follows from all of them together.

use std::sync::OnceLock;

use crate::claims::{ClaimIndex, FoundClaim};
use crate::managers::{self, Detail, Holdings};
use crate::model::{Claimant, Coverage, CoverageState, Evidence, ManagerId, Mark, Owner, Package, Scope, Wanted};
use crate::root::Root;
use crate::scene::Scene;
use crate::search::{SearchPath, Trail};
use crate::text::{Text, path};

/// The machine as known. Its parts are read once, on first use.
pub struct Survey<'s> {
    /// Where it looks.
    pub scene: &'s Scene,
    holdings: OnceLock<Vec<Box<dyn Holdings + 's>>>,
}

/// Who owns a path, and who placed it.
#[derive(Debug, Clone, Default)]
pub struct Ownership {
    /// Claims of packages whose files should be there; where there are none, those of removed packages
    /// that left their settings.
    pub packages: Vec<FoundClaim>,
    /// The group of links that placed it.
    pub group: Option<FoundClaim>,
}

impl<'s> Survey<'s> {
    /// A survey of the scene. Nothing is read yet.
    #[must_use]
    pub fn of(scene: &'s Scene) -> Self {
        Survey { scene, holdings: OnceLock::new() }
    }

    /// The tree that is looked at.
    #[must_use]
    pub fn root(&self) -> &'s Root {
        &self.scene.root
    }

    /// The managers of which anything was found, each once.
    #[must_use]
    pub fn managers(&self) -> Vec<ManagerId> {
        let found = self.holdings().iter().filter(|held| held.coverage().is_some());
        let mut managers: Vec<ManagerId> = found.map(|held| held.installation().manager).collect();
        managers.dedup();
        managers
    }

    /// What each installation holds, numbered as in [`FoundClaim::holder`].
    pub fn holdings(&self) -> &[Box<dyn Holdings + 's>] {
        self.holdings.get_or_init(|| managers::ALL.iter().flat_map(|manager| manager.open(self.scene)).collect())
    }

    /// The holdings that made a claim.
    #[must_use]
    pub fn holder(&self, claim: &FoundClaim) -> &dyn Holdings {
        &*self.holdings()[usize::from(claim.holder)]
    }

    /// Every package of every installation.
    #[must_use]
    pub fn packages(&self, detail: Detail) -> Vec<Package> {
        self.holdings().iter().flat_map(|held| held.packages(detail)).collect()
    }

    /// The packages that a person means by `name`: holder and number.
    #[must_use]
    pub fn named(&self, name: &[u8]) -> Vec<(&dyn Holdings, u32)> {
        let all = self.holdings().iter();
        all.flat_map(|held| held.named(name).into_iter().map(|number| (&**held, number))).collect()
    }

    /// The wanted claims of all installations.
    #[must_use]
    pub fn claims(&self, wanted: &Wanted) -> ClaimIndex {
        ClaimIndex::build(self.holdings().iter().map(|held| &**held), wanted)
    }

    /// Who owns what stands at a settled path, from an index that was built for its name.
    #[must_use]
    pub fn ownership(&self, index: &ClaimIndex, settled: &[u8]) -> Ownership {
        let mut claims = index.on(self.root(), settled);
        claims.extend(self.trees_over(settled));
        let (groups, packages): (Vec<_>, Vec<_>) =
            claims.into_iter().partition(|claim| matches!(claim.claimant, Claimant::Group(_)));
        let is_present = |claim: &FoundClaim| match claim.claimant {
            Claimant::Package(number) => self.holder(claim).is_present(number),
            Claimant::Group(_) => false,
        };
        let (present, removed): (Vec<_>, Vec<_>) = packages.into_iter().partition(is_present);
        let packages = if present.is_empty() { removed } else { present };
        Ownership { packages, group: groups.into_iter().next() }
    }

    /// Claims on whole trees in which a settled path lies.
    fn trees_over(&self, settled: &[u8]) -> Vec<FoundClaim> {
        let held = (0..).zip(self.holdings());
        let found = held.filter_map(|(holder, held)| {
            let (claimant, path) = held.tree_over(settled)?;
            Some(FoundClaim { path, holder, claimant, mark: Mark { line: 0, rule: 0 }, on_tree: true })
        });
        found.collect()
    }

    /// The trail behind a path, through wrappers that a manager made as well.
    #[must_use]
    pub fn trail(&self, search: &SearchPath, start: &[u8]) -> Trail {
        let mut trail = Trail::of(self.root(), search, start);
        // The first step that a manager made to start something else: what it links to is the manager's
        // own program, and not what the person means.
        let behind = trail.steps.iter().enumerate().find_map(|(place, step)| {
            let to = self.holdings().iter().find_map(|held| held.leads_to(&step.path))?;
            Some((place, to))
        });
        if let Some((place, to)) = behind {
            trail.steps.truncate(place + 1);
            trail.wrap(Trail::links(self.root(), &to));
        }
        trail
    }

    /// The app that a command line starts through its manager's own program.
    #[must_use]
    pub fn started_by(&self, words: &[String]) -> Option<Owner> {
        self.holdings().iter().find_map(|held| held.started_by(words).map(|number| held.owner(number)))
    }

    /// The package behind a claim, in short; `None` for a group of links.
    #[must_use]
    pub fn owner(&self, claim: &FoundClaim) -> Option<Owner> {
        match claim.claimant {
            Claimant::Package(number) => Some(self.holder(claim).owner(number)),
            Claimant::Group(_) => None,
        }
    }

    /// The name by which a hop calls the claimant: a package's id, or the group of links.
    #[must_use]
    pub fn claimant_name(&self, claim: &FoundClaim) -> Text {
        match claim.claimant {
            Claimant::Package(number) => self.holder(claim).owner(number).id,
            Claimant::Group(number) => self.holder(claim).group(number).0,
        }
    }

    /// Where a claim stands.
    #[must_use]
    pub fn claim_evidence(&self, claim: &FoundClaim) -> Vec<Evidence> {
        self.holder(claim).claim_evidence(claim.claimant, &claim.path, claim.mark)
    }

    /// Which installations were found and how completely they were read, and which folders outside
    /// them could not be. Ask for it last: an answer may read on, and find more damage.
    #[must_use]
    pub fn coverage(&self) -> Vec<Coverage> {
        let mut coverage: Vec<Coverage> = self.holdings().iter().filter_map(|held| held.coverage()).collect();
        for gap in self.root().gaps() {
            match coverage.iter_mut().find(|known| path::within(&gap.path, &known.location)) {
                Some(known) => {
                    let told = known.notes.iter().any(|note| note.starts_with(&gap.path.to_string()));
                    if !told {
                        known.notes.push(format!("{}: {}", gap.path, gap.reason));
                    }
                    if known.state == CoverageState::Read {
                        known.state = CoverageState::Partial;
                    }
                }
                None => coverage.push(Coverage {
                    manager: None,
                    scope: Scope::System,
                    location: gap.path.clone(),
                    state: CoverageState::Unreadable,
                    packages: None,
                    notes: vec![format!("{}: what is in it is not known", gap.reason)],
                }),
            }
        }
        coverage
    }
}
