//! `whodunit completions`.

pub mod values;

use clap::{Args, ValueEnum};
use clap_complete::env::Shells;

use crate::args::Global;
use crate::error::CliError;
use crate::output::Streams;
use crate::session::Outcome;

/// The variable by which a shell asks for completions.
pub const VARIABLE: &str = "WHODUNIT_COMPLETE";

/// Print the script by which a shell completes the command line
///
/// Options, contexts, formats and kinds of findings are completed, and the names of packages and commands on this machine.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit completions bash > ~/.local/share/bash-completion/completions/whodunit
  whodunit completions zsh > ~/.local/share/zsh/site-functions/_whodunit
  whodunit completions fish > ~/.config/fish/completions/whodunit.fish")]
pub struct Arguments {
    /// The shell
    #[arg(value_name = "SHELL")]
    completed: Shell,
}

/// A shell that can complete.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Shell {
    /// bash
    Bash,
    /// zsh
    Zsh,
    /// fish
    Fish,
    /// Elvish
    Elvish,
    /// PowerShell
    Powershell,
}

/// Answers.
pub fn run(arguments: &Arguments, _: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let name = match arguments.completed {
        Shell::Bash => "bash",
        Shell::Zsh => "zsh",
        Shell::Fish => "fish",
        Shell::Elvish => "elvish",
        Shell::Powershell => "powershell",
    };
    let shells = Shells::builtins();
    let shell = shells.completer(name).ok_or_else(|| CliError::usage(format!("no completions for {name}")))?;
    shell.write_registration(VARIABLE, "whodunit", "whodunit", "whodunit", &mut streams.out)?;
    Ok(Outcome { found: true, ..Outcome::default() })
}
