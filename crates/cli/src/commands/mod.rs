//! The commands: one file each, with its arguments, its help and its body, and a line in the table below.

mod browse;
mod check;
mod compare;
pub mod completions;
mod conflicts;
pub mod demo;
mod explain;
mod export;
mod fleet;
mod impact;
mod inventory;
mod launchers;
mod leftovers;
mod manifest;
pub mod manual;
mod offers;
mod owner;
mod paths;
mod plan;
mod report;
mod search;
mod shadows;
mod snapshot;
mod sources;
mod space;
mod states;
mod timeline;
mod unowned;
pub mod upkeep;
mod verify;
mod why;

use std::collections::HashSet;
use std::ffi::{OsStr, OsString};
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;

use clap::{Args, Subcommand};
use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::{Kind, Root};
use whodunit_core::managers;
use whodunit_core::model::ManagerId;
use whodunit_core::queries::spelled;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::Streams;
use crate::process;
use crate::session::{Outcome, Session};

/// Makes the list of commands, and the way to each, from one line per command; behind one that shows no list stands
/// `without_rows`.
macro_rules! commands {
    ($($name:ident => $module:ident $($without_rows:ident)?),* $(,)?) => {
        /// The commands.
        #[derive(Debug, Subcommand)]
        pub enum Command {
            $($name($module::Arguments),)*
            Manual(manual::Arguments),
            Demo(demo::Arguments),
        }

        impl Command {
            /// Whether it shows rows, which can be arranged.
            pub fn has_rows(&self) -> bool {
                match self {
                    $(Command::$name(_) => stringify!($($without_rows)?).is_empty(),)*
                    Command::Manual(_) | Command::Demo(_) => false,
                }
            }

            /// Adds the command of this name to a line, and no other; nothing where there is none.
            pub fn only(line: clap::Command, name: &str) -> clap::Command {
                use clap::Command as Line;
                // A command is called as its file is.
                match name {
                    $(stringify!($module) => {
                        line.subcommand($module::Arguments::augment_args(Line::new(stringify!($module))))
                    })*
                    "manual" => line.subcommand(manual::Arguments::augment_args(Line::new("manual"))),
                    "demo" => line.subcommand(demo::Arguments::augment_args(Line::new("demo"))),
                    _ => line,
                }
            }

            /// Runs the command.
            pub fn run(&self, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
                match self {
                    $(Command::$name(arguments) => $module::run(arguments, global, streams),)*
                    Command::Manual(_) => Err(CliError::usage("the manual cannot be written within the demo")),
                    Command::Demo(_) => Err(CliError::usage("the demo cannot be asked within the demo")),
                }
            }
        }
    };
}

commands! {
    Inventory => inventory,
    Owner => owner,
    Paths => paths,
    Shadows => shadows,
    Launchers => launchers,
    Search => search,
    Offers => offers,
    Sources => sources,
    States => states,
    Upkeep => upkeep,
    Snapshot => snapshot,
    Compare => compare,
    Timeline => timeline,
    Manifest => manifest,
    Fleet => fleet,
    Unowned => unowned,
    Conflicts => conflicts,
    Impact => impact,
    Why => why,
    Space => space,
    Leftovers => leftovers,
    Plan => plan without_rows,
    Verify => verify,
    Check => check,
    Explain => explain,
    Report => report without_rows,
    Browse => browse without_rows,
    Export => export without_rows,
    Completions => completions without_rows,
}

/// A manager, by its name.
fn manager(name: &str) -> Result<ManagerId, String> {
    let mut ids = managers::ALL.iter().map(|manager| manager.id());
    ids.find(|id| id.0 == name).ok_or_else(|| {
        let known: Vec<&str> = managers::ALL.iter().map(|manager| manager.id().0).collect();
        format!("no such manager; this version reads {}", known.join(", "))
    })
}

/// Words of the command line as bytes.
fn bytes_of(words: &[OsString]) -> Vec<ByteString> {
    words.iter().map(|word| word.as_bytes().into()).collect()
}

/// The packages that are meant by words, as `owner` takes them, each once; and the words of which none is known.
fn packages_of(survey: &Survey<'_>, session: &Session, words: &[OsString]) -> (Vec<(u16, u32)>, Vec<ByteString>) {
    let (mut packages, mut unknown): (Vec<(u16, u32)>, Vec<ByteString>) = (Vec::new(), Vec::new());
    let mut seen: HashSet<(u16, u32)> = HashSet::new();
    for word in words {
        let found = spelled::packages(survey, &session.searches(), word.as_bytes());
        if found.is_empty() {
            unknown.push(word.as_bytes().into());
        }
        packages.extend(found.into_iter().filter(|one| seen.insert(*one)));
    }
    (packages, unknown)
}

/// What a directory of programs has under a name: anything but directories.
fn names_in(root: &Root, dir: &ByteString) -> impl Iterator<Item = ByteString> {
    let listed = root.names_in(dir);
    listed.into_iter().filter(|(_, kind)| *kind != Kind::Dir).map(|(name, _)| name)
}

/// Writes a file that must not exist yet, where the command is typed.
fn write_file(file: &OsStr, content: &[u8]) -> Result<(), CliError> {
    let place = path::absolute(file.as_bytes(), &process::process_env().dir);
    process::write_new(&place, content).map_err(|cause| match cause.kind() {
        std::io::ErrorKind::AlreadyExists => CliError::usage(format!("{place} exists already")),
        _ => CliError::Write { file: place.clone(), cause },
    })
}

/// Says of which names no package is known.
fn tell_unknown(unknown: &[ByteString], global: &Global, streams: &mut Streams) {
    for name in unknown.iter().filter(|_| !global.quiet) {
        let _ = writeln!(streams.err, "whodunit: {name}: no such package (whodunit inventory --all lists them)");
    }
}
