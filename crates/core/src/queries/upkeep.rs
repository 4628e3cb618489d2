//! Who keeps each package current, and what is behind today.

use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;

use super::offers::{Question, offers};
use super::sources::configured;
use crate::backend::Installation;
use crate::backend::jobs::{self, Job};
use crate::bytes::ByteString;
use crate::managers;
use crate::model::{
    CommandLine, Evidence, ManagerId, ManagerKind, OfferQuery, Package, Remedy, RemedyKind, Scope, Source, Status,
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

/// The answer.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Upkept {
    /// The packages, those of one installation together.
    pub upkeep: Vec<Kept>,
}

/// Who keeps the packages current that are installed, or of these the ones with these names or ids.
#[must_use]
pub fn upkeep(survey: &Survey<'_>, names: &[ByteString], now: Option<i64>) -> Upkept {
    let keeping = Keeping::of(survey, true);
    let behind = behind(survey, now);
    let wanted: HashSet<(u16, u32)> = names.iter().flat_map(|name| survey.by_name_or_id(name)).collect();
    let mut upkeep = Vec::new();
    for (holder, held) in (0..).zip(survey.installations()) {
        let detail = crate::backend::Detail { evidence: true, origins: true, ..Default::default() };
        if !names.is_empty() && !wanted.iter().any(|(of, _)| *of == holder) {
            continue;
        }
        for (number, package) in (0..).zip(held.packages(detail)) {
            let is_wanted = names.is_empty() || wanted.contains(&(holder, number));
            if !is_wanted
                || matches!(package.status, Status::ConfigRemains | Status::Disabled)
                || survey.is_foreign(holder, number)
            {
                continue;
            }
            let mut kept = keeping.of_package(survey, &**held, number, &package);
            kept.behind = behind.get(&(package.manager, package.scope.clone(), package.name.clone())).cloned();
            upkeep.push(kept);
        }
    }
    Upkept { upkeep }
}

/// The newer version of each package that has one.
fn behind(survey: &Survey<'_>, now: Option<i64>) -> HashMap<(ManagerId, Scope, ByteString), Behind> {
    let newer = offers(survey, &Question { now, ..Question::default() });
    let mut found = HashMap::new();
    for one in newer.offers.into_iter().filter(|one| !one.offer.installed) {
        let key = (one.offer.manager, one.offer.scope, one.offer.name);
        // The newest comes first; what the manager would take counts before it.
        let is_first = !found.contains_key(&key);
        if is_first || one.offer.candidate {
            let source = one.offer.source.map(|source| source.name);
            found.insert(key, Behind { version: one.offer.version, source });
        }
    }
    found
}

/// What decides who keeps a package current.
pub(crate) struct Keeping {
    jobs: Vec<Job>,
    sources: Vec<Source>,
    /// The names that a manager's catalogues have; no entry where it has no catalogue.
    offered: HashMap<ManagerId, HashSet<ByteString>>,
    /// Whether all names were looked up in catalogues.
    knows_offers: bool,
}

impl Keeping {
    /// Reads jobs and sources, and with `with_offers` which packages are offered at all.
    pub(crate) fn of(survey: &Survey<'_>, with_offers: bool) -> Self {
        let mut offered: HashMap<ManagerId, HashSet<ByteString>> = HashMap::new();
        for held in survey.installations().iter().filter(|_| with_offers) {
            let manager = held.location().manager;
            let offers = held.catalogue().map_or_else(Vec::new, |held| held.offers(&OfferQuery::Installed));
            let names: HashSet<ByteString> =
                offers.into_iter().filter(|one| one.catalogued_at.is_some()).map(|one| one.name).collect();
            if !names.is_empty() {
                offered.entry(manager).or_default().extend(names);
            }
        }
        Keeping { jobs: jobs::read(survey.host), sources: configured(survey).0, offered, knows_offers: with_offers }
    }

    /// Who keeps one package current.
    pub(crate) fn of_package(
        &self,
        survey: &Survey<'_>,
        held: &dyn Installation,
        number: u32,
        package: &Package,
    ) -> Kept {
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
            return kept;
        }
        let of_manager = held.upkeep().and_then(|upkeep| upkeep.automatic(number, package, &self.jobs));
        let automatic = of_manager.or_else(|| self.by_job(package));
        let line = upgrade_command(held, number);
        let remedy = line.and_then(|line| survey.remedy_within(held, Remedy::new(RemedyKind::Upgrade, line)));
        if let Some(remedy) = remedy {
            (kept.command, kept.as_user) = (Some(remedy.command), remedy.as_user);
        }
        match automatic {
            Some(automatic) => {
                (kept.mode, kept.by, kept.schedule) = (UpkeepMode::Automatic, Some(automatic.by), automatic.schedule);
                kept.evidence.extend(automatic.evidence);
            }
            None if kept.command.is_some() => kept.mode = UpkeepMode::Command,
            None => by_kind(package, &mut kept),
        }
        kept
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
            let of_manager = || self.sources.iter().filter(|source| source.manager == package.manager);
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
        if !is_full || !self.knows_offers {
            return None;
        }
        match self.offered.get(&package.manager) {
            Some(names) if names.contains(&package.name) => None,
            Some(_) => {
                kept.because = Some("no source offers it".to_owned());
                Some(UpkeepMode::Nobody)
            }
            None => {
                kept.because = Some("no catalogue of its manager was fetched".to_owned());
                Some(UpkeepMode::Unknown)
            }
        }
    }

    /// The job that upgrades what is installed for the whole machine, or for the user.
    fn by_job(&self, package: &Package) -> Option<crate::backend::Automatic> {
        let calls = managers::ALL.iter().find(|manager| manager.id() == package.manager)?.upgrade_calls();
        let is_for = |job: &&Job| match &package.scope {
            Scope::System => job.scope == Scope::System,
            scope => job.scope == *scope,
        };
        let does = |job: &&Job| calls.iter().any(|(program, words)| job.calls(program, words));
        let job = self.jobs.iter().filter(is_for).find(does)?;
        Some(crate::backend::Automatic {
            by: job.name.to_string(),
            schedule: Some(job.schedule.clone()),
            evidence: vec![job.evidence.clone()],
        })
    }
}

fn upgrade_command(held: &dyn Installation, number: u32) -> Option<CommandLine> {
    let of_manager = held.upkeep().and_then(|upkeep| upkeep.upgrade_command(number));
    let of_remedies = || held.remedies(number).into_iter().find(|remedy| remedy.kind == RemedyKind::Upgrade);
    of_manager.or_else(|| of_remedies().map(|remedy| remedy.line))
}

/// What the kind of manager decides, where there is no command.
fn by_kind(package: &Package, kept: &mut Kept) {
    let kind = managers::profile(package.manager).kind;
    let (mode, because) = match kind {
        ManagerKind::Versions => (UpkeepMode::ByHand, "each version is installed on request and stays"),
        ManagerKind::Sandbox => (UpkeepMode::ByHand, "a user has to fetch a newer file"),
        ManagerKind::Store => (UpkeepMode::ByHand, "it changes with the configuration or the profile that has it"),
        _ => (UpkeepMode::Unknown, "its manager does not record where it came from"),
    };
    (kept.mode, kept.because) = (mode, Some(because.to_owned()));
}
