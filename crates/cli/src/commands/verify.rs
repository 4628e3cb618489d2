//! `whodunit verify`.

use std::ffi::OsString;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use clap::Args;
use indicatif::ProgressBar;
use whodunit_core::model::{Depth, Finding, ManagerId, Severity};
use whodunit_core::queries::verify::{Progress, Question, Verified, verify};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{
    self, Line, Piece, Presenter, Streams, Tone,
    findings::{self, OfFindings},
    progress, size,
};
use crate::process;
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

/// A bar on standard error, where that is a terminal: files, bytes, how fast, and the time left, which goes by bytes.
struct Bar {
    bar: ProgressBar,
    expected: AtomicUsize,
    done: AtomicUsize,
    interrupted: Arc<AtomicBool>,
}

impl Bar {
    fn new(is_hidden: bool) -> Self {
        let bar = progress::bar(is_hidden, None, "{bar:20} {msg}, {eta} left; Ctrl-C shows what was found");
        // Without a handler, Ctrl-C ends the program as it ends any other.
        let interrupted = process::interrupted().unwrap_or_default();
        Bar { bar, expected: AtomicUsize::new(0), done: AtomicUsize::new(0), interrupted }
    }

    fn tell(&self) {
        let read = self.bar.position();
        let rate = read as f64 / self.bar.elapsed().as_secs_f64().max(0.001);
        let (done, expected) = (self.done.load(Ordering::Relaxed), self.expected.load(Ordering::Relaxed));
        self.bar.set_message(format!("{done} of about {expected} files, {}, {}/s", size(read), size(rate as u64)));
    }
}

impl Progress for Bar {
    fn expect(&self, files: usize, bytes: u64) {
        self.expected.store(files, Ordering::Relaxed);
        self.bar.set_length(bytes);
        self.tell();
    }

    fn done(&self, bytes: u64) {
        self.bar.inc(bytes);
        if self.done.fetch_add(1, Ordering::Relaxed).is_multiple_of(32) && !self.bar.is_hidden() {
            self.tell();
        }
    }

    fn is_stopped(&self) -> bool {
        self.interrupted.load(Ordering::Relaxed)
    }
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let (packages, unknown) = super::packages_of(&survey, &session, &arguments.package);
    let wanted = (!arguments.package.is_empty()).then_some(packages.as_slice());
    let bar = Bar::new(global.quiet);
    let question = Question { packages: wanted, managers: &arguments.manager, depth: Depth::Content };
    let answer = verify(&survey, question, &bar);
    bar.bar.finish_and_clear();
    let is_clean = answer.findings.iter().all(|finding| finding.severity == Severity::Note);
    let outcome = output::show(&answer, &survey, &session, global, streams, is_clean && unknown.is_empty())?;
    super::tell_unknown(&unknown, global, streams);
    Ok(Outcome { stopped: answer.is_stopped, ..outcome })
}

impl OfFindings for Verified {
    const COMMAND: &'static str = "verify";

    fn list(&self) -> &[Finding] {
        &self.findings
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let extent = self.extent;
        let of = format!(
            "{} of {} {}, {} of them read",
            output::count(extent.files, "file"),
            output::count(extent.packages, "package"),
            if self.is_stopped { "looked at" } else { "compared" },
            extent.read
        );
        let serious: Vec<&Finding> = self.findings.iter().filter(|finding| finding.severity > Severity::Note).collect();
        let altered: usize = serious.iter().map(|finding| finding.paths.len()).sum();
        let (tone, says) = match (extent.files, altered) {
            _ if self.is_stopped && altered == 0 => (Tone::Warning, "nothing altered was found so far".to_owned()),
            (0, _) => (Tone::Strong, "no manager here records files that can be compared".to_owned()),
            (_, 0) => (Tone::Strong, "every file matches its manager's record".to_owned()),
            (_, count) => (Tone::Warning, format!("{} not as recorded", output::count(count, "file"))),
        };
        let says = if self.is_stopped { format!("stopped early: {says}") } else { says };
        let mut page: Vec<Piece> = vec![Line::of(tone, says).and(Tone::Plain, format!("; {of}")).into()];
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
