//! `whodunit verify`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Depth, Finding, ManagerId, Severity};
use whodunit_core::queries::spelled;
use whodunit_core::queries::verify::{Progress, Question, Verified, verify};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{
    self, Line, Piece, Presenter, Streams, Tone,
    findings::{self, OfFindings},
};
use crate::session::Outcome;
use crate::session::Session;

/// Compare installed files with the records of their package managers
///
/// Reads every file of every package, or of the named packages, and compares it with the recorded digest, type,
/// size and permissions. Configuration files are listed separately, because they are meant to be changed. Files
/// that a manager was configured not to install are not reported as missing.
///
/// Exits with status 1 if a file other than configuration or documentation differs.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit verify
  whodunit verify tidegauge chartdesk
  whodunit verify --root /mnt --format json")]
pub struct Arguments {
    /// Verify only these packages
    package: Vec<OsString>,

    /// Verify only packages of this manager; can be repeated
    #[arg(long, value_name = "NAME", value_parser = super::manager)]
    manager: Vec<ManagerId>,
}

/// A bar on standard error, where that is a terminal.
struct Bar(ProgressBar);

impl Progress for Bar {
    fn begin(&self, files: usize) {
        self.0.set_length(files as u64);
    }

    fn done(&self) {
        self.0.inc(1);
    }
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let mut packages = Vec::new();
    let mut unknown = Vec::new();
    for name in &arguments.package {
        let found = spelled::packages(&survey, &session.searches(), name.as_bytes());
        if found.is_empty() {
            unknown.push(ByteString::from(name.as_bytes()));
        }
        packages.extend(found);
    }
    let wanted = (!arguments.package.is_empty()).then_some(packages.as_slice());
    let target = if global.quiet { ProgressDrawTarget::hidden() } else { ProgressDrawTarget::stderr() };
    let bar = ProgressBar::with_draw_target(None, target);
    if let Ok(style) = ProgressStyle::with_template("{bar:40} {human_pos} of {human_len} files, {eta} left") {
        bar.set_style(style);
    }
    let bar = Bar(bar);
    let question = Question { packages: wanted, managers: &arguments.manager, depth: Depth::Content };
    let answer = verify(&survey, question, &bar);
    bar.0.finish_and_clear();
    let is_clean = answer.findings.iter().all(|finding| finding.severity == Severity::Note);
    let outcome = output::show(&answer, &survey, &session, global, streams, is_clean && unknown.is_empty())?;
    super::tell_unknown(&unknown, global, streams);
    Ok(outcome)
}

impl OfFindings for Verified {
    const COMMAND: &'static str = "verify";

    fn list(&self) -> &[Finding] {
        &self.findings
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let extent = self.extent;
        let of = format!(
            "{} of {} compared, {} of them read",
            output::count(extent.files, "file"),
            output::count(extent.packages, "package"),
            extent.read
        );
        let serious: Vec<&Finding> = self.findings.iter().filter(|finding| finding.severity > Severity::Note).collect();
        let altered: usize = serious.iter().map(|finding| finding.paths.len()).sum();
        let first = match (extent.files, altered) {
            (0, _) => Line::of(Tone::Strong, "no manager here records files that can be compared"),
            (_, 0) => Line::of(Tone::Strong, "every file matches its manager's record"),
            (_, count) => Line::of(Tone::Warning, format!("{} not as recorded", output::count(count, "file"))),
        };
        let mut page: Vec<Piece> = vec![first.and(Tone::Plain, format!("; {of}")).into()];
        page.extend(findings::each_in_full(&self.findings, presenter));
        if !self.unrecorded.is_empty() {
            let managers: Vec<String> = self.unrecorded.iter().map(ToString::to_string).collect();
            let says = format!("not compared, because their records of files are not read: {}", managers.join(", "));
            page.push(Line::blank().into());
            page.push(Piece::Paragraph { column: 0, label: Line::blank(), tone: Tone::Faint, text: says });
        }
        page
    }
}
