//! `whodunit verify`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use whodunit_core::answers::verify::{Progress, Question, Verified, verify};
use whodunit_core::model::{Depth, Finding, ManagerId, Severity};
use whodunit_core::survey::Survey;
use whodunit_core::text::Text;

use super::Outcome;
use crate::args::Global;
use crate::output::{
    self, Line, Look, Piece, Streams, Tone,
    findings::{self, OfFindings},
};
use crate::run::{Failure, Ready};

/// Files that differ from what their manager recorded, and who changed them
///
/// Reads every file of every package, or of the packages named, and compares it with the digest, the sort, the size
/// and the permissions that its manager recorded. Settings are told apart: people are meant to change them. Files
/// that a manager was told not to unpack are not missing. The exit status is 1 when a file other than settings and
/// documentation differs.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit verify
  whodunit verify tidegauge chartdesk
  whodunit verify --root /mnt --format json")]
pub struct Arguments {
    /// Only these packages
    package: Vec<OsString>,

    /// Only of this manager; may be given several times
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
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, Failure> {
    let ready = Ready::new(global)?;
    let survey = Survey::of(&ready.scene);
    let mut packages = Vec::new();
    let mut unknown = Vec::new();
    for name in &arguments.package {
        let found = survey.numbered(name.as_bytes());
        if found.is_empty() {
            unknown.push(Text::from(name.as_bytes()));
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
    let outcome = output::show(&answer, &survey, &ready, global, streams, is_clean && unknown.is_empty())?;
    super::tell_unknown(&unknown, global, streams);
    Ok(outcome)
}

impl OfFindings for Verified {
    const COMMAND: &'static str = "verify";

    fn list(&self) -> &[Finding] {
        &self.findings
    }

    fn page(&self, look: &Look) -> Vec<Piece> {
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
            (0, _) => Line::of(Tone::Strong, "no manager here records its files"),
            (_, 0) => Line::of(Tone::Strong, "every file is as its manager recorded it"),
            (_, count) => Line::of(Tone::Warning, format!("{} not as recorded", output::count(count, "file"))),
        };
        let mut page: Vec<Piece> = vec![first.and(Tone::Plain, format!("; {of}")).into()];
        page.extend(findings::each_in_full(&self.findings, look));
        if !self.unrecorded.is_empty() {
            let managers: Vec<String> = self.unrecorded.iter().map(ToString::to_string).collect();
            let says = format!("not compared, for want of a record of files that is read: {}", managers.join(", "));
            page.push(Line::blank().into());
            page.push(Piece::Paragraph { column: 0, label: Line::blank(), tone: Tone::Faint, text: says });
        }
        page
    }
}
