//! `whodunit fleet`.

mod changes;
mod drift;
mod findings;
mod load;
mod machines;
mod outdated;
mod rare;
mod versions;
mod whereabouts;

use std::ffi::OsString;

use clap::{Args, Subcommand};
use whodunit_core::bytes::{ByteString, path};
use whodunit_core::model::FindingKind;
use whodunit_core::survey::Survey;
use whodunit_fleet::questions::{self, Fleet};
use whodunit_fleet::store::{self, Purpose};

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Shown, Streams, Tone};
use crate::process;
use crate::session::{Outcome, Session};

/// Ask the same questions of many machines, from their snapshots
///
/// Each machine takes snapshots (`whodunit snapshot save --full`), and the site brings them to one place: a shared
/// directory, a copy over the network. `fleet load` adds them to a store, and the other commands ask it. A store is a
/// file (SQLite), or a database of PostgreSQL by its URL; without --store it is
/// $XDG_STATE_HOME/whodunit/fleet.sqlite (~/.local/state/whodunit/fleet.sqlite). Of each machine the newest snapshot
/// counts.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit fleet load /srv/snapshots --into harbour.sqlite
  whodunit fleet machines --store harbour.sqlite
  whodunit fleet where chartdesk            which machines have it, from where, and is it what runs?
  whodunit fleet versions tidegauge         which versions are there, on how many machines?
  whodunit fleet findings shadowed-command
  whodunit fleet drift --reference lantern
  whodunit fleet changes --since 2026-11-29
  whodunit fleet load /srv/snapshots --into postgresql://keeper@db.harbour.example/fleet")]
pub struct Arguments {
    /// The store: a file, or the URL of a database of PostgreSQL
    #[arg(long, global = true, value_name = "STORE")]
    store: Option<String>,
    #[command(subcommand)]
    /// What to do.
    action: Action,
}

/// What to do.
#[derive(Debug, Subcommand)]
enum Action {
    /// Add snapshots to a store; those that it has already are left as they are
    Load {
        /// Files of snapshots, or directories with such files below them
        #[arg(required = true, value_name = "SNAPSHOT|DIR")]
        place: Vec<OsString>,
        /// The store, which is made if it does not exist
        #[arg(long, value_name = "STORE", conflicts_with = "store")]
        into: Option<String>,
    },
    /// List the machines, and when each was last seen
    Machines,
    /// Show which machines have a package, a title or a command, and whether it is what runs there
    Where {
        /// The name
        name: String,
    },
    /// Show which versions of a package or title there are, and on how many machines
    Versions {
        /// The name
        name: String,
    },
    /// Count what the machines' checks have found; or show every finding of one kind
    Findings {
        /// The kind (`whodunit explain` lists them)
        #[arg(value_parser = super::check::kind)]
        kind: Option<FindingKind>,
    },
    /// Show how far each machine is from a reference
    Drift {
        /// A machine, or the file of a manifest (with a slash, or ending in .toml)
        #[arg(long, value_name = "MACHINE|MANIFEST")]
        reference: OsString,
    },
    /// Show what has changed since a time, and on how many machines
    Changes {
        /// A date, a date with a time, RFC 3339, or how long ago (1d, 2w)
        #[arg(long, value_name = "TIME")]
        since: String,
    },
    /// Show software that few machines have, and unowned programs that differ on one machine from all others
    Rare {
        /// Show what is on fewer machines than this
        #[arg(long, value_name = "N", default_value_t = 3)]
        fewer_than: usize,
    },
    /// Show packages that are behind what their sources offer, and on how many machines
    Outdated,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let store = arguments.store.as_deref();
    match &arguments.action {
        Action::Load { place, into } => load::run(place, into.as_deref().or(store), global, streams),
        Action::Machines => {
            let answer = questions::machines::machines(&mut fleet(store)?)?;
            let found = !answer.machines.is_empty();
            show(&answer, global, streams, found)
        }
        Action::Where { name } => {
            let answer = questions::whereabouts::whereabouts(&mut fleet(store)?, name)?;
            let found = !answer.places.is_empty();
            show(&answer, global, streams, found)
        }
        Action::Versions { name } => {
            let answer = questions::versions::versions(&mut fleet(store)?, name)?;
            let found = !answer.versions.is_empty();
            show(&answer, global, streams, found)
        }
        Action::Findings { kind } => {
            let kind = kind.map(|kind| kind.to_string());
            let answer = questions::findings::found(&mut fleet(store)?, kind.as_deref())?;
            show(&answer, global, streams, true)
        }
        Action::Drift { reference } => drift::run(reference, &mut fleet(store)?, global, streams),
        Action::Changes { since } => changes::run(since, &mut fleet(store)?, global, streams),
        Action::Rare { fewer_than } => {
            let answer = questions::rare::rare(&mut fleet(store)?, *fewer_than)?;
            show(&answer, global, streams, true)
        }
        Action::Outdated => {
            let answer = questions::outdated::outdated(&mut fleet(store)?)?;
            show(&answer, global, streams, true)
        }
    }
}

/// The store that is meant: a URL as it is, a path from where the command is typed, or the usual file.
fn place(given: Option<&str>) -> Result<String, CliError> {
    let text = |place: ByteString| {
        String::from_utf8(place.to_vec()).map_err(|_| CliError::usage("the path of a store must be UTF-8"))
    };
    match given {
        Some(url) if store::is_url(url) => Ok(url.to_owned()),
        Some(file) => {
            let place = text(path::absolute(file.as_bytes(), &process::process_env().dir))?;
            // The slash at the end says that a directory is meant.
            Ok(if file.ends_with('/') && !place.ends_with('/') { place + "/" } else { place })
        }
        None => {
            let state = process::state_dir().ok_or_else(|| {
                CliError::usage("there is no directory for a store: neither HOME nor XDG_STATE_HOME is set")
                    .with_hint("give one with --store")
            })?;
            text(path::join(&state, b"whodunit/fleet.sqlite"))
        }
    }
}

/// Opens a store to ask it.
pub fn fleet(given: Option<&str>) -> Result<Fleet, CliError> {
    Ok(Fleet::new(store::open(&place(given)?, Purpose::Ask, &process::database_access())?)?)
}

/// Shows an answer, which is about no machine in particular.
fn show<A: Shown>(answer: &A, global: &Global, streams: &mut Streams, found: bool) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    output::show(answer, &Survey::of(&session.host), &session, global, streams, found)
}

/// A text of a snapshot: a stranger's.
fn cell(text: &str) -> Cell {
    Cell::plain(output::safe(text))
}

/// The same where there may be none.
fn optional(text: &Option<String>) -> Cell {
    cell(text.as_deref().unwrap_or_default())
}

/// The same, as what the row is about.
fn strong(text: &str) -> Cell {
    Cell::toned(Tone::Strong, output::safe(text))
}

fn number(count: usize) -> Cell {
    Cell::plain(count.to_string())
}

/// A count that may not be known.
fn counted(count: Option<usize>) -> Cell {
    Cell::plain(count.map(|count| count.to_string()).unwrap_or_default())
}

/// A count; nothing on a terminal where it is 0.
fn unless_zero(count: usize) -> Cell {
    let text = count.to_string();
    Cell::shown(text.clone(), if count == 0 { String::new() } else { text })
}

/// The first of some machines, and how many more there are.
pub fn named(names: &[String], count: usize) -> String {
    let all = output::safe(&names.join(", "));
    match count.saturating_sub(names.len()) {
        0 => all,
        more => format!("{all} and {more} more"),
    }
}

/// The same as a cell; data formats have the names alone.
fn among(names: &[String], count: usize) -> Cell {
    Cell { tone: Tone::Faint, ..Cell::shown(output::safe(&names.join(", ")), named(names, count)) }
}
