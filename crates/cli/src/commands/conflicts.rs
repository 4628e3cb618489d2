//! `whodunit conflicts`.

use std::ffi::OsString;
use std::io::Write as _;

use clap::Args;
use whodunit_core::checks::{CheckContext, Conflicts, conflicts};
use whodunit_core::model::{Finding, Severity};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{
    self, Line, Piece, Presenter, Streams, Tone,
    findings::{self, OfFindings},
};
use crate::session::Outcome;
use crate::session::Session;

/// Find conflicting versions, files and environments
///
/// Reports software that is installed at several versions or twice, files with two owners, overwritten and missing
/// files, broken interpreters, stale environments, unmet requirements and missing libraries. NAME is a title, a
/// package, a command or a file name.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit conflicts
  whodunit conflicts tidegauge
  whodunit conflicts --format json")]
pub struct Arguments {
    /// Report only conflicts about these names
    name: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    let names = super::bytes_of(&arguments.name);
    let resolved = session.all_contexts();
    let asking = CheckContext::new(&survey, session.views(), &resolved);
    let answer = conflicts(&asking, &names);
    let outcome = output::show(&answer, &survey, &session, global, streams, true)?;
    if answer.findings.is_empty() && !names.is_empty() && !global.quiet {
        let listed = names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let _ = writeln!(streams.err, "whodunit: no conflict found for {listed}");
    }
    Ok(outcome)
}

impl OfFindings for Conflicts {
    const COMMAND: &'static str = "conflicts";

    fn list(&self) -> &[Finding] {
        &self.findings
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let count = |severity| self.findings.iter().filter(|finding| finding.severity == severity).count();
        let (error, warning, note) = (count(Severity::Error), count(Severity::Warning), count(Severity::Note));
        let first = match (error + warning, note) {
            (0, 0) => Line::of(Tone::Strong, "no conflicts"),
            (0, note) => Line::of(Tone::Strong, findings::counted(0, 0, note)),
            (_, note) => Line::of(Tone::Warning, findings::counted(error, warning, note)),
        };
        let mut page: Vec<Piece> = vec![first.into()];
        page.extend(findings::each_in_full(&self.findings, presenter));
        page
    }
}
