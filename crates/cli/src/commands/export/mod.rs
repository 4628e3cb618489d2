//! `whodunit export`.

mod cyclonedx;
mod spdx;

use clap::{Args, ValueEnum};
use serde::Serialize;
use whodunit_core::model::Package;
use whodunit_core::queries::bill::bill;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Streams};
use crate::process;
use crate::session::{Outcome, Session};

/// Write everything that is installed as a bill of materials
///
/// Every package of every manager, with its version, package URL, what it needs, and where its manager records it. The
/// document goes to standard output.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit export cyclonedx > lantern.cdx.json
  whodunit export spdx --root /mnt > disk.spdx.json")]
pub struct Arguments {
    /// The format of the document
    #[arg(value_name = "FORMAT")]
    bill: Bill,
}

/// A format of a bill of materials.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Bill {
    /// CycloneDX 1.5, as JSON
    Cyclonedx,
    /// SPDX 2.3, as JSON
    Spdx,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let all = bill(&survey);
    let machine = session.host.hostname().map_or_else(|| "machine".to_owned(), |name| name.to_string());
    let written_at = process::now().map(output::time).unwrap_or_default();
    match arguments.bill {
        Bill::Cyclonedx => output::document(streams, &cyclonedx::document(&all, &machine, &written_at))?,
        Bill::Spdx => output::document(streams, &spdx::document(&all, &machine, &written_at))?,
    }
    Ok(output::note_losses(&survey, global, streams))
}

/// Whether a package starts something.
fn is_application(package: &Package) -> bool {
    !package.commands.is_empty() || !package.launchers.is_empty() || package.kind == "app"
}

/// A name with its value.
#[derive(Debug, Serialize)]
struct Property {
    name: &'static str,
    value: String,
}

/// What is known of a package that a bill of materials has no member for.
fn properties(package: &Package) -> Vec<Property> {
    let text = |name, value: Option<String>| value.map(|value| Property { name, value });
    let origin = package.origin.as_ref().map(|origin| origin.name.to_string());
    let all = [
        text("whodunit:id", Some(package.id.to_string())),
        text("whodunit:manager", Some(package.manager.to_string())),
        text("whodunit:scope", Some(package.scope.to_data())),
        text("whodunit:location", Some(package.location.to_string())),
        text("whodunit:reason", Some(package.reason.word().to_owned())),
        text("whodunit:origin", origin),
        text("whodunit:title", package.title.as_ref().map(ToString::to_string)),
        text("whodunit:arch", package.arch.as_ref().map(ToString::to_string)),
    ];
    all.into_iter().flatten().collect()
}
