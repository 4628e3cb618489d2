//! `whodunit`: who put that program there, what runs under its name, and what it hides.

mod args;
mod commands;
mod config;
mod error;
mod logging;
mod output;
mod process;
mod session;

use std::ffi::OsString;
use std::io::Write as _;
use std::process::ExitCode;

use clap::{CommandFactory as _, Parser};
use clap_complete::CompleteEnv;

use args::Global;
use commands::{Command, completions, demo, manual};
use error::{CliError, status};
use output::Streams;
use session::Outcome;

/// Find out which package manager installed a program, what runs under its name, and what it hides.
///
/// Reads the records of the package managers on this machine, or on a mounted disk, and shows the evidence for
/// every answer. Nothing that it finds is ever run, and nothing is changed.
#[derive(Debug, Parser)]
#[command(name = "whodunit", version, max_term_width = 100, subcommand_required = true, arg_required_else_help = true)]
#[command(after_help = AFTER_HELP)]
pub struct Cli {
    #[command(flatten)]
    /// The options that every command takes.
    pub global: Global,
    #[command(subcommand)]
    /// The command.
    pub command: Command,
}

/// The exit statuses, for the manual.
const EXIT_STATUSES: [(u8, &str); 5] = [
    (status::ANSWERED, "answered"),
    (status::NOT_FOUND, "the thing asked for was not found, or check, verify or compare --strict found something"),
    (status::USAGE, "wrong usage"),
    (status::INCOMPLETE, "something could not be read (only with --strict), or Ctrl-C ended verify early"),
    (status::OUTPUT, "the results, or a file that was asked for, could not be written"),
];

const AFTER_HELP: &str = "\
Exit status:
  0  answered
  1  the thing asked for was not found, check or verify found something, or (with --strict)
     compare found a difference
  2  wrong usage
  3  something could not be read (only with --strict), or Ctrl-C ended verify early
  4  the results, or a file that was asked for, could not be written

Examples:
  whodunit owner tidegauge                 whose is the program that runs when I type this?
  whodunit shadows                         which names have several copies, and which one wins?
  whodunit unowned                         what did no package manager put here?
  whodunit check                           is the machine in order?
  whodunit compare before                  what has changed since that snapshot?
  whodunit inventory --root /mnt --all     everything that is installed on a mounted disk
  whodunit demo                            try all of it on a made-up machine";

fn main() -> ExitCode {
    // Where a shell asks for completions, it gets these, and nothing else is done.
    CompleteEnv::with_factory(|| completions::values::attached(Cli::command())).var(completions::VARIABLE).complete();
    let mut streams = Streams::of_process();
    ExitCode::from(run(process::arguments(), &mut streams))
}

/// Parses the command line, runs the command, and reports how it ended; the result is the exit status.
fn run(arguments: impl IntoIterator<Item = OsString>, streams: &mut Streams) -> u8 {
    let cli = match Cli::try_parse_from(arguments) {
        Ok(cli) => cli,
        Err(error) => return help_or_mistake(&error),
    };
    streams.choose_color(cli.global.color);
    logging::start(cli.global.verbose);
    let outcome = dispatch(&cli, streams);
    let flushed = streams.out.flush();
    match outcome.and_then(|outcome| flushed.map(|()| outcome).map_err(CliError::from)) {
        Ok(outcome) if outcome.stopped || (cli.global.strict && outcome.incomplete) => status::INCOMPLETE,
        Ok(outcome) if outcome.found => status::ANSWERED,
        Ok(_) => status::NOT_FOUND,
        Err(error) => {
            if !error.is_silent() {
                let hint = error.hint().map(|hint| format!(" ({hint})")).unwrap_or_default();
                let _ = writeln!(streams.err, "whodunit: {error}{hint}");
            }
            error.exit_status()
        }
    }
}

/// Help and version are results; mistakes are explained by the argument parser.
fn help_or_mistake(error: &clap::Error) -> u8 {
    match error.print() {
        _ if error.use_stderr() => status::USAGE,
        Ok(()) => status::ANSWERED,
        Err(cause) => CliError::Output(cause).exit_status(),
    }
}

fn dispatch(cli: &Cli, streams: &mut Streams) -> Result<Outcome, CliError> {
    if cli.global.arranges() && !cli.command.has_rows() {
        return Err(CliError::usage("--columns and --sort arrange rows, and this command shows none"));
    }
    match &cli.command {
        // The tour asks the other commands, with the same words and through the same door as a user.
        Command::Demo(arguments) => demo::run(arguments, &cli.global, streams, &|words, streams| {
            let cli = Cli::try_parse_from(words).map_err(|error| CliError::usage(error.to_string()))?;
            dispatch(&cli, streams)
        }),
        Command::Manual(arguments) => manual::run(arguments, Cli::command(), &EXIT_STATUSES),
        command => command.run(&cli.global, streams),
    }
}
