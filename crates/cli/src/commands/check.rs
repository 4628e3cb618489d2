//! `whodunit check`.

use std::ffi::OsString;
use std::io::Write as _;

use clap::{Args, ValueEnum};
use whodunit_core::checks::catalogue::explain;
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
/// Examines commands, modules, libraries, launchers, files, environments and search paths in every context. Findings
/// with one cause are one entry, with the first thing to type. NAME is a command, a package, a title, a path or a
/// file name: everything about it is shown in full, notes too. With -v, every finding is shown in full.
/// Accepted findings (see the configuration file) are counted but not listed.
///
/// Exits with status 1 if there is a finding at or above --level, so that scheduled jobs can react.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit check
  whodunit check tidegauge
  whodunit check --level note
  whodunit check --kind shadowed-command,masked-module
  whodunit check --root /mnt --format json")]
pub struct Arguments {
    /// Report only what concerns these, with everything that is known of it
    name: Vec<OsString>,

    /// Minimum severity to report [default: warning; note where a NAME is given]
    #[arg(long, value_name = "LEVEL")]
    level: Option<Level>,

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
    let resolved = session.all_contexts();
    let asking = CheckContext::new(&survey, session.views(), &resolved);
    let names = super::bytes_of(&arguments.name);
    let level = arguments.level.unwrap_or(if names.is_empty() { Level::Warning } else { Level::Note });
    let is_in_full = global.verbose > 0 || !names.is_empty();
    let wanted = FindingFilter { level: Some(level.severity()), kinds: arguments.kind.clone(), names };
    let mut answer = check(&asking, &session.config.for_check(), &wanted);
    answer.is_in_full = is_in_full;
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
        let first = verdict(self);
        let mut page: Vec<Piece> = vec![first.clone().into()];
        page.extend(families(self).map(Piece::from));
        if !self.groups.is_empty() {
            page.push(Line::blank().into());
        }
        for group in &self.groups {
            if !self.is_in_full {
                page.extend(findings::of_group(group, &self.findings, presenter));
                continue;
            }
            for at in &group.findings {
                page.extend(findings::in_full(&self.findings[*at], presenter));
                page.push(Line::blank().into());
            }
        }
        // Of a long list, the end is what a user sees last.
        if self.groups.len() > 1 {
            if !self.is_in_full {
                page.push(Line::blank().into());
            }
            let more = if self.is_in_full { "" } else { "; check NAME, or -v, shows everything" };
            page.push(first.and(Tone::Faint, format!(" (explain KIND explains a kind{more})")).into());
        }
        page
    }
}

/// How bad it is.
fn verdict(check: &Check) -> Line {
    let counts = &check.counts;
    let (error, warning) = (counts.error, counts.warning);
    let mut line = match error + warning {
        0 if check.names.is_empty() => Line::of(Tone::Strong, "nothing is wrong here"),
        0 => Line::of(Tone::Strong, format!("nothing is wrong with {}", output::names(&check.names))),
        _ => Line::of(Tone::Warning, findings::counted(error, warning, 0)),
    };
    let serious = check.groups.iter().filter(|group| group.severity > Severity::Note).count();
    if serious > 0 && serious < error + warning {
        line = line.and(Tone::Plain, format!(" of {}", output::count(serious, "cause")));
    }
    let open = check.findings.iter().filter(|finding| finding.accepted.is_none());
    let hidden_notes = counts.note - open.filter(|finding| finding.severity == Severity::Note).count();
    if counts.note > 0 {
        let how = if hidden_notes > 0 { " (--level note shows them)" } else { "" };
        line = line.and(Tone::Plain, format!("; {}{how}", output::count(counts.note, "note")));
    }
    if counts.accepted > 0 {
        line = line.and(Tone::Plain, format!("; {} accepted", counts.accepted));
    }
    line
}

/// How many causes there are in each family, where there are several families.
fn families(check: &Check) -> Option<Line> {
    let mut counts: Vec<(&str, usize)> = Vec::new();
    for group in &check.groups {
        let word = explain(check.findings[*group.findings.first()?].kind)?.family.word();
        match counts.iter_mut().find(|(known, _)| *known == word) {
            Some((_, count)) => *count += 1,
            None => counts.push((word, 1)),
        }
    }
    counts.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    let told: Vec<String> = counts.iter().map(|(word, count)| format!("{word} {count}")).collect();
    (told.len() > 1).then(|| Line::of(Tone::Faint, told.join(", ")))
}
