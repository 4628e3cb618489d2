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

use clap::error::ErrorKind;
use clap::{Args as _, CommandFactory as _, FromArgMatches as _, Parser};
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
    let cli = match parsed(arguments.into_iter().collect()) {
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

/// The command line. To put all commands together takes longer than many an answer, so only the one is that is named; what
/// does not fit it, and help, is told by the whole.
fn parsed(words: Vec<OsString>) -> Result<Cli, clap::Error> {
    match short(&words).try_get_matches_from(&words).and_then(|matches| Cli::from_arg_matches(&matches)) {
        Ok(cli) => Ok(cli),
        Err(error) if error.kind() == ErrorKind::DisplayVersion => Err(error),
        Err(_) => Cli::try_parse_from(words),
    }
}

/// The options of [`Cli`], and the first command that is among these words.
fn short(words: &[OsString]) -> clap::Command {
    let line = clap::Command::new("whodunit").version(env!("CARGO_PKG_VERSION")).subcommand_required(true);
    let mut line = Global::augment_args(line);
    for word in words.iter().skip(1).filter_map(|word| word.to_str()) {
        line = Command::only(line, word);
        if line.has_subcommands() {
            break;
        }
    }
    line
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_command_by_itself_is_the_one_of_the_whole() {
        let mut whole = Cli::command();
        whole.build();
        let options = |line: &clap::Command| -> Vec<String> {
            let mut all: Vec<String> = line.get_arguments().map(|one| one.get_id().to_string()).collect();
            all.sort();
            all
        };
        for command in whole.get_subcommands().filter(|command| command.get_name() != "help") {
            let mut short = short(&["whodunit".into(), "--root".into(), "/mnt".into(), command.get_name().into()]);
            short.build();
            let alone = short.find_subcommand(command.get_name()).unwrap();
            assert_eq!(
                (options(alone), options(&short)),
                (options(command), options(&whole)),
                "{}",
                command.get_name()
            );
        }
    }

    #[test]
    fn a_word_that_is_a_command_too_is_no_command_where_an_option_takes_it() {
        let parsed = |words: &[&str]| parsed(words.iter().map(OsString::from).collect());
        let cli = parsed(&["whodunit", "--root", "owner", "check"]).unwrap();
        assert!(matches!(cli.command, Command::Check(_)));
        assert_eq!(cli.global.root.unwrap(), std::path::Path::new("owner"));
        assert!(matches!(parsed(&["whodunit", "owner", "check"]), Ok(Cli { command: Command::Owner(_), .. })));
        for wrong in
            [&["whodunit"][..], &["whodunit", "ownre"], &["whodunit", "owner", "--no-such"], &["whodunit", "--help"]]
        {
            let whole = Cli::try_parse_from(wrong).unwrap_err();
            assert_eq!(parsed(wrong).unwrap_err().to_string(), whole.to_string(), "{wrong:?}");
        }
    }
}
