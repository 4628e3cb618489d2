//! Who owns what stands at a path, and what a path finally runs.

use super::Survey;
use crate::backend::{Installation, advice};
use crate::bytes::{ByteString, path};
use crate::index::{ClaimIndex, FoundClaim};
use crate::model::{Claimant, Digest, Evidence, ExecDestination, Owner, PathClaim, Remedy};
use crate::resolve::{How, Resolution, SearchPath};

/// Who owns a path, and who placed it.
#[derive(Debug, Clone, Default)]
pub struct Ownership {
    /// Claims of packages whose files should be there; where there are none, those of removed packages
    /// that left their settings.
    pub packages: Vec<FoundClaim>,
    /// The group of links that placed it.
    pub group: Option<FoundClaim>,
}

/// The most shims in a row that are followed.
const MAX_SHIMS: usize = 4;

impl Survey<'_> {
    /// Who owns what stands at a canonical path, from an index that was built for its name.
    #[must_use]
    pub fn ownership(&self, index: &ClaimIndex, canonical: &[u8]) -> Ownership {
        let mut claims = index.on(self.root(), canonical);
        claims.extend(self.claims_of_places(canonical));
        let (groups, mut packages): (Vec<_>, Vec<_>) =
            claims.into_iter().partition(|claim| matches!(claim.claimant, Claimant::Group(_)));
        most_specific(&mut packages);
        packages.retain(|claim| !self.is_anothers(claim));
        let is_present = |claim: &FoundClaim| match claim.claimant {
            Claimant::Package(number) => self.holder(claim).is_present(number),
            Claimant::Group(_) => false,
        };
        let (present, removed): (Vec<_>, Vec<_>) = packages.into_iter().partition(is_present);
        let packages = if present.is_empty() { removed } else { present };
        Ownership { packages, group: groups.into_iter().next() }
    }

    /// The owner of what stands at a path, links followed.
    #[must_use]
    pub fn ownership_of(&self, path: &[u8]) -> Option<Owner> {
        let canonical = self.root().canonicalize_dir(path);
        let index = self.claims(std::iter::once(&*canonical));
        self.ownership(&index, &canonical).packages.first().and_then(|claim| self.owner(claim))
    }

    /// Claims of managers that know their own places.
    pub(super) fn claims_of_places(&self, canonical: &[u8]) -> Vec<FoundClaim> {
        let found = self.installations_around(canonical).flat_map(|(holder, held)| {
            held.file_index().map_or_else(Vec::new, |files| files.claims_on(canonical)).into_iter().map(
                move |PathClaim { claimant, path, position, on_tree }| FoundClaim {
                    path,
                    holder,
                    claimant,
                    position,
                    on_tree,
                },
            )
        });
        found.collect()
    }

    /// Whether a claim is that of a package which another manager put there: see [`SharedDirs::foreign_packages`](crate::backend::SharedDirs::foreign_packages).
    pub(super) fn is_anothers(&self, claim: &FoundClaim) -> bool {
        match claim.claimant {
            Claimant::Package(number) => self.is_foreign(claim.holder, number),
            Claimant::Group(_) => false,
        }
    }

    /// The resolution behind a path, through wrappers and shims that a manager made as well.
    #[must_use]
    pub fn resolution(&self, search: &SearchPath, start: &[u8]) -> Resolution {
        self.resolve_within(search, start, MAX_SHIMS)
    }

    pub(super) fn resolve_within(&self, search: &SearchPath, start: &[u8], shims: usize) -> Resolution {
        let mut resolution = Resolution::of(self.root(), search, start);
        // The first step that a manager made to start something else: what it links to is the manager's
        // own program, and not what the user means.
        let behind = resolution.steps.iter().enumerate().find_map(|(place, step)| {
            let exec_target = self
                .installations_around(&step.path)
                .find_map(|(_, held)| held.launching()?.exec_target(&step.path))?;
            Some((place, exec_target))
        });
        let Some((place, exec_target)) = behind else { return resolution };
        let how = if exec_target.is_shim { How::Shim } else { How::Wrapper };
        let to = match exec_target.to {
            ExecDestination::File(to) if exec_target.is_shim && shims > 0 => {
                Some(self.resolve_within(search, &to, shims - 1))
            }
            ExecDestination::File(to) => Some(Resolution::links(self.root(), &to)),
            ExecDestination::NextOnPath(without) if shims > 0 => {
                let name = path::name(&resolution.steps[place].path);
                let next = search.without(&without).reach(self.root(), name).copies.into_iter().next();
                next.map(|copy| self.resolve_within(search, &copy.path, shims - 1))
            }
            ExecDestination::NextOnPath(_) | ExecDestination::Nowhere => None,
        };
        resolution.why.extend(exec_target.why);
        match to {
            Some(to) => {
                resolution.steps.truncate(place + 1);
                resolution.wrap(to, how);
            }
            None => resolution.stop_at(self.root(), place, how),
        }
        resolution
    }

    /// The app that a command line starts through its manager's own program.
    #[must_use]
    pub fn started_by(&self, words: &[String]) -> Option<Owner> {
        self.installations()
            .iter()
            .find_map(|held| held.launching()?.started_by(words).map(|number| held.owner(number)))
    }

    /// The package behind a claim, in short; `None` for a group of links.
    #[must_use]
    pub fn owner(&self, claim: &FoundClaim) -> Option<Owner> {
        match claim.claimant {
            Claimant::Package(number) => Some(self.holder(claim).owner(number)),
            Claimant::Group(_) => None,
        }
    }

    /// The ways in which the package behind a claim is removed or repaired; none for a group of links.
    #[must_use]
    pub fn remedies(&self, claim: &FoundClaim) -> Vec<Remedy> {
        match claim.claimant {
            Claimant::Package(number) => self.remedies_within(self.holder(claim), number),
            Claimant::Group(_) => Vec::new(),
        }
    }

    /// The way in which the package behind a claim gets its own files back.
    #[must_use]
    pub fn restore(&self, claim: &FoundClaim) -> Option<Remedy> {
        match claim.claimant {
            Claimant::Package(number) => {
                let installation = self.holder(claim);
                self.remedy_within(installation, installation.file_records()?.restore(number)?)
            }
            Claimant::Group(_) => None,
        }
    }

    /// The remedies of a package, as they are typed on this machine.
    #[must_use]
    pub fn remedies_within(&self, installation: &dyn Installation, package: u32) -> Vec<Remedy> {
        let found = installation.remedies(package).into_iter();
        found.filter_map(|remedy| self.remedy_within(installation, remedy)).collect()
    }

    /// A remedy whose actor is known, as it is typed on this machine.
    #[must_use]
    pub fn typed(&self, remedy: Remedy) -> Remedy {
        let actor = remedy.actor.clone();
        advice::addressed(self.host, &actor, remedy)
    }

    /// The command that repairs or removes a group of links of which one leads nowhere.
    #[must_use]
    pub fn repair_group(&self, claim: &FoundClaim) -> Option<Remedy> {
        let Claimant::Group(number) = claim.claimant else { return None };
        let held = self.holder(claim);
        self.remedy_within(held, held.file_index()?.repair_group(number)?)
    }

    /// A remedy of an installation, as it is typed on this machine; `None` if a name in it reads like an option.
    #[must_use]
    pub fn remedy_within(&self, installation: &dyn Installation, remedy: Remedy) -> Option<Remedy> {
        let owner = installation.actor(self.host);
        remedy.line.is_safe().then(|| advice::addressed(self.host, &owner, remedy))
    }

    /// The name by which a hop calls the claimant: a package's id, or the group of links.
    #[must_use]
    pub fn claimant_name(&self, claim: &FoundClaim) -> ByteString {
        match claim.claimant {
            Claimant::Package(number) => self.holder(claim).owner(number).id,
            Claimant::Group(number) => {
                let files = self.holder(claim).file_index();
                files.and_then(|files| files.group(number)).map(|(name, _)| name).unwrap_or_default()
            }
        }
    }

    /// Where a claim stands.
    #[must_use]
    pub fn claim_evidence(&self, claim: &FoundClaim) -> Vec<Evidence> {
        let installation = self.holder(claim);
        let files = installation.file_index();
        let evidence = files.map(|files| files.claim_evidence(claim.claimant, &claim.path, claim.position));
        match (evidence.unwrap_or_default(), claim.claimant) {
            (evidence, Claimant::Package(number)) if evidence.is_empty() => {
                installation.package_evidence(number).into_iter().take(1).collect()
            }
            (evidence, _) => evidence,
        }
    }

    /// The digest that is recorded for a path of the package behind a claim.
    #[must_use]
    pub fn recorded_digest(&self, claim: &FoundClaim, package: u32, path: &[u8]) -> Option<Digest> {
        self.holder(claim).file_index()?.digest(package, path)
    }
}

/// A claim on the very path says more than one on a tree around it, and a smaller tree more than a larger one.
fn most_specific(claims: &mut Vec<FoundClaim>) {
    let depth = |claim: &FoundClaim| if claim.on_tree { claim.path.len() } else { usize::MAX };
    let deepest = claims.iter().map(depth).max().unwrap_or_default();
    claims.retain(|claim| depth(claim) == deepest);
}
