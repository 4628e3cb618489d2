//! Who keeps a package current: by its origin, by what its manager's catalogues have, by jobs and by settings.

use std::sync::{Mutex, PoisonError};

use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;

use super::sources::Offering;
use crate::backend::jobs::{self, Job};
use crate::backend::{Automatic, Detail, Installation};
use crate::bytes::ByteString;
use crate::managers;
use crate::model::{
    CommandLine, Evidence, ManagerId, ManagerKind, Owner, Package, Remedy, RemedyKind, Scope, Source, Status,
};
use crate::survey::Survey;

/// Who keeps something current.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum UpkeepMode {
    /// It is upgraded by itself.
    Automatic,
    /// One command upgrades it.
    Command,
    /// A user has to fetch or build a newer one.
    ByHand,
    /// No source offers it, or upgrades of it are held back.
    Nobody,
    /// The records do not tell.
    Unknown,
}

impl UpkeepMode {
    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            UpkeepMode::Automatic => "automatic",
            UpkeepMode::Command => "command",
            UpkeepMode::ByHand => "by-hand",
            UpkeepMode::Nobody => "nobody",
            UpkeepMode::Unknown => "unknown",
        }
    }
}

/// A newer version that is to be had.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Behind {
    /// The newer version.
    pub version: Option<ByteString>,
    /// The source that has it.
    pub source: Option<ByteString>,
}

/// Who keeps a package current.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Kept {
    /// The package's id.
    pub id: ByteString,
    /// Its manager.
    pub manager: ManagerId,
    /// Whose it is.
    pub scope: Scope,
    /// Its name.
    pub name: ByteString,
    /// Its version.
    pub version: Option<ByteString>,
    /// Who does it.
    pub mode: UpkeepMode,
    /// What does it by itself.
    pub by: Option<String>,
    /// When, as it is written.
    pub schedule: Option<String>,
    /// The command that upgrades it.
    pub command: Option<String>,
    /// The user who types it; `null` where the command says it.
    pub as_user: Option<ByteString>,
    /// Why nobody does, or why it is not known.
    pub because: Option<String>,
    /// The newer version that is to be had.
    pub behind: Option<Behind>,
    /// Where it stands.
    pub evidence: Vec<Evidence>,
}

/// What decides who keeps a package current.
pub(crate) struct Keeping<'k, 's> {
    survey: &'k Survey<'s>,
    jobs: Vec<Job>,
    /// Which sources have each package.
    offering: Offering,
    /// The job that upgrades what an installation has, once it was looked for.
    by_job: Mutex<HashMap<(ManagerId, Scope), Option<Automatic>>>,
}

impl<'k, 's> Keeping<'k, 's> {
    /// Reads jobs, and which sources of these managers have packages with these names.
    pub(crate) fn of(survey: &'k Survey<'s>, managers: &[ManagerId], names: &[ByteString]) -> Self {
        Self::with(survey, Offering::of(survey, managers, names))
    }

    /// The same of everything that is installed.
    pub(crate) fn of_all(survey: &'k Survey<'s>) -> Self {
        Self::with(survey, Offering::of_all(survey))
    }

    fn with(survey: &'k Survey<'s>, offering: Offering) -> Self {
        Keeping { survey, jobs: jobs::read(survey.host), offering, by_job: Mutex::default() }
    }

    /// What `of_one` tells of each of these packages, which are packages of installations.
    fn each<'p, T>(
        &self,
        packages: &'p [Package],
        of_one: impl Fn(&dyn Installation, u32, &Package) -> T,
    ) -> Vec<(&'p Package, T)> {
        let by_id: HashMap<&ByteString, &Package> = packages.iter().map(|package| (&package.id, package)).collect();
        let mut found = Vec::new();
        for held in self.survey.installations() {
            for (number, one) in held.numbered(Detail::default()) {
                if let Some(package) = by_id.get(&one.id).filter(|one| is_current(one)) {
                    found.push((*package, of_one(&**held, number, package)));
                }
            }
        }
        found
    }

    /// Who keeps each of these packages current.
    pub(crate) fn all<'p>(&self, packages: &'p [Package]) -> Vec<(&'p Package, Kept)> {
        self.each(packages, |held, number, package| self.of_package(held, number, package))
    }

    /// Those of these packages that nobody keeps current.
    pub(crate) fn nobody<'p>(&self, packages: &'p [Package]) -> Vec<(&'p Package, Kept)> {
        let mut all = self.each(packages, |held, number, package| self.without_command(held, number, package));
        all.retain(|(_, kept)| kept.mode == UpkeepMode::Nobody);
        all
    }

    /// What decides before it is asked what upgrades a package: a hold, its origin, its sources. Where none of that
    /// does, the mode is not known yet, and no reason is given.
    fn without_command(&self, held: &dyn Installation, number: u32, package: &Package) -> Kept {
        let mut kept = Kept {
            id: package.id.clone(),
            manager: package.manager,
            scope: package.scope.clone(),
            name: package.name.clone(),
            version: package.version.clone(),
            mode: UpkeepMode::Unknown,
            by: None,
            schedule: None,
            command: None,
            as_user: None,
            because: None,
            behind: None,
            evidence: package.evidence.iter().take(1).cloned().collect(),
        };
        if let Some(evidence) = held.upkeep().and_then(|upkeep| upkeep.prevented(number, package)) {
            (kept.mode, kept.because) = (UpkeepMode::Nobody, Some(evidence.says.clone()));
            kept.evidence = vec![evidence];
            return kept;
        }
        if package.held {
            (kept.mode, kept.because) = (UpkeepMode::Nobody, Some("upgrades of it are held back".to_owned()));
            return kept;
        }
        if let Some(mode) = self.by_origin(package, &mut kept) {
            kept.mode = mode;
        }
        kept
    }

    /// Who keeps one package current.
    pub(crate) fn of_package(&self, held: &dyn Installation, number: u32, package: &Package) -> Kept {
        let mut kept = self.without_command(held, number, package);
        if kept.because.is_some() {
            return kept;
        }
        let sources = self.offering.sources(package.manager, &package.name).unwrap_or_default();
        let automatic = self.automatic(held, &package.name, &package.scope, sources);
        let line = upgrade_command(held, number);
        let remedy = line.and_then(|line| self.survey.remedy_within(held, Remedy::new(RemedyKind::Upgrade, line)));
        if let Some(remedy) = remedy {
            (kept.command, kept.as_user) = (Some(remedy.command), remedy.as_user);
        }
        match automatic {
            Some(automatic) => {
                (kept.mode, kept.by, kept.schedule) = (UpkeepMode::Automatic, Some(automatic.by), automatic.schedule);
                kept.evidence.extend(automatic.evidence);
            }
            None if kept.command.is_some() => kept.mode = UpkeepMode::Command,
            None => by_kind(package, self.survey.host.is_image_based(), &mut kept),
        }
        kept
    }

    /// Who keeps the package current that owns something.
    pub(crate) fn of_owner(&self, owner: &Owner) -> Option<Kept> {
        if owner.status == Status::ConfigRemains {
            return None;
        }
        // The other managers' records need not be opened for it.
        let of_manager = self.survey.installations().iter().filter(|held| held.location().manager == owner.manager);
        let (held, number) = of_manager
            .flat_map(|held| held.named(&owner.name).into_iter().map(move |number| (&**held, number)))
            .find(|(held, number)| held.owner(*number).id == owner.id)?;
        // Where catalogues tell all that is offered, the origin decides nothing.
        let origins = !managers::profile(owner.manager).has_full_catalogues;
        let detail = Detail { evidence: true, origins, ..Detail::default() };
        let package = held.in_full(number, detail)?;
        Some(self.of_package(held, number, &package))
    }

    /// What the origin alone decides.
    fn by_origin(&self, package: &Package, kept: &mut Kept) -> Option<UpkeepMode> {
        if let Some(origin) = &package.origin {
            // Where catalogues tell all that is offered, what was fetched by hand can be offered, too.
            let is_full = managers::profile(package.manager).has_full_catalogues;
            if !is_full && matches!(origin.kind.as_str(), "file" | "directory") {
                kept.because = Some(match origin.kind.as_str() {
                    "file" => "it was installed from a file that a user had fetched".to_owned(),
                    _ => "it was installed from a directory of a user's".to_owned(),
                });
                return Some(UpkeepMode::ByHand);
            }
            // A source that is still named, but not configured.
            let of_manager = || self.survey.sources().iter().filter(|source| source.manager == package.manager);
            let gave = |source: &&Source| source.gave(origin);
            let tells = matches!(origin.kind.as_str(), "repository" | "remote") && of_manager().next().is_some();
            if tells && of_manager().any(|source| !source.origins.is_empty()) {
                let is_there = of_manager().filter(gave).any(|source| source.enabled);
                let is_known = of_manager().any(|source| gave(&source));
                if !is_there {
                    let state = if is_known { "disabled" } else { "not configured any more" };
                    kept.because = Some(format!("its source {} is {state}", origin.name));
                    return Some(UpkeepMode::Nobody);
                }
            }
        }
        let is_full = managers::profile(package.manager).has_full_catalogues;
        if !is_full {
            return None;
        }
        match self.offering.sources(package.manager, &package.name) {
            Some([_, ..]) => None,
            Some([]) => {
                kept.because = Some("no source offers it".to_owned());
                Some(UpkeepMode::Nobody)
            }
            None => {
                kept.because = Some("no catalogue of its manager was fetched".to_owned());
                Some(UpkeepMode::Unknown)
            }
        }
    }

    /// What upgrades a package by itself that these sources have.
    pub(crate) fn automatic(
        &self,
        held: &dyn Installation,
        name: &[u8],
        scope: &Scope,
        sources: &[ByteString],
    ) -> Option<Automatic> {
        let upkeep = held.upkeep();
        if let Some(automatic) = upkeep.and_then(|upkeep| upkeep.automatic(name, sources, &self.jobs)) {
            return Some(automatic);
        }
        let id = held.location().manager;
        let mut known = self.by_job.lock().unwrap_or_else(PoisonError::into_inner);
        known.entry((id, scope.clone())).or_insert_with(|| self.job(held, scope)).clone()
    }

    /// The job that upgrades everything that an installation has.
    fn job(&self, held: &dyn Installation, scope: &Scope) -> Option<Automatic> {
        let id = held.location().manager;
        let upkeep = held.upkeep();
        let calls = managers::ALL.iter().find(|manager| manager.id() == id)?.upgrade_calls();
        // A job of the machine's upgrades what the machine has, a user's what the user has.
        let is_for = |job: &&Job| job.scope == *scope && !upkeep.is_some_and(|upkeep| upkeep.is_own(job));
        let does = |job: &&Job| calls.iter().any(|(program, words)| job.calls(program, words));
        let job = self.jobs.iter().filter(is_for).find(does)?;
        Some(Automatic {
            by: job.name.to_string(),
            schedule: Some(job.schedule.clone()),
            evidence: vec![job.evidence.clone()],
        })
    }
}

/// Whether a package is one that could be upgraded.
pub(super) fn is_current(package: &Package) -> bool {
    !matches!(package.status, Status::ConfigRemains | Status::Disabled)
}

fn upgrade_command(held: &dyn Installation, number: u32) -> Option<CommandLine> {
    let of_manager = held.upkeep().and_then(|upkeep| upkeep.upgrade_command(number));
    let of_remedies = || held.remedies(number).into_iter().find(|remedy| remedy.kind == RemedyKind::Upgrade);
    of_manager.or_else(|| of_remedies().map(|remedy| remedy.line))
}

/// What the kind of manager decides, where there is no command.
fn by_kind(package: &Package, is_image_based: bool, kept: &mut Kept) {
    let kind = managers::profile(package.manager).kind;
    let (mode, because) = match kind {
        ManagerKind::Versions => (UpkeepMode::ByHand, "each version is installed on request and stays"),
        ManagerKind::System if is_image_based => (UpkeepMode::ByHand, "it changes with the image of the system"),
        ManagerKind::Sandbox if package.origin.as_ref().is_some_and(|origin| origin.kind == "store") => {
            (UpkeepMode::ByHand, "a user upgrades it in the store, unless the store is set to do so")
        }
        ManagerKind::Sandbox => (UpkeepMode::ByHand, "a user has to fetch a newer file"),
        ManagerKind::Store => (UpkeepMode::ByHand, "it changes with the configuration or the profile that has it"),
        _ => (UpkeepMode::Unknown, "its manager does not record where it came from"),
    };
    (kept.mode, kept.because) = (mode, Some(because.to_owned()));
}
