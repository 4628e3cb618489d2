//! The question `owner`: who owns a command, a path or a package.

mod current;
mod intact;
mod judge;
mod look;
mod other_code;
mod possible;
mod target;

use super::keeping::Kept;
use schemars::JsonSchema;
use serde::Serialize;

use super::users::{self, OfUsers};
use super::{Located, claims_on_last};
use crate::bytes::ByteString;
use crate::host::PASSWD;
use crate::model::{CoverageState, Evidence, Finding, Owner, Remedy};
use crate::resolve::libraries::Loader;
use crate::resolve::temporary::Temporary;
use crate::resolve::words::Taken;
use crate::resolve::{Context, How, SearchPath};
use crate::survey::Survey;

use judge::Judge;
use look::Found;
pub use other_code::tell_other_code;
pub use target::{BadTarget, Target, TargetKind};

/// The verdict.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// One package claims it.
    Owned,
    /// No manager claims it.
    Unowned,
    /// Several packages claim it.
    Several,
    /// It is not there.
    NotFound,
}

/// One step from the path found to what finally runs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Hop {
    /// Where the step stands.
    pub path: ByteString,
    /// Where it leads: a link's target, a script's interpreter.
    pub to: Option<ByteString>,
    /// How it leads there.
    pub how: How,
    /// The directory on the way that is a link, where it is not the step itself that is one.
    pub through: Option<ByteString>,
    /// The package that placed it, `alternatives/GROUP`, or `null` for one placed by hand.
    pub owner: Option<ByteString>,
}

/// A script's interpreter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Interpreter {
    /// The script's first line.
    pub line: ByteString,
    /// The interpreter's path, as found; `null` when a lookup finds none.
    pub path: Option<ByteString>,
    /// What finally interprets, links followed; `null` when there is nothing.
    pub runs: Option<ByteString>,
    /// The owner of that.
    pub owner: Option<Owner>,
}

/// A copy that this search path does not reach.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Elsewhere {
    /// The package that owns it; `null` when none does.
    pub id: Option<ByteString>,
    /// What to type to start it.
    pub start: ByteString,
}

/// What the name of a command starts in a fresh session, where that is something else than in this one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct NextSession {
    /// The context of the fresh session.
    pub context: Context,
    /// The program; `null` where the name starts none there.
    pub path: Option<ByteString>,
    /// The package that owns it; `null` where none does.
    pub id: Option<ByteString>,
    /// What put the program of this session on its search path for a while; `null` where no variable tells.
    pub temporary: Option<Temporary>,
}

/// A program that a name starts instead, if a command that nobody ran decides so.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PossibleWinner {
    /// The program.
    pub path: ByteString,
    /// The package that owns it; `null` where none does.
    pub id: Option<ByteString>,
    /// What decides.
    pub because: Evidence,
}

/// The answer for one target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Answer {
    /// As the user gave it.
    pub target: ByteString,
    /// What it was taken for.
    pub kind: TargetKind,
    /// The context in which names are looked up.
    pub context: Context,
    /// The users in whose sessions it is so; empty for a search path that was given.
    pub users: Vec<ByteString>,
    /// The verdict.
    pub verdict: Verdict,
    /// Whether everything that could speak against the verdict was read.
    pub certain: bool,
    /// The program that the name starts, or that the path is; `null` when it is none.
    pub runs: Option<ByteString>,
    /// From the path found to what finally runs.
    pub hops: Vec<Hop>,
    /// Its interpreter, where it is a script.
    pub interpreter: Option<Interpreter>,
    /// The owner of what finally runs.
    pub owner: Option<Owner>,
    /// Whether it is the file that its owner recorded, by the digest; `null` where none is recorded, where the file is too
    /// large to be read for that, or where many targets are asked about at once.
    pub intact: Option<bool>,
    /// Everyone who claims it.
    pub owners: Vec<Owner>,
    /// Its version, where it has no owner and says so itself.
    pub version_hint: Option<ByteString>,
    /// Whether that version is a guess: the evidence says from what.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub version_is_probable: bool,
    /// What the context's shell takes the name for, before it looks for a program.
    pub taken_for: Option<Taken>,
    /// The copies behind it, in order.
    pub hidden: Vec<Located>,
    /// The copy that runs instead when its name is typed.
    pub hidden_by: Option<Located>,
    /// Copies that this search path does not reach.
    pub elsewhere: Vec<Elsewhere>,
    /// What the name starts instead, where it is known what decides and what there is to choose from.
    pub possible: Vec<PossibleWinner>,
    /// What the name starts in a fresh session, where that is something else; `null` where it is the same, or where the
    /// context is not this process's own.
    pub next_session: Option<NextSession>,
    /// Why it wins.
    pub because: Vec<Evidence>,
    /// Who keeps its owner's package current; `null` where it has no owner, or where many targets are asked about at
    /// once.
    pub upkeep: Option<Kept>,
    /// Commands of its manager's own.
    pub remedies: Vec<Remedy>,
    /// Findings about it.
    pub findings: Vec<Finding>,
    /// Where all this stands.
    pub evidence: Vec<Evidence>,
}

/// The answers, in the order of the targets.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Owners {
    /// One per target.
    pub answers: Vec<Answer>,
}

/// Of more targets, it is not asked what they load.
const MAX_LOADED: usize = 20;

/// Answers for every target with one reading of the machine.
#[must_use]
pub fn owners(survey: &Survey<'_>, search: &SearchPath, targets: &[Target]) -> Owners {
    owners_in(survey, &[search], targets)
}

/// The same on several search paths: what is a command has one answer for each, everything else one.
#[must_use]
pub fn owners_in(survey: &Survey<'_>, searches: &[&SearchPath], targets: &[Target]) -> Owners {
    let dirs = survey.program_dirs();
    // One list per target.
    let mut found: Vec<Vec<(Target, &SearchPath, Found)>> = Vec::new();
    for target in targets {
        let looks = searches.iter().map(|search| (*search, Found::look(survey, search, &dirs, target)));
        let looks: Vec<(&SearchPath, Found)> = looks.collect();
        let is_command = looks.iter().any(|(_, found)| matches!(found, Found::Command { .. }));
        // What is a command somewhere is one that is not reached elsewhere, and no package there.
        let kind = if is_command && searches.len() > 1 { Some(TargetKind::Command) } else { target.kind };
        // A launcher and a module depend on whose session it is, and not on the context; everything else on neither.
        let is_users = matches!(target.kind, Some(TargetKind::Module))
            || looks.iter().any(|(_, found)| matches!(found, Found::Launcher { .. }));
        let mut seen: Vec<Option<ByteString>> = Vec::new();
        let mut is_first = true;
        let is_asked = |(search, _): &(&SearchPath, Found)| {
            let is_new = !seen.contains(&search.user);
            seen.push(search.user.clone());
            is_command || std::mem::take(&mut is_first) || (is_users && is_new)
        };
        let of_target = looks.into_iter().filter(is_asked);
        found.push(of_target.map(|(search, found)| (Target { kind, ..target.clone() }, search, found)).collect());
    }
    let index = survey.claims(found.iter().flatten().flat_map(|(.., found)| found.paths()));
    // What programs load, and who keeps them current, is looked at where a user asks about a few of them.
    let is_few = targets.len() <= MAX_LOADED;
    let judge_all = || -> Vec<Vec<Answer>> {
        let loader = is_few.then(|| Loader::of(survey.root()));
        let answer = |(target, search, found): &(Target, &SearchPath, Found)| {
            let judge = Judge { survey, search, index: &index, loader: loader.as_ref() };
            let mut answer = judge.answer(target, found);
            if answer.kind == TargetKind::Command {
                answer.possible = possible::winners(survey, search, &answer);
            }
            answer
        };
        found.iter().map(|of_target| of_target.iter().map(answer).collect()).collect()
    };
    // Sources are large, and are read beside the rest: most owners are known before they are judged.
    let main = || found.iter().flatten().filter_map(|(.., found)| found.main()).filter(|_| is_few);
    let known = main().filter_map(|resolution| survey.owner(claims_on_last(survey, &index, resolution).first()?));
    let known: Vec<Owner> = known.collect();
    let (mut answers, offered) = rayon::join(judge_all, || current::Offered::of(survey, &known));
    for answer in answers.iter_mut().flatten() {
        // Whose a file or a package is does not depend on who asks.
        if matches!(answer.kind, TargetKind::Path | TargetKind::Package | TargetKind::Library) {
            answer.users.clear();
        }
    }
    if is_few {
        current::add(survey, &mut answers, offered);
    }
    let coverage = survey.coverage();
    let is_lost = |of_manager: bool| {
        coverage.iter().any(|part| part.manager.is_some() == of_manager && part.state != CoverageState::Read)
    };
    let records_lost = survey.managers().is_empty() || is_lost(true);
    // Without accounts there are no homes, and what is in one may come first.
    let homes_lost = coverage.iter().any(|part| part.location.as_bytes() == PASSWD);
    for answer in answers.iter_mut().flatten() {
        answer.certain = match answer.verdict {
            Verdict::Owned | Verdict::Several => {
                !(homes_lost && matches!(answer.kind, TargetKind::Command | TargetKind::Launcher))
            }
            Verdict::Unowned => !records_lost,
            // It may stand in a directory that could not be looked into.
            Verdict::NotFound => !records_lost && !is_lost(false),
        };
    }
    Owners { answers: answers.into_iter().flat_map(users::merged).collect() }
}

impl OfUsers for Answer {
    fn name(&self) -> &ByteString {
        &self.target
    }

    fn users(&mut self) -> &mut Vec<ByteString> {
        &mut self.users
    }

    fn essence(&self) -> Self {
        let (users, because, elsewhere, possible, evidence) = Default::default();
        Answer { users, because, elsewhere, possible, evidence, ..self.clone() }
    }
}
