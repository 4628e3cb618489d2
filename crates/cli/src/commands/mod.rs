//! The commands: one file each, with its arguments, its help and its body.

mod check;
mod conflicts;
mod demo;
mod explain;
mod impact;
mod inventory;
mod launchers;
mod offers;
mod owner;
mod paths;
mod shadows;
mod states;
mod unowned;
mod verify;

use std::io::Write as _;

use clap::Subcommand;
use whodunit_core::managers;
use whodunit_core::model::ManagerId;
use whodunit_core::text::Text;

use crate::args::{Cli, Global};
use crate::output::Streams;
use crate::run::Failure;

/// What is asked.
#[derive(Debug, Subcommand)]
pub enum Command {
    Inventory(inventory::Arguments),
    Owner(owner::Arguments),
    Paths(paths::Arguments),
    Shadows(shadows::Arguments),
    Launchers(launchers::Arguments),
    Offers(offers::Arguments),
    States(states::Arguments),
    Unowned(unowned::Arguments),
    Conflicts(conflicts::Arguments),
    Impact(impact::Arguments),
    Verify(verify::Arguments),
    Check(check::Arguments),
    Explain(explain::Arguments),
    Demo(demo::Arguments),
}

/// How a command ended.
#[derive(Debug, Clone, Copy)]
pub struct Outcome {
    /// Whether the thing asked for was found.
    pub found: bool,
    /// Whether anything could not be read.
    pub incomplete: bool,
}

/// A manager, by its name.
fn manager(name: &str) -> Result<ManagerId, String> {
    let mut ids = managers::ALL.iter().map(|manager| manager.id());
    ids.find(|id| id.0 == name).ok_or_else(|| {
        let known: Vec<&str> = managers::ALL.iter().map(|manager| manager.id().0).collect();
        format!("no such manager; this version reads {}", known.join(", "))
    })
}

/// Says of which names no package is known.
fn tell_unknown(unknown: &[Text], global: &Global, streams: &mut Streams) {
    for name in unknown.iter().filter(|_| !global.quiet) {
        let _ = writeln!(
            streams.err,
            "whodunit: {name}: no manager has a package of that name (whodunit inventory lists them)"
        );
    }
}

/// Runs the command.
pub fn run(cli: &Cli, streams: &mut Streams) -> Result<Outcome, Failure> {
    match &cli.command {
        Command::Inventory(arguments) => inventory::run(arguments, &cli.global, streams),
        Command::Owner(arguments) => owner::run(arguments, &cli.global, streams),
        Command::Paths(arguments) => paths::run(arguments, &cli.global, streams),
        Command::Shadows(arguments) => shadows::run(arguments, &cli.global, streams),
        Command::Launchers(arguments) => launchers::run(arguments, &cli.global, streams),
        Command::Offers(arguments) => offers::run(arguments, &cli.global, streams),
        Command::States(arguments) => states::run(arguments, &cli.global, streams),
        Command::Unowned(arguments) => unowned::run(arguments, &cli.global, streams),
        Command::Conflicts(arguments) => conflicts::run(arguments, &cli.global, streams),
        Command::Impact(arguments) => impact::run(arguments, &cli.global, streams),
        Command::Verify(arguments) => verify::run(arguments, &cli.global, streams),
        Command::Explain(arguments) => explain::run(arguments, &cli.global, streams),
        Command::Check(arguments) => check::run(arguments, &cli.global, streams),
        Command::Demo(arguments) => demo::run(arguments, &cli.global, streams),
    }
}
