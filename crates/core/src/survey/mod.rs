//! The machine as known: every installation opened once, and what follows from all of them together.

mod domains;
mod foreign;
mod naming;
mod ownership;
mod places;
mod sources;

use std::sync::OnceLock;

use hashbrown::HashSet;
use rayon::prelude::*;

use crate::backend::{Detail, Hint, Installation, Requirement};
use crate::bytes::{ByteString, path};
use crate::fs::{Gap, Root};
use crate::host::Host;
use crate::identity::{self, Known, Titles};
use crate::index::{ClaimIndex, FoundClaim};
use crate::model::{
    Coverage, CoverageState, Finding, Loss, ManagerId, NameFilter, Offer, OfferQuery, Owner, Package, Scope, Source,
};

pub use ownership::Ownership;
use sources::Sources;

/// The most installations that are looked at: a claim keeps the number of its own in two bytes.
const MAX_INSTALLATIONS: usize = u16::MAX as usize;

/// Leaves out what is beyond so many installations, and says so.
fn limited(root: &Root, found: &mut Vec<Box<dyn Installation + '_>>, most: usize) {
    if let Some(first) = found.get(most) {
        let more = found.len() - most - 1;
        let reason = format!("this installation and {more} more are left out: {most} others were found before them");
        root.note_gap(&first.location().dir, reason);
        found.truncate(most);
    }
}

/// The machine as known. Its parts are read once, on first use.
pub struct Survey<'s> {
    /// Where it looks.
    pub host: &'s Host,
    installations: OnceLock<Vec<Box<dyn Installation + 's>>>,
    titled: OnceLock<Titled>,
    recorded: OnceLock<Vec<Package>>,
    diagnosed: OnceLock<Vec<Finding>>,
    offered: OnceLock<Vec<Vec<Offer>>>,
    sources: OnceLock<Sources>,
    domains: OnceLock<domains::Domains>,
    foreign: foreign::ForeignPackages,
    ids: naming::Ids,
}

/// Every package with its commands, and which of them are the same software.
#[derive(Debug)]
pub struct Titled {
    /// The holder and the number of each package.
    pub keys: Vec<(u16, u32)>,
    /// The packages; what is another manager's is left out.
    pub packages: Vec<Package>,
    /// What each is told by.
    pub known: Vec<Known>,
    /// Their titles, by their places in `packages`.
    pub titles: Titles,
}

impl<'s> Survey<'s> {
    /// A survey of a machine. Nothing is read yet.
    #[must_use]
    pub fn of(host: &'s Host) -> Self {
        Survey {
            host,
            installations: OnceLock::new(),
            titled: OnceLock::new(),
            recorded: OnceLock::new(),
            diagnosed: OnceLock::new(),
            offered: OnceLock::new(),
            sources: OnceLock::new(),
            domains: OnceLock::new(),
            foreign: foreign::ForeignPackages::default(),
            ids: naming::Ids::default(),
        }
    }

    /// The tree that is looked at.
    #[must_use]
    pub fn root(&self) -> &'s Root {
        &self.host.root
    }

    /// The managers of which anything was found, each once.
    #[must_use]
    pub fn managers(&self) -> Vec<ManagerId> {
        let found = self.installations().iter().filter(|held| !held.coverage().is_empty());
        let mut managers: Vec<ManagerId> = found.map(|held| held.location().manager).collect();
        managers.dedup();
        managers
    }

    /// What each installation holds, numbered as in [`FoundClaim::holder`].
    pub fn installations(&self) -> &[Box<dyn Installation + 's>] {
        self.installations.get_or_init(|| {
            let mut found: Vec<_> =
                crate::managers::ALL.iter().flat_map(|manager| manager.discover(self.host)).collect();
            limited(self.root(), &mut found, MAX_INSTALLATIONS);
            for held in &found {
                let location = held.location();
                tracing::info!(manager = %location.manager, directory = %location.dir, "found an installation");
            }
            found
        })
    }

    /// The installations that made a claim.
    #[must_use]
    pub fn holder(&self, claim: &FoundClaim) -> &dyn Installation {
        &*self.installations()[usize::from(claim.holder)]
    }

    /// Every package of every installation.
    #[must_use]
    pub fn packages(&self, detail: Detail) -> Vec<Package> {
        self.packages_by_holder(detail).into_iter().flatten().collect()
    }

    /// Every package with its commands, its origin and its evidence, read once for all that ask.
    pub fn recorded(&self) -> &[Package] {
        let detail = Detail { programs: true, evidence: true, origins: true, ..Detail::default() };
        self.recorded.get_or_init(|| self.packages(detail))
    }

    /// What the catalogues of each installation have of what it holds, read once for all that ask.
    pub fn offered(&self) -> &[Vec<Offer>] {
        let of_one = |held: &dyn Installation| {
            held.catalogue().map_or_else(Vec::new, |catalogue| catalogue.offers(&OfferQuery::Installed))
        };
        self.offered.get_or_init(|| self.installations().par_iter().map(|held| of_one(&**held)).collect())
    }

    /// Every source that is configured, read once for all that ask.
    pub fn sources(&self) -> &[Source] {
        &self.sources.get_or_init(|| sources::configured(self)).all
    }

    /// What the managers' own records say that a maintainer should know, read once for all that ask.
    pub fn diagnostics(&self) -> &[Finding] {
        self.diagnosed.get_or_init(|| self.told_by_each(|held| held.diagnostics()))
    }

    /// What they store in vain, which takes a look at everything that they store.
    #[must_use]
    pub fn storage_diagnostics(&self) -> Vec<Finding> {
        self.told_by_each(|held| held.storage_diagnostics())
    }

    /// The findings of each installation, with remedies as they are typed on this machine.
    fn told_by_each(&self, tell: impl Fn(&dyn Installation) -> Vec<Finding>) -> Vec<Finding> {
        let of_one = |held: &dyn Installation| {
            let addressed = |mut finding: Finding| {
                let ways = std::mem::take(&mut finding.remedies).into_iter();
                finding.remedies = ways.filter_map(|way| self.remedy_within(held, way)).collect();
                finding
            };
            tell(held).into_iter().map(addressed).collect::<Vec<_>>()
        };
        self.installations().iter().flat_map(|held| of_one(&**held)).collect()
    }

    /// The packages of each installation, without those that another manager put there.
    fn packages_by_holder(&self, detail: Detail) -> Vec<Vec<Package>> {
        // All are read before any is judged, so that one look through the records decides for all.
        let all: Vec<Vec<(u32, Package)>> =
            self.installations().par_iter().map(|held| packages_of(&**held, detail)).collect();
        let own = |(holder, packages): (u16, Vec<(u32, Package)>)| {
            let own = packages.into_iter().filter(|(number, _)| !self.is_foreign(holder, *number));
            own.map(|(_, package)| package).collect()
        };
        (0..).zip(all).map(own).collect()
    }

    /// Every package with its commands and launchers, and their titles.
    pub fn titled(&self) -> &Titled {
        self.titled.get_or_init(|| self.titled_in(Detail { programs: true, ..Detail::default() }))
    }

    /// The packages with the requested detail. Titles rest on commands and launchers too.
    #[must_use]
    pub fn titled_in(&self, detail: Detail) -> Titled {
        let read: Vec<_> =
            self.installations().par_iter().map(|held| (packages_of(&**held, detail), held.hints())).collect();
        let (mut keys, mut packages, mut known) = (Vec::new(), Vec::new(), Vec::new());
        for (holder, (of_holder, hints)) in (0..).zip(read) {
            let mut hints = hints.into_iter();
            for (number, package) in of_holder {
                let hint = hints.next().unwrap_or_default();
                if !self.is_foreign(holder, number) {
                    known.push(known_of(&package, hint));
                    keys.push((holder, number));
                    packages.push(package);
                }
            }
        }
        let titles = identity::cluster(&known, &self.host.title_rules);
        for (package, title) in packages.iter_mut().zip(&titles.of) {
            package.title = title.map(|title| titles.names[title as usize].clone());
        }
        Titled { keys, packages, known, titles }
    }

    /// The packages of each installation, with its coverage.
    #[must_use]
    pub fn by_installation(&self, detail: Detail) -> Vec<(Vec<Coverage>, Vec<Package>)> {
        let all = (0..).zip(self.installations()).zip(self.packages_by_holder(detail));
        all.map(|((holder, held), packages)| (self.parts_of(holder, &**held), packages)).collect()
    }

    /// What other installations of its manager need of these packages of an installation, each with its holder.
    /// [`Requirement::needs`] is a number of the installation that is needed.
    pub(crate) fn dependents_elsewhere(&self, holder: u16, needed: &[u32]) -> Vec<(u16, Requirement)> {
        let held = &self.installations()[usize::from(holder)];
        let owners: Vec<Owner> = needed.iter().map(|number| held.owner(*number)).collect();
        let mut found = Vec::new();
        for (other, one) in (0..).zip(self.installations()) {
            if other == holder || one.location().manager != held.location().manager {
                continue;
            }
            let dependents = one.relations().map(|relations| relations.dependents_on(&owners)).unwrap_or_default();
            let numbered = |one: Requirement| Some(Requirement { needs: *needed.get(one.needs as usize)?, ..one });
            found.extend(dependents.into_iter().filter_map(numbered).map(|one| (other, one)));
        }
        found
    }

    /// The wanted claims of all installations.
    #[must_use]
    pub fn index(&self, wanted: &NameFilter) -> ClaimIndex {
        if wanted.is_nothing() {
            return ClaimIndex::default();
        }
        ClaimIndex::build(self.installations().iter().map(|held| &**held), wanted)
    }

    /// The coverage of one installation. Packages that are another manager's do not count; a place where
    /// nothing else is, is none of this manager's.
    fn parts_of(&self, holder: u16, held: &dyn Installation) -> Vec<Coverage> {
        let mut parts = held.coverage();
        let foreign = if parts.is_empty() { Vec::new() } else { self.foreign_of(holder) };
        if foreign.is_empty() {
            return parts;
        }
        for record in &foreign {
            let around = parts.iter_mut().find(|part| path::within(record, &part.location));
            if let Some(count) = around.and_then(|part| part.packages.as_mut()) {
                *count = count.saturating_sub(1);
            }
        }
        parts.retain(|part| part.packages != Some(0) || !part.notes.is_empty());
        parts
    }

    /// The coverage of a directory that belongs to no installation.
    fn unread(&self, gap: &Gap) -> Coverage {
        let user = self.host.home_owner(&gap.path);
        let whose = user.map(|user| format!("in the home of {}: ", user.name)).unwrap_or_default();
        Coverage {
            manager: None,
            scope: user.map_or(Scope::System, |user| Scope::User(user.name.clone())),
            location: gap.path.clone(),
            state: CoverageState::Unreadable,
            packages: None,
            notes: vec![Loss::because(format!("{whose}{}", gap.reason), "its content is unknown")],
        }
    }

    /// Files and directories that could not be looked into, where no manager's records were read.
    #[must_use]
    pub fn unread_places(&self) -> Vec<Coverage> {
        self.root().note_changes();
        self.root().gaps().iter().map(|gap| self.unread(gap)).collect()
    }

    /// Which installations were found and how completely they were read, and which directories outside
    /// them could not be. Ask for it last: an answer may read on, and find more damage.
    #[must_use]
    pub fn coverage(&self) -> Vec<Coverage> {
        self.root().note_changes();
        let mut coverage: Vec<Coverage> = Vec::new();
        for (holder, held) in (0..).zip(self.installations()) {
            coverage.extend(self.parts_of(holder, &**held));
        }
        for (manager, loss) in self.sources.get().into_iter().flat_map(|sources| &sources.lost) {
            add_loss(&mut coverage, *manager, loss);
        }
        let told: HashSet<ByteString> =
            coverage.iter().flat_map(|part| &part.notes).filter_map(|note| note.file.clone()).collect();
        let managers = coverage.len();
        for gap in self.root().gaps() {
            match coverage[..managers].iter_mut().find(|known| path::within(&gap.path, &known.location)) {
                Some(known) => {
                    if !told.contains(&gap.path) {
                        known.notes.push(Loss::damaged(gap.path.clone(), &gap.reason, ""));
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

/// Adds what could not be read of a manager's settings: to what was read of it, or as a part of its own.
fn add_loss(coverage: &mut Vec<Coverage>, manager: ManagerId, loss: &Loss) {
    match coverage.iter_mut().find(|part| part.manager == Some(manager)) {
        Some(part) => {
            part.notes.push(loss.clone());
            if part.state == CoverageState::Read {
                part.state = CoverageState::Partial;
            }
        }
        None => coverage.push(Coverage {
            manager: Some(manager),
            scope: Scope::System,
            location: loss.file.clone().unwrap_or_default(),
            state: CoverageState::Partial,
            packages: None,
            notes: vec![loss.clone()],
        }),
    }
}

/// The packages of one installation, with a line in the log for how many there are and how long it took.
fn packages_of(held: &dyn Installation, detail: Detail) -> Vec<(u32, Package)> {
    let start = std::time::Instant::now();
    let packages = held.numbered(detail);
    let location = held.location();
    let micros = u64::try_from(start.elapsed().as_micros()).unwrap_or(u64::MAX);
    tracing::info!(manager = %location.manager, directory = %location.dir, packages = packages.len(), micros, "read");
    packages
}

/// What titles are told by.
fn known_of(package: &Package, hint: Hint) -> Known {
    let name = |file: &ByteString| ByteString::from(path::name(file));
    let bare = |id: &ByteString| ByteString::from(id.strip_suffix(b".desktop").unwrap_or(id));
    Known {
        manager: package.manager,
        scope: package.scope.clone(),
        name: package.name.clone(),
        source: hint.source,
        commands: package.commands.iter().map(name).chain(hint.starts).collect(),
        launchers: package.launchers.iter().map(bare).collect(),
        upstream: hint.upstream,
        runtimes: hint.runtimes,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::host::{ProcessEnv, UserSelection};

    /// What is beyond the numbers that claims can hold is a loss that is told, and all before it stays.
    #[test]
    #[expect(clippy::disallowed_methods, reason = "builds the tree that it looks at")]
    fn installations_beyond_the_limit_are_a_loss() {
        let made = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(made.path().join("etc")).unwrap();
        std::fs::create_dir_all(made.path().join("home/maren")).unwrap();
        std::fs::write(made.path().join("etc/passwd"), "maren:x:1000:1000::/home/maren:/bin/sh\n").unwrap();
        let host = Host::new(Root::offline(made.path()).unwrap(), &UserSelection::All, ProcessEnv::default()).unwrap();
        let discover = || crate::managers::ALL.iter().flat_map(|manager| manager.discover(&host)).collect::<Vec<_>>();
        let (all, mut found) = (discover(), discover());
        limited(&host.root, &mut found, all.len());
        assert!(found.len() == all.len() && all.len() > 2, "{}", all.len());
        assert_eq!(host.root.gaps(), []);
        limited(&host.root, &mut found, all.len() - 2);
        let told: Vec<&[u8]> = found.iter().map(|held| &*held.location().dir).collect();
        let expected: Vec<&[u8]> = all.iter().map(|held| &*held.location().dir).take(all.len() - 2).collect();
        assert_eq!(told, expected);
        let [gap] = &host.root.gaps()[..] else { panic!("{:?}", host.root.gaps()) };
        assert_eq!(gap.path, all[all.len() - 2].location().dir);
        assert!(gap.reason.starts_with("this installation and 1 more are left out"), "{}", gap.reason);
    }
}
