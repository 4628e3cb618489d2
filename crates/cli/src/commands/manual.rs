//! `whodunit manual`.

use std::ffi::{OsStr, OsString};

use clap::Args;
use clap_mangen::Man;

use crate::error::CliError;
use crate::session::Outcome;

/// Write the manual pages, from the same text as the help
///
/// One page for each command (`man whodunit-owner`), and one for all of them (`man whodunit`), as `man` reads them below
/// a directory `man1`. Existing pages are not overwritten.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit manual ~/.local/share/man/man1")]
pub struct Arguments {
    /// The directory, which must exist
    dir: OsString,
}

/// Answers.
pub fn run(arguments: &Arguments, whole: clap::Command, statuses: &[(u8, &str)]) -> Result<Outcome, CliError> {
    let dir = &arguments.dir;
    let mut whole = whole.disable_help_subcommand(true);
    whole.build();
    write(dir, "whodunit", whole.clone(), &[])?;
    for command in whole.get_subcommands().filter(|command| !command.is_hide_set()) {
        let name = format!("whodunit-{}", command.get_name());
        write(dir, &name, command.clone(), statuses)?;
    }
    Ok(Outcome { found: true, ..Outcome::default() })
}

/// Writes one page: what the help says, and the exit statuses.
fn write(dir: &OsStr, name: &str, command: clap::Command, statuses: &[(u8, &str)]) -> Result<(), CliError> {
    let mut page = Vec::new();
    let command = command.display_name(name.to_owned());
    let man = Man::new(command)
        .title(name.to_uppercase())
        .manual("Whodunit")
        .source(concat!("whodunit ", env!("CARGO_PKG_VERSION")));
    man.render(&mut page)?;
    // The page of all has them in its text.
    if !statuses.is_empty() {
        page.extend_from_slice(b".SH \"EXIT STATUS\"\n");
        for (status, meaning) in statuses {
            page.extend_from_slice(format!(".TP\n{status}\n{meaning}\n").as_bytes());
        }
        page.extend_from_slice(b".SH \"SEE ALSO\"\nwhodunit(1)\n");
    }
    let file = std::path::Path::new(dir).join(format!("{name}.1"));
    super::write_file(file.as_os_str(), &page)
}
