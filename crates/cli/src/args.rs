//! The options that every command takes.

use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::LazyLock;

use clap::builder::PossibleValue;
use clap::{ArgAction, Args, FromArgMatches as _, ValueEnum};

use whodunit_core::resolve::Context;

/// Options that every command takes.
#[derive(Debug, Clone, Args)]
#[command(next_help_heading = "Global options")]
pub struct Global {
    /// Examine the tree under DIR (a mounted disk, a container's root) instead of the running machine
    #[arg(long, global = true, value_name = "DIR")]
    pub root: Option<PathBuf>,

    /// Examine the home directory of this user; can be repeated
    ///
    /// Default: your own; as root, or with --root, every user with a home directory.
    #[arg(long, global = true, value_name = "NAME", conflicts_with = "all_users")]
    pub user: Vec<OsString>,

    /// Examine the home directories of all users
    #[arg(long, global = true)]
    pub all_users: bool,

    /// Answer as if asked in this directory (project-local versions, relative targets)
    #[arg(long, short = 'C', global = true, value_name = "DIR")]
    pub directory: Option<PathBuf>,

    /// Context in which a program is started; determines the search path
    ///
    /// The start-up files of the user's shell are evaluated without running anything. Default: `here`; with --root:
    /// `login`.
    #[arg(long, global = true, value_name = "NAME")]
    pub context: Option<ContextName>,

    /// Assume this shell instead of the user's own
    #[arg(long, global = true, value_name = "NAME")]
    pub shell: Option<ShellName>,

    /// Start the context's shell with this variable; can be repeated
    ///
    /// Overrides the derived environment.
    #[arg(long, global = true, value_name = "NAME=VALUE")]
    pub inherit: Vec<OsString>,

    /// Search path for commands (directories separated by colons) instead of the context's
    #[arg(long, global = true, value_name = "LIST")]
    pub path: Option<OsString>,

    /// Configuration file; default: ~/.config/whodunit/config.toml, then /etc/whodunit/config.toml
    #[arg(long, global = true, value_name = "FILE")]
    pub config: Option<PathBuf>,

    /// Output format
    #[arg(long, global = true, value_name = "NAME", default_value = "table")]
    pub format: Format,

    /// Show a list as a table of these columns, in this order (--format csv has them all)
    #[arg(long, global = true, value_name = "NAMES", value_delimiter = ',')]
    pub columns: Vec<String>,

    /// Order such a table by this column: numbers and dates from the highest, words from A
    #[arg(long, global = true, value_name = "NAME")]
    pub sort: Option<String>,

    /// When to use colour; NO_COLOR is respected
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub color: When,

    /// Write a long answer to the terminal at once, not through the pager (PAGER, else less)
    #[arg(long, global = true)]
    pub no_pager: bool,

    /// Exit with status 3 if anything could not be read
    #[arg(long, global = true)]
    pub strict: bool,

    /// Print more on standard error: what was read, and with -vv how
    #[arg(long, short, global = true, action = ArgAction::Count, conflicts_with = "quiet")]
    pub verbose: u8,

    /// Print only errors on standard error
    #[arg(long, short, global = true)]
    pub quiet: bool,
}

impl Global {
    /// Whether rows are to be arranged in another way than usual.
    pub fn arranges(&self) -> bool {
        !self.columns.is_empty() || self.sort.is_some()
    }

    /// The options of a command line that gives none.
    pub fn of_nothing() -> Option<Self> {
        let matches = Global::augment_args(clap::Command::new("whodunit")).try_get_matches_from(["whodunit"]).ok()?;
        Global::from_arg_matches(&matches).ok()
    }
}

/// The words that an option takes.
pub fn words<V: ValueEnum + 'static>() -> impl Iterator<Item = String> {
    V::value_variants().iter().filter_map(|one| Some(one.to_possible_value()?.get_name().to_owned()))
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
    /// Aligned columns for a terminal
    Table,
    /// One JSON document, including what could not be read
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
