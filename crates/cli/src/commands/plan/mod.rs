//! `whodunit plan`.

mod script;

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::{Args, Subcommand};
use whodunit_core::checks::{CheckContext, FindingFilter};
use whodunit_core::model::{ManagerId, Severity};
use whodunit_core::plans::{self, Plan, RemovalOptions, TidyOptions};
use whodunit_core::queries::manifest::manifest;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Streams};
use crate::process;
use crate::session::{Outcome, Session};

/// Print the commands that get somewhere, as a script to read before anything is run
///
/// Runs nothing. The commands are the managers' own, in an order in which they work, each with what it is for, what it
/// loses and what undoes it. Before a step that removes something, the script checks that it will remove what the plan
/// says and nothing else, and stops where it would not. A step that cannot be made is left out together with what would
/// have to follow it; what is left to do by hand is listed.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit plan remove swellplot
  whodunit plan remove chartdesk --manager flatpak --with-data > remove.sh
  whodunit plan move chartdesk --to flatpak
  whodunit plan rollback tidegauge
  whodunit plan tidy --older-than 90d
  whodunit plan fix
  whodunit plan install lantern.toml --format json")]
pub struct Arguments {
    #[command(subcommand)]
    /// What to get to.
    goal: Goal,
}

/// What to get to.
#[derive(Debug, Subcommand)]
enum Goal {
    /// Remove a piece of software by every manager that has it, with what only it needs
    ///
    /// NAME is taken as `owner` takes it; the id of a package means this package alone. Packages of the same software by
    /// other managers are removed, too. Nothing that something else needs is removed.
    Remove {
        /// What to remove
        #[arg(required = true)]
        name: Vec<OsString>,
        /// Remove only what this manager has
        #[arg(long, value_name = "NAME", value_parser = super::manager)]
        manager: Option<ManagerId>,
        /// Remove settings and users' data, too
        #[arg(long)]
        with_data: bool,
        /// Remove the packages that cannot do without it, too
        #[arg(long)]
        with_dependents: bool,
    },
    /// Give up what is no longer needed: dependencies, runtimes, old revisions and states, links to nothing
    Tidy {
        /// Only what did not change for this long (90d, 8w, 1y), or since a date
        #[arg(long, value_name = "AGE")]
        older_than: Option<String>,
        /// Remove settings and data of removed software, too
        #[arg(long)]
        with_data: bool,
        /// Empty the managers' caches, too
        #[arg(long)]
        with_caches: bool,
    },
    /// Install the same software from another manager or source, copy what users keep of it, and remove what is here now
    ///
    /// Settings and data are copied where both managers' places are known; the copies that are removed keep theirs.
    Move {
        /// What to move
        name: OsString,
        /// The manager, or the source, to take it from
        #[arg(long, value_name = "NAME")]
        to: String,
        /// What it is called there, where that is not known
        #[arg(long, value_name = "NAME")]
        package: Option<OsString>,
        /// Remove only what this manager has
        #[arg(long, value_name = "NAME", value_parser = super::manager)]
        manager: Option<ManagerId>,
    },
    /// Go back to an earlier state of a profile, or an earlier version of a package
    Rollback {
        /// A holder of numbered states (`whodunit states`), or a package
        name: OsString,
        /// The number of the state, or the version; the one before, if none is given
        to: Option<OsString>,
    },
    /// Mend what `check` finds, each cause with its first remedy
    Fix {
        /// Only what concerns these (a command, a package, a title, a path), notes too
        subject: Vec<OsString>,
    },
    /// Install what a manifest has and this machine has not
    Install {
        /// The manifest (`whodunit manifest write`)
        manifest: OsString,
    },
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    let mut is_found = true;
    let answer: Plan = match &arguments.goal {
        Goal::Remove { name, manager, with_data, with_dependents } => {
            let (packages, unknown) = super::packages_of(&survey, &session, name);
            let exact: Vec<(u16, u32)> = packages.iter().copied().filter(|one| is_id(&survey, *one, name)).collect();
            let options =
                RemovalOptions { manager: *manager, with_data: *with_data, with_dependents: *with_dependents };
            is_found = unknown.is_empty();
            super::tell_unknown(&unknown, global, streams);
            let resolved = session.all_contexts();
            let cx = CheckContext::new(&survey, session.views(), &resolved);
            plans::remove(&cx, &packages, &exact, &options)
        }
        Goal::Tidy { older_than, with_data, with_caches } => {
            let before = older_than.as_ref().map(|age| before(age, &session)).transpose()?;
            let options = TidyOptions { before, with_data: *with_data, with_caches: *with_caches };
            let resolved = session.all_contexts();
            plans::tidy(&CheckContext::new(&survey, session.views(), &resolved), &options)
        }
        Goal::Move { name, to, package, manager } => {
            let (packages, unknown) = super::packages_of(&survey, &session, std::slice::from_ref(name));
            is_found = unknown.is_empty();
            super::tell_unknown(&unknown, global, streams);
            let options = RemovalOptions { manager: *manager, ..RemovalOptions::default() };
            let resolved = session.all_contexts();
            let cx = CheckContext::new(&survey, session.views(), &resolved);
            let package = package.as_ref().map(|package| package.as_bytes().into());
            plans::relocate(&cx, &packages, to, package.as_ref(), &options)
        }
        Goal::Rollback { name, to } => {
            let (packages, _) = super::packages_of(&survey, &session, std::slice::from_ref(name));
            let to = to.as_ref().map(|to| to.as_bytes());
            let plan = plans::rollback(&survey, &name.as_bytes().into(), &packages, to);
            is_found = !(plan.steps.is_empty() && plan.open.is_empty());
            if !is_found {
                super::tell_unknown(&[name.as_bytes().into()], global, streams);
            }
            plan
        }
        Goal::Fix { subject } => {
            let names = super::bytes_of(subject);
            let level = if names.is_empty() { Severity::Warning } else { Severity::Note };
            let wanted = FindingFilter { level: Some(level), kinds: Vec::new(), names };
            let resolved = session.all_contexts();
            let cx = CheckContext::new(&survey, session.views(), &resolved);
            plans::fix(&cx, &session.config.for_check(), &wanted)
        }
        Goal::Install { manifest: file } => {
            let wanted = super::manifest::read(file)?;
            let here = manifest(&survey, &session.searches(), true, None);
            plans::install(&survey, &wanted, &here)
        }
    };
    output::show(&answer, &survey, &session, global, streams, is_found)
}

/// Whether a word is the id of this package, and not only its name.
fn is_id(survey: &Survey<'_>, (holder, number): (u16, u32), words: &[OsString]) -> bool {
    let id = survey.installations()[usize::from(holder)].owner(number).id;
    words.iter().any(|word| word.as_bytes().strip_prefix(b"package:").unwrap_or(word.as_bytes()) == &*id)
}

/// The time before which something must have changed last: seconds since 1970.
fn before(age: &str, session: &Session) -> Result<i64, CliError> {
    let found = output::seconds(age, &session.host.time_zone()).or_else(|| output::ago(age, process::now()?));
    found.ok_or_else(|| {
        CliError::usage(format!("--older-than takes an age or a date, not {age}"))
            .with_hint("90d, 8w, 1y or 2026-03-02")
    })
}
