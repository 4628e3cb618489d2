//! The options that every command takes, and the list of commands.

use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::LazyLock;

use clap::builder::PossibleValue;
use clap::{Args, Parser, ValueEnum};

use whodunit_core::search::Context;

use crate::commands::Command;

/// Who put that program there, what runs under its name, and what it hides.
///
/// Reads the records of the package managers on this machine, or on a disk that is mounted
/// somewhere, and answers with evidence. Nothing that it finds is ever run, and nothing is changed.
#[derive(Debug, Parser)]
#[command(name = "whodunit", version, max_term_width = 100, subcommand_required = true, arg_required_else_help = true)]
#[command(after_help = AFTER_HELP)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

const AFTER_HELP: &str = "\
Exit status:
  0  answered
  1  the thing asked for was not found; or check, or verify, found something
  2  wrong usage
  3  something could not be read (only with --strict)

Examples:
  whodunit owner tidegauge                 whose is the program that runs when I type this?
  whodunit shadows                         which names have several copies, and which one wins?
  whodunit unowned                         what did no package manager put here?
  whodunit check                           is the machine in order?
  whodunit inventory --root /mnt --all     everything that is installed on a mounted disk
  whodunit demo                            try all of it on a made-up machine";

/// Options that every command takes.
#[derive(Debug, Args)]
#[command(next_help_heading = "Global options")]
pub struct Global {
    /// Look at the tree under DIR (a mounted disk, a container's root) instead of the running machine
    #[arg(long, global = true, value_name = "DIR")]
    pub root: Option<PathBuf>,

    /// Count the home folder of this person; may be given several times
    ///
    /// Without it: yours; as root, or with --root, everyone's who has a home.
    #[arg(long, global = true, value_name = "NAME", conflicts_with = "everyone")]
    pub person: Vec<OsString>,

    /// Count the home folders of everyone who has one
    #[arg(long, global = true)]
    pub everyone: bool,

    /// Where a program is started; decides the search path
    ///
    /// The start-up files of the person's shell are followed, without running anything.
    ///
    /// Without it: here; with --root: login.
    #[arg(long, global = true, value_name = "NAME")]
    pub context: Option<ContextName>,

    /// Take this shell instead of the person's own
    #[arg(long, global = true, value_name = "NAME")]
    pub shell: Option<ShellName>,

    /// Let the context's shell start with this variable; may be given several times
    ///
    /// Instead of what is derived from the machine's settings.
    #[arg(long, global = true, value_name = "NAME=VALUE")]
    pub inherit: Vec<OsString>,

    /// Use this search path for commands (folders with colons between them) instead of a context's
    #[arg(long, global = true, value_name = "LIST")]
    pub path: Option<OsString>,

    /// Settings; without it ~/.config/whodunit/config.toml, then /etc/whodunit/config.toml
    #[arg(long, global = true, value_name = "FILE")]
    pub config: Option<PathBuf>,

    /// How results are written
    #[arg(long, global = true, value_name = "NAME", default_value = "table")]
    pub format: Format,

    /// When to use colour; NO_COLOR is honoured
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub color: When,

    /// Exit with status 3 when anything could not be read
    #[arg(long, global = true)]
    pub strict: bool,

    /// Say on standard error what was read
    #[arg(long, short, global = true, conflicts_with = "quiet")]
    pub verbose: bool,

    /// Say nothing on standard error but errors
    #[arg(long, short, global = true)]
    pub quiet: bool,
}

/// `--context`: one, or none for every one but `here`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ContextName(pub Option<Context>);

/// What can be said for it.
static CONTEXTS: LazyLock<Vec<ContextName>> = LazyLock::new(|| {
    let single = std::iter::once(Context::Here).chain(Context::ALL).map(|context| ContextName(Some(context)));
    single.chain([ContextName(None)]).collect()
});

impl ValueEnum for ContextName {
    fn value_variants<'a>() -> &'a [Self] {
        &CONTEXTS
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        Some(match self.0 {
            Some(context) => PossibleValue::new(context.word()).help(context.meaning()),
            None => PossibleValue::new("all").help("Every one but `here`"),
        })
    }
}

impl ContextName {
    /// The contexts that it stands for.
    pub fn contexts(self) -> Vec<Context> {
        self.0.map_or_else(|| Context::ALL.to_vec(), |context| vec![context])
    }
}

/// `--shell`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ShellName {
    /// bash
    Bash,
    /// The POSIX shell, as dash
    Sh,
    /// zsh
    Zsh,
    /// fish
    Fish,
}

/// `--format`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people
    Table,
    /// One JSON document, with what was read and what could not be
    Json,
    /// One JSON object per line
    Lines,
    /// Comma-separated values with a header
    Csv,
    /// A Markdown table
    Markdown,
    /// Findings for other tools, as SARIF 2.1.0 (check, conflicts, verify)
    Sarif,
}

/// `--color`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum When {
    /// On a terminal
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}
