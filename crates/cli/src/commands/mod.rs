//! The commands: one file each, with its arguments, its help and its body.

mod demo;
mod inventory;
mod launchers;
mod offers;
mod owner;
mod paths;
mod shadows;
mod states;
mod unowned;

use clap::Subcommand;

use crate::args::Cli;
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
        Command::Demo(arguments) => demo::run(arguments, &cli.global, streams),
    }
}
