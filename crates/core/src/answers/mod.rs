//! One file per question that a person asks. Each is a pure function of a survey.

pub mod across;
pub mod check;
pub mod impact;
pub mod inventory;
pub mod launchers;
pub mod libraries;
pub mod manuals;
pub mod modules;
pub mod offers;
pub mod owner;
pub mod paths;
pub mod schema;
pub mod shadows;
pub mod states;
pub mod unowned;
pub mod verify;

use schemars::JsonSchema;
use serde::Serialize;

use crate::claims::{ClaimIndex, FoundClaim};
use crate::model::{Coverage, Owner, Remedy};
use crate::scene::{Scene, System};
use crate::search::Trail;
use crate::survey::Survey;
use crate::text::Text;

/// The version of the data format, as every JSON document names it.
pub const SCHEMA: &str = "whodunit/1";

/// The machine that an answer is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Machine {
    /// Where its tree lies; `/` for the running machine.
    pub root: Text,
    /// Its name.
    pub host: Option<Text>,
    /// Its system.
    pub system: Option<System>,
    /// The people whose homes counted.
    pub people: Vec<Text>,
    /// The situation in which programs are looked up; `all` for every one.
    pub context: String,
}

impl Machine {
    /// Describes the scene.
    #[must_use]
    pub fn of(scene: &Scene, context: &str) -> Self {
        use std::os::unix::ffi::OsStrExt as _;
        Machine {
            root: scene.root.place().as_os_str().as_bytes().into(),
            host: scene.host(),
            system: scene.system().cloned(),
            people: scene.people.iter().map(|person| person.name.clone()).collect(),
            context: context.to_owned(),
        }
    }
}

/// What every JSON document has; the last member depends on the command.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Envelope<T> {
    /// Always `whodunit/1`.
    pub schema: String,
    /// The command that was asked.
    pub command: String,
    /// The machine that the answer is about.
    pub machine: Machine,
    /// What was found, and how completely it was read.
    pub coverage: Vec<Coverage>,
    /// The answer.
    #[serde(flatten)]
    pub answer: T,
}

/// A file with its owner: a copy in a list of copies.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Located {
    /// Where it is found.
    pub path: Text,
    /// The owner of what finally runs; `null` when no manager claims it.
    pub owner: Option<Owner>,
    /// The owner's version, or what the file itself says where it has no owner.
    pub version: Option<Text>,
}

/// The claims on what a trail ends in, packages only.
fn claims_on_last(survey: &Survey<'_>, index: &ClaimIndex, trail: &Trail) -> Vec<FoundClaim> {
    survey.ownership(index, trail.last()).packages
}

/// The ways in which the owner of a file removes or repairs it.
fn ways_out(survey: &Survey<'_>, index: &ClaimIndex, path: &Text) -> Vec<Remedy> {
    let packages = survey.ownership(index, &survey.root().settle(path)).packages;
    packages.first().map(|claim| survey.remedies(claim)).unwrap_or_default()
}

/// Those of a package's ways that remove it, for the sake of something else.
fn removing(ways: Vec<Remedy>, purpose: String) -> impl Iterator<Item = Remedy> {
    let away = ways.into_iter().filter(|way| way.purpose == "remove");
    away.map(move |way| Remedy { purpose: purpose.clone(), ..way })
}

/// What puts a package's own files back where others have taken their place.
fn putting_back(restore: Option<Remedy>) -> Option<Remedy> {
    restore.map(|way| Remedy { purpose: "put its own files back".to_owned(), ..way })
}

/// A file of which the links are not followed one by one, with its owner.
fn located(survey: &Survey<'_>, index: &ClaimIndex, path: &Text) -> Located {
    let settled = survey.root().settle(path);
    let owner = survey.ownership(index, &settled).packages.first().and_then(|claim| survey.owner(claim));
    let version = owner.as_ref().and_then(|owner| owner.version.clone());
    Located { path: path.clone(), owner, version }
}

fn locate(survey: &Survey<'_>, index: &ClaimIndex, path: &Text, trail: &Trail) -> Located {
    let owner = claims_on_last(survey, index, trail).first().and_then(|claim| survey.owner(claim));
    let version = match &owner {
        Some(owner) => owner.version.clone(),
        None => crate::search::hints::of_file(survey.root(), trail.last()).map(|hint| hint.version),
    };
    Located { path: path.clone(), owner, version }
}
