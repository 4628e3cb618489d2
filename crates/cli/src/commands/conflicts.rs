//! `whodunit conflicts`.

use std::ffi::OsString;
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::answers::check::{Conflicts, Look as Asking, conflicts};
use whodunit_core::model::{Finding, Severity};
use whodunit_core::survey::Survey;
use whodunit_core::text::Text;

use super::Outcome;
use crate::args::Global;
use crate::output::{
    self, Line, Look, Piece, Streams, Tone,
    findings::{self, OfFindings},
};
use crate::run::{Failure, Ready};

/// Where versions, files and environments are at odds
///
/// Software that is installed at several versions or twice, files with two owners, files that another manager has
/// replaced or that are missing, broken interpreters and stale environments, requirements that are not met, libraries
/// that are not found. NAME is a title, a package, a command or a file's name.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit conflicts
  whodunit conflicts tidegauge
  whodunit conflicts --format json")]
pub struct Arguments {
    /// Only about these
    name: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, Failure> {
    let mut ready = Ready::new(global)?;
    ready.look_everywhere(global);
    let survey = Survey::of(&ready.scene);
    let names: Vec<Text> = arguments.name.iter().map(|name| name.as_bytes().into()).collect();
    let situations = ready.situations(&ready.people());
    let asking = Asking { survey: &survey, searches: ready.searches(), usual: ready.usual(), situations: &situations };
    let answer = conflicts(&asking, &names);
    let outcome = output::show(&answer, &survey, &ready, global, streams, true)?;
    if answer.findings.is_empty() && !names.is_empty() && !global.quiet {
        let listed = names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let _ = writeln!(streams.err, "whodunit: no conflict about {listed}");
    }
    Ok(outcome)
}

impl OfFindings for Conflicts {
    const COMMAND: &'static str = "conflicts";

    fn list(&self) -> &[Finding] {
        &self.findings
    }

    fn page(&self, look: &Look) -> Vec<Piece> {
        let count = |severity| self.findings.iter().filter(|finding| finding.severity == severity).count();
        let (error, warning, note) = (count(Severity::Error), count(Severity::Warning), count(Severity::Note));
        let first = match (error + warning, note) {
            (0, 0) => Line::of(Tone::Strong, "nothing is at odds"),
            (0, note) => Line::of(Tone::Strong, findings::counted(0, 0, note)),
            (_, note) => Line::of(Tone::Warning, findings::counted(error, warning, note)),
        };
        let mut page: Vec<Piece> = vec![first.into()];
        page.extend(findings::each_in_full(&self.findings, look));
        page
    }
}
