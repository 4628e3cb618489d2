//! One file per question that a user asks. Each is a pure function of a survey.

pub mod across;
pub(crate) mod advice;
pub mod bill;
mod check_context;

pub mod impact;
pub mod inventory;
pub mod inventory_facts;
pub mod keeping;
pub mod launchers;
pub mod left_behind;
pub mod libraries;
pub mod manifest;
pub mod manuals;
pub mod modules;
pub mod offers;
pub mod owner;
pub mod paths;

pub mod search;
pub mod session;
pub mod shadows;
pub mod snapshot;
pub mod sources;
pub mod space;
pub mod spelled;
pub mod states;
pub(crate) mod take_out;
pub mod timeline;
pub mod unowned;
pub mod upkeep;
mod users;
pub mod verify;
pub mod why;

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::ByteString;
use crate::host::{Host, System};
use crate::index::{ClaimIndex, FoundClaim};
use crate::model::{Coverage, Owner};
use crate::resolve::Resolution;
use crate::survey::Survey;

pub use check_context::{CheckContext, UserView};

/// The version of the data format, as every JSON document names it.
pub const SCHEMA: &str = "whodunit/1";

/// The machine that an answer is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Machine {
    /// Where its tree lies; `/` for the running machine.
    pub root: ByteString,
    /// Its name.
    pub host: Option<ByteString>,
    /// Its system.
    pub system: Option<System>,
    /// The users whose homes counted.
    pub users: Vec<ByteString>,
    /// The context in which programs are looked up; `all` for every one.
    pub context: String,
}

impl Machine {
    /// Describes the machine.
    #[must_use]
    pub fn of(host: &Host, context: &str) -> Self {
        use std::os::unix::ffi::OsStrExt as _;
        Machine {
            root: host.root.place().as_os_str().as_bytes().into(),
            host: host.hostname(),
            system: host.system().cloned(),
            users: host.users.iter().map(|user| user.name.clone()).collect(),
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
    /// The result, and how completely the machine was read.
    pub coverage: Vec<Coverage>,
    /// The answer.
    #[serde(flatten)]
    pub answer: T,
}

/// Packages by their holder: the numbers of each, in the order given.
pub(crate) fn by_holder(packages: impl IntoIterator<Item = (u16, u32)>) -> BTreeMap<u16, Vec<u32>> {
    let mut found: BTreeMap<u16, Vec<u32>> = BTreeMap::new();
    for (holder, number) in packages {
        found.entry(holder).or_default().push(number);
    }
    found
}

/// A file with its owner: a copy in a list of copies.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Located {
    /// Where it is found.
    pub path: ByteString,
    /// The owner of what finally runs; `null` when no manager claims it.
    pub owner: Option<Owner>,
    /// The owner's version, or what the file itself says where it has no owner.
    pub version: Option<ByteString>,
}

/// The claims on what a resolution ends in, packages only.
pub(crate) fn claims_on_last(survey: &Survey<'_>, index: &ClaimIndex, resolution: &Resolution) -> Vec<FoundClaim> {
    survey.ownership(index, resolution.last()).packages
}

/// A file of which the links are not followed one by one, with its owner.
pub(crate) fn located(survey: &Survey<'_>, index: &ClaimIndex, path: &ByteString) -> Located {
    let canonical = survey.root().canonicalize(path);
    let owner = survey.ownership(index, &canonical).packages.first().and_then(|claim| survey.owner(claim));
    let version = owner.as_ref().and_then(|owner| owner.version.clone());
    Located { path: path.clone(), owner, version }
}

pub(crate) fn locate(survey: &Survey<'_>, index: &ClaimIndex, path: &ByteString, resolution: &Resolution) -> Located {
    let owner = claims_on_last(survey, index, resolution).first().and_then(|claim| survey.owner(claim));
    let version = match &owner {
        Some(owner) => owner.version.clone(),
        None => crate::resolve::hints::of_file(survey.root(), resolution.last()).map(|hint| hint.version),
    };
    Located { path: path.clone(), owner, version }
}
