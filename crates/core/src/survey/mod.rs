//! The machine as known: every installation opened once, and what follows from all of them together.

mod yielded;

use std::sync::OnceLock;

use rayon::prelude::*;

use crate::claims::{ClaimIndex, FoundClaim};
use crate::managers::{self, Detail, Hint, Holdings};
use crate::model::{
    Claimant, Coverage, CoverageState, Evidence, LeadTo, ManagerId, Owner, Package, PathClaim, Remedy, Scope, Wanted,
};
use crate::root::{Gap, Root};
use crate::scene::Scene;
use crate::search::{How, SearchPath, Trail, program_folders};
use crate::text::{Text, path};
use crate::titles::{self, Known, Titles};

/// The machine as known. Its parts are read once, on first use.
pub struct Survey<'s> {
    /// Where it looks.
    pub scene: &'s Scene,
    holdings: OnceLock<Vec<Box<dyn Holdings + 's>>>,
    titled: OnceLock<Titled>,
    yielded: yielded::Yielded,
}

/// Every package with its commands, and which of them are the same software.
#[derive(Debug)]
pub struct Titled {
    /// The packages; what is another manager's is left out.
    pub packages: Vec<Package>,
    /// Their titles, by their places in `packages`.
    pub titles: Titles,
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
        Survey { scene, holdings: OnceLock::new(), titled: OnceLock::new(), yielded: yielded::Yielded::default() }
    }

    /// The tree that is looked at.
    #[must_use]
    pub fn root(&self) -> &'s Root {
        &self.scene.root
    }

    /// The managers of which anything was found, each once.
    #[must_use]
    pub fn managers(&self) -> Vec<ManagerId> {
        let found = self.holdings().iter().filter(|held| !held.coverage().is_empty());
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
        self.packages_by_holder(detail).into_iter().flatten().collect()
    }

    /// The packages of each installation, without those that another manager put there.
    fn packages_by_holder(&self, detail: Detail) -> Vec<Vec<Package>> {
        // All are read before any is judged, so that one look through the records decides for all.
        let mut all: Vec<Vec<Package>> = self.holdings().par_iter().map(|held| held.packages(detail)).collect();
        for (holder, packages) in (0..).zip(&mut all) {
            let mut number = 0..;
            packages.retain(|_| !self.is_yielded(holder, number.next().unwrap_or(u32::MAX)));
        }
        all
    }

    /// Every package with its commands and launchers, and their titles.
    pub fn titled(&self) -> &Titled {
        self.titled.get_or_init(|| self.titled_in(Detail { programs: true, ..Detail::default() }))
    }

    /// The same with as much of each package as is asked for. Titles rest on commands and launchers too.
    #[must_use]
    pub fn titled_in(&self, detail: Detail) -> Titled {
        let read: Vec<(Vec<Package>, Vec<Hint>)> =
            self.holdings().par_iter().map(|held| (held.packages(detail), held.hints())).collect();
        let (mut packages, mut known) = (Vec::new(), Vec::new());
        for (holder, (of_holder, hints)) in (0..).zip(read) {
            let mut hints = hints.into_iter();
            let mut number = 0..;
            for package in of_holder {
                let (number, hint) = (number.next().unwrap_or(u32::MAX), hints.next().unwrap_or_default());
                if !self.is_yielded(holder, number) {
                    known.push(known_of(&package, hint));
                    packages.push(package);
                }
            }
        }
        let titles = titles::unite(&known, &self.scene.title_rules);
        for (package, title) in packages.iter_mut().zip(&titles.of) {
            package.title = title.map(|title| titles.names[title as usize].clone());
        }
        Titled { packages, titles }
    }

    /// The packages of each installation, with its coverage.
    #[must_use]
    pub fn by_installation(&self, detail: Detail) -> Vec<(Vec<Coverage>, Vec<Package>)> {
        let all = (0..).zip(self.holdings()).zip(self.packages_by_holder(detail));
        all.map(|((holder, held), packages)| (self.parts_of(holder, &**held), packages)).collect()
    }

    /// The packages that a person means by `name`: holder and number.
    #[must_use]
    pub fn named(&self, name: &[u8]) -> Vec<(&dyn Holdings, u32)> {
        let found = self.numbered(name).into_iter();
        found.map(|(holder, number)| (&*self.holdings()[usize::from(holder)], number)).collect()
    }

    /// The same by the holder's number.
    #[must_use]
    pub fn numbered(&self, name: &[u8]) -> Vec<(u16, u32)> {
        let all = (0..).zip(self.holdings());
        let named: Vec<(u16, u32)> =
            all.flat_map(|(holder, held)| held.named(name).into_iter().map(move |number| (holder, number))).collect();
        named.into_iter().filter(|(holder, number)| !self.is_yielded(*holder, *number)).collect()
    }

    /// The commands with which a package's own manager acts on it, the safest first.
    #[must_use]
    pub fn remedies_of(&self, owner: &Owner) -> Vec<Remedy> {
        self.remedies_by_id(&owner.name, &owner.id)
    }

    /// The same of the package with this name and id.
    #[must_use]
    pub fn remedies_by_id(&self, name: &[u8], id: &Text) -> Vec<Remedy> {
        let found = self.named(name).into_iter().find(|(held, number)| held.owner(*number).id == *id);
        found.map(|(held, number)| held.remedies(number)).unwrap_or_default()
    }

    /// The packages with this name, or the one with this id: holder and number.
    #[must_use]
    pub fn by_name_or_id(&self, word: &[u8]) -> Vec<(u16, u32)> {
        let named = self.numbered(word);
        if !named.is_empty() {
            return named;
        }
        // An id ends in the name, or in the name and more.
        let parts: Vec<&[u8]> = word.splitn(3, |&b| b == b'/').collect();
        let Some(tail) = parts.get(2) else { return Vec::new() };
        let starts =
            (1..=tail.len()).filter(|end| *end == tail.len() || matches!(tail[*end], b'/' | b':' | b'.' | b'-'));
        let mut found: Vec<(u16, u32)> = starts.flat_map(|end| self.numbered(&tail[..end])).collect();
        found.retain(|(holder, number)| *self.holdings()[usize::from(*holder)].owner(*number).id == *word);
        found.dedup();
        found
    }

    /// The folders in which programs lie, whether or not a search path names them: the usual ones, and those
    /// that a manager fills.
    #[must_use]
    pub fn program_folders(&self) -> Vec<Text> {
        let of_managers = self.holdings().iter().flat_map(|held| held.program_folders());
        program_folders(self.scene, of_managers)
    }

    /// The wanted claims of all installations.
    #[must_use]
    pub fn index(&self, wanted: &Wanted) -> ClaimIndex {
        ClaimIndex::build(self.holdings().iter().map(|held| &**held), wanted)
    }

    /// Who owns what stands at a settled path, from an index that was built for its name.
    #[must_use]
    pub fn ownership(&self, index: &ClaimIndex, settled: &[u8]) -> Ownership {
        let mut claims = index.on(self.root(), settled);
        claims.extend(self.claims_of_places(settled));
        let (groups, mut packages): (Vec<_>, Vec<_>) =
            claims.into_iter().partition(|claim| matches!(claim.claimant, Claimant::Group(_)));
        most_particular(&mut packages);
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
        let settled = self.root().settle_folder(path);
        let index = self.claims(std::iter::once(&*settled));
        self.ownership(&index, &settled).packages.first().and_then(|claim| self.owner(claim))
    }

    /// Claims of managers that know their own places.
    fn claims_of_places(&self, settled: &[u8]) -> Vec<FoundClaim> {
        let held = (0..).zip(self.holdings());
        let found = held.flat_map(|(holder, held)| {
            held.claims_on(settled).into_iter().map(move |PathClaim { claimant, path, mark, on_tree }| FoundClaim {
                path,
                holder,
                claimant,
                mark,
                on_tree,
            })
        });
        found.collect()
    }

    /// Whether a claim is that of a package which another manager put there: see [`Holdings::yields`].
    fn is_anothers(&self, claim: &FoundClaim) -> bool {
        match claim.claimant {
            Claimant::Package(number) => self.is_yielded(claim.holder, number),
            Claimant::Group(_) => false,
        }
    }

    /// The trail behind a path, through wrappers and shims that a manager made as well.
    #[must_use]
    pub fn trail(&self, search: &SearchPath, start: &[u8]) -> Trail {
        self.trail_within(search, start, MOST_SHIMS)
    }

    fn trail_within(&self, search: &SearchPath, start: &[u8], shims: usize) -> Trail {
        let mut trail = Trail::of(self.root(), search, start);
        // The first step that a manager made to start something else: what it links to is the manager's
        // own program, and not what the person means.
        let behind = trail.steps.iter().enumerate().find_map(|(place, step)| {
            let lead = self.holdings().iter().find_map(|held| held.leads_to(&step.path))?;
            Some((place, lead))
        });
        let Some((place, lead)) = behind else { return trail };
        let how = if lead.is_shim { How::Shim } else { How::Wrapper };
        let to = match lead.to {
            LeadTo::File(to) if lead.is_shim && shims > 0 => Some(self.trail_within(search, &to, shims - 1)),
            LeadTo::File(to) => Some(Trail::links(self.root(), &to)),
            LeadTo::NextOnPath(without) if shims > 0 => {
                let name = path::name(&trail.steps[place].path);
                let next = search.without(&without).reach(self.root(), name).copies.into_iter().next();
                next.map(|copy| self.trail_within(search, &copy.path, shims - 1))
            }
            LeadTo::NextOnPath(_) | LeadTo::Nowhere => None,
        };
        trail.why.extend(lead.why);
        match to {
            Some(to) => {
                trail.steps.truncate(place + 1);
                trail.wrap(to, how);
            }
            None => trail.stop_at(self.root(), place, how),
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

    /// The ways in which the package behind a claim is removed or repaired; none for a group of links.
    #[must_use]
    pub fn remedies(&self, claim: &FoundClaim) -> Vec<Remedy> {
        match claim.claimant {
            Claimant::Package(number) => self.holder(claim).remedies(number),
            Claimant::Group(_) => Vec::new(),
        }
    }

    /// The way in which the package behind a claim gets its own files back.
    #[must_use]
    pub fn restore(&self, claim: &FoundClaim) -> Option<Remedy> {
        match claim.claimant {
            Claimant::Package(number) => self.holder(claim).restore(number),
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

    /// The coverage of one installation. Packages that are another manager's do not count; a place where
    /// nothing else is, is none of this manager's.
    fn parts_of(&self, holder: u16, held: &dyn Holdings) -> Vec<Coverage> {
        let mut parts = held.coverage();
        let yielded = if parts.is_empty() { Vec::new() } else { self.yielded_of(holder) };
        if yielded.is_empty() {
            return parts;
        }
        for record in &yielded {
            let around = parts.iter_mut().find(|part| path::within(record, &part.location));
            if let Some(count) = around.and_then(|part| part.packages.as_mut()) {
                *count = count.saturating_sub(1);
            }
        }
        parts.retain(|part| part.packages != Some(0) || !part.notes.is_empty());
        parts
    }

    /// The coverage of a folder that belongs to no installation.
    fn unread(&self, gap: &Gap) -> Coverage {
        let person = self.scene.at_home(&gap.path);
        let whose = person.map(|person| format!("in the home of {}: ", person.name)).unwrap_or_default();
        Coverage {
            manager: None,
            scope: person.map_or(Scope::System, |person| Scope::User(person.name.clone())),
            location: gap.path.clone(),
            state: CoverageState::Unreadable,
            packages: None,
            notes: vec![format!("{whose}{}: what is in it is not known", gap.reason)],
        }
    }

    /// Files and folders that could not be looked into, where no manager's records were read.
    #[must_use]
    pub fn unread_places(&self) -> Vec<Coverage> {
        self.root().gaps().iter().map(|gap| self.unread(gap)).collect()
    }

    /// Which installations were found and how completely they were read, and which folders outside
    /// them could not be. Ask for it last: an answer may read on, and find more damage.
    #[must_use]
    pub fn coverage(&self) -> Vec<Coverage> {
        let mut coverage: Vec<Coverage> = Vec::new();
        for (holder, held) in (0..).zip(self.holdings()) {
            coverage.extend(self.parts_of(holder, &**held));
        }
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
                None => coverage.push(self.unread(&gap)),
            }
        }
        coverage
    }
}

/// What titles are told by.
fn known_of(package: &Package, hint: Hint) -> Known {
    let name = |file: &Text| Text::from(path::name(file));
    let bare = |id: &Text| Text::from(id.strip_suffix(b".desktop").unwrap_or(id));
    Known {
        manager: package.manager,
        scope: package.scope.clone(),
        name: package.name.clone(),
        source: hint.source,
        commands: package.commands.iter().map(name).chain(hint.starts).collect(),
        launchers: package.launchers.iter().map(bare).collect(),
        upstream: hint.upstream,
    }
}

/// As many shims that start shims are followed.
const MOST_SHIMS: usize = 4;

/// A claim on the very path says more than one on a tree around it, and a smaller tree more than a larger one.
fn most_particular(claims: &mut Vec<FoundClaim>) {
    let depth = |claim: &FoundClaim| if claim.on_tree { claim.path.len() } else { usize::MAX };
    let deepest = claims.iter().map(depth).max().unwrap_or_default();
    claims.retain(|claim| depth(claim) == deepest);
}
