//! `whodunit check`.

use std::io::Write as _;

use clap::{Args, ValueEnum};
use whodunit_core::checks::{Check, CheckContext, FindingFilter, check};
use whodunit_core::model::{Finding, FindingKind, Severity};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{
    self, Line, Piece, Presenter, Streams, Tone,
    findings::{self, OfFindings},
};
use crate::session::Outcome;
use crate::session::Session;

/// Check the machine: what is wrong, what it means, and what to type
///
/// Examines commands, modules, libraries, launchers, files, environments and search paths in every context.
/// Accepted findings (see the configuration file) are counted but not listed. With -v, each finding shows its
/// evidence.
///
/// Exits with status 1 if there is a finding at or above --level, so that scheduled jobs can react.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit check
  whodunit check --level note
  whodunit check --kind shadowed-command,masked-module
  whodunit check --root /mnt --format json")]
pub struct Arguments {
    /// Minimum severity to report
    #[arg(long, value_name = "LEVEL", default_value = "warning")]
    level: Level,

    /// Report only these kinds of findings, separated by commas (`whodunit explain` lists them)
    #[arg(long, value_name = "KIND", value_delimiter = ',', value_parser = kind)]
    kind: Vec<FindingKind>,
}

/// `--level`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Level {
    /// Broken or unsafe now
    Error,
    /// Will surprise or break
    Warning,
    /// Worth knowing
    Note,
}

impl Level {
    /// The severity of that name.
    pub fn severity(self) -> Severity {
        match self {
            Level::Error => Severity::Error,
            Level::Warning => Severity::Warning,
            Level::Note => Severity::Note,
        }
    }
}

/// A kind of finding, by its name.
pub fn kind(name: &str) -> Result<FindingKind, String> {
    let found = FindingKind::ALL.iter().find(|kind| kind.to_string() == name).copied();
    found.ok_or_else(|| "no such kind of finding (whodunit explain lists them)".to_owned())
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    // The contents of files are compared by another command: that takes as long as reading them.
    let unasked = [FindingKind::AlteredFile, FindingKind::AlteredSettings];
    if let Some(kind) = arguments.kind.iter().find(|kind| unasked.contains(kind)) {
        return Err(CliError::usage(format!(
            "check does not read the contents of files: whodunit verify finds {kind}"
        )));
    }
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    let resolved = session.resolve_contexts(&session.users());
    let asking = CheckContext::new(&survey, session.views(), &resolved);
    let wanted =
        FindingFilter { level: Some(arguments.level.severity()), kinds: arguments.kind.clone(), names: Vec::new() };
    let mut answer = check(&asking, &session.config.for_check(), &wanted);
    answer.with_evidence = global.verbose > 0;
    let is_clean = answer.findings.iter().all(|finding| finding.accepted.is_some());
    let outcome = output::show(&answer, &survey, &session, global, streams, is_clean)?;
    for one in answer.idle.iter().filter(|_| global.verbose > 0) {
        let subject = one.subject.as_ref().map(|subject| format!(" of {subject}")).unwrap_or_default();
        let place = format!("{} {}", one.place.file, one.place.at);
        let _ = writeln!(streams.err, "whodunit: {place}: accepts {}{subject}, but there is no such finding", one.kind);
    }
    Ok(outcome)
}

impl OfFindings for Check {
    const COMMAND: &'static str = "check";

    fn list(&self) -> &[Finding] {
        &self.findings
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let counts = &self.counts;
        let (error, warning) = (counts.error, counts.warning);
        let mut first = match error + warning {
            0 => Line::of(Tone::Strong, "nothing is wrong here"),
            _ => Line::of(Tone::Warning, findings::counted(error, warning, 0)),
        };
        let open = self.findings.iter().filter(|finding| finding.accepted.is_none());
        let hidden_notes = counts.note - open.filter(|finding| finding.severity == Severity::Note).count();
        if counts.note > 0 {
            let how = if hidden_notes > 0 { " (--level note shows them)" } else { "" };
            first = first.and(Tone::Plain, format!("; {}{how}", output::count(counts.note, "note")));
        }
        if counts.accepted > 0 {
            first = first.and(Tone::Plain, format!("; {} accepted", counts.accepted));
        }
        let mut page: Vec<Piece> = vec![first.clone().into()];
        // What is accepted is counted; the other formats have it in full.
        for finding in self.findings.iter().filter(|finding| finding.accepted.is_none()) {
            page.push(Line::blank().into());
            page.extend(match self.with_evidence {
                true => findings::in_full(finding, presenter),
                false => findings::in_short(finding, presenter),
            });
        }
        // Of a long list, the end is what a user sees last.
        if self.findings.len() > 1 {
            page.push(Line::blank().into());
            let more = if self.with_evidence { "" } else { ", -v shows the evidence" };
            let text = format!("whodunit explain KIND explains a kind{more}");
            page.push(first.and(Tone::Faint, format!(" ({text})")).into());
        }
        page
    }
}
