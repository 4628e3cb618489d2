//! `whodunit manifest`.

use std::ffi::OsString;
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;

use clap::{Args, Subcommand};
use whodunit_core::bytes::path;
use whodunit_core::fs::{Limit, Root};
use whodunit_core::history::{Compared, Manifest};
use whodunit_core::managers;
use whodunit_core::model::Coverage;
use whodunit_core::queries::manifest::manifest;
use whodunit_core::survey::Survey;

use super::compare::show_compared;
use crate::args::Global;
use crate::error::CliError;
use crate::output::Streams;
use crate::process;
use crate::session::{Outcome, Session};

/// Write down what was asked for, and tell how a machine differs from it
///
/// A manifest is a TOML file with the packages that were asked for, by manager and user, the sources that are not the
/// distribution's own, and the programs that no manager brings. It names no dependencies, and versions only with --pin.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit manifest write lantern.toml
  whodunit manifest write --pin > lantern.toml
  whodunit manifest compare lantern.toml --strict      is this machine like that one?")]
pub struct Arguments {
    #[command(subcommand)]
    /// What to do.
    action: Action,
}

/// What to do.
#[derive(Debug, Subcommand)]
enum Action {
    /// Write what was asked for on this machine
    Write {
        /// The file, which must not exist yet; standard output, if none is given
        file: Option<OsString>,
        /// Write the versions of packages, too
        #[arg(long)]
        pin: bool,
    },
    /// Show what is missing, what is there besides, and what is at another version or from another source
    Compare {
        /// The manifest
        file: OsString,
    },
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    match &arguments.action {
        Action::Write { file, pin } => {
            let (written, losses) = of_machine(global, *pin)?;
            let text = written.write();
            match file {
                None => streams.out.write_all(text.as_bytes())?,
                Some(file) => super::write_file(file, text.as_bytes())?,
            }
            Ok(Outcome { found: true, incomplete: !losses.is_empty(), ..Outcome::default() })
        }
        Action::Compare { file } => compare(file, global, streams),
    }
}

/// The manifest of the machine that the options name, and what could not be read.
fn of_machine(global: &Global, is_pinned: bool) -> Result<(Manifest, Vec<String>), CliError> {
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    let written = manifest(&survey, &session.searches(), is_pinned, session.now().or_else(process::now));
    let losses = survey.coverage().iter().flat_map(Coverage::lost).collect();
    Ok((written, losses))
}

/// Reads a manifest.
pub fn read(file: &OsString) -> Result<Manifest, CliError> {
    let place = path::absolute(file.as_bytes(), &process::process_env().dir);
    let failed = |cause: String| CliError::Manifest { file: place.clone(), cause };
    let content = Root::live().read(&place, Limit::LIST).map_err(|error| failed(error.reason()))?;
    let text = String::from_utf8(content).map_err(|_| failed("it is not UTF-8".to_owned()))?;
    Manifest::read(&text).map_err(|error| failed(error.to_string()))
}

fn compare(file: &OsString, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let wanted = read(file)?;
    let (here, losses) = of_machine(global, true)?;
    let known: Vec<&str> = managers::ALL.iter().map(|manager| manager.id().0).collect();
    let answer = Compared {
        comparison: wanted.compare(&here, &known),
        before: file.as_bytes().into(),
        after: "this machine".into(),
        losses,
        is_wanted: true,
        transactions: None,
    };
    show_compared(&answer, global, streams)
}
