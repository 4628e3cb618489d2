//! The page itself, from its template.

use askama::Template;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use sha2::{Digest as _, Sha256};
use whodunit_core::checks::Check;
use whodunit_core::host::System;
use whodunit_core::model::{Finding, Group, Severity};

use super::figures::Figure;
use super::table::Table;
use crate::output;
use crate::process;
use crate::session::Session;

const STYLE: &str = include_str!("../../../templates/report.css");
const SCRIPT: &str = include_str!("../../../templates/report.js");

/// Causes that are shown at the top.
const MAX_FIRST: usize = 5;
/// Evidence that is shown of one finding.
const MAX_EVIDENCE: usize = 12;

/// A cause, as one of the first things to do.
#[derive(Debug)]
struct First {
    subject: String,
    summary: String,
    command: String,
}

/// A finding.
#[derive(Debug)]
struct Told {
    kind: String,
    summary: String,
    consequence: String,
    remedies: Vec<(String, String)>,
    evidence: Vec<(String, String)>,
}

/// Findings with one cause.
#[derive(Debug)]
struct Together {
    severity: &'static str,
    subject: String,
    summary: String,
    findings: Vec<Told>,
}

/// The page.
#[derive(Debug, Template)]
#[template(path = "report.html")]
pub struct Report {
    machine: String,
    system: String,
    written_at: String,
    users: String,
    parts: Vec<(&'static str, &'static str)>,
    verdict: (&'static str, String),
    first: Vec<First>,
    more_groups: usize,
    machine_table: [Table; 1],
    figures: Vec<Figure>,
    groups: Vec<Together>,
    tables: Vec<Table>,
    style: &'static str,
    style_digest: String,
    script: &'static str,
    script_digest: String,
    program_version: &'static str,
}

impl Report {
    /// The page of a machine.
    pub fn new(
        session: &Session,
        check: &Check,
        machine_table: [Table; 1],
        figures: Vec<Figure>,
        tables: Vec<Table>,
    ) -> Self {
        let host = &session.host;
        let serious: Vec<&Group> = check.groups.iter().filter(|group| group.severity > Severity::Note).collect();
        let first = serious.iter().take(MAX_FIRST).map(|group| First {
            subject: group.subject.to_string(),
            summary: behind(group),
            command: group.first_remedy.as_ref().map(|remedy| output::safe(&remedy.command)).unwrap_or_default(),
        });
        let users: Vec<_> = session.viewers().into_iter().map(|user| user.name).collect();
        Report {
            machine: host.hostname().map_or_else(|| "this machine".to_owned(), |name| name.to_string()),
            system: host.system().and_then(System::to_data).unwrap_or_default(),
            written_at: process::now().map(output::time).unwrap_or_default(),
            users: output::names(&users),
            parts: vec![
                ("verdict", "Verdict"),
                ("machine", "Machine"),
                ("figures", "Figures"),
                ("findings", "Findings"),
                ("inventory", "Inventory"),
                ("launchers", "Launchers"),
                ("paths", "Search paths"),
                ("unowned", "Unowned"),
                ("sources", "Sources"),
                ("coverage", "What was read"),
            ],
            verdict: verdict(check, serious.len()),
            more_groups: serious.len().saturating_sub(MAX_FIRST),
            first: first.collect(),
            machine_table,
            figures,
            groups: check.groups.iter().map(|group| together(group, &check.findings)).collect(),
            tables,
            style: STYLE,
            style_digest: digest(STYLE),
            script: SCRIPT,
            script_digest: digest(SCRIPT),
            program_version: env!("CARGO_PKG_VERSION"),
        }
    }

    /// The page as text.
    pub fn written(&self) -> String {
        // The template is checked when the program is built, and writing into a text does not fail.
        self.render().unwrap_or_default()
    }
}

/// The verdict, and how it is shown.
fn verdict(check: &Check, causes: usize) -> (&'static str, String) {
    let counts = &check.counts;
    let notes = output::count(counts.note, "note");
    match (counts.error, counts.warning) {
        (0, 0) => ("fine", format!("Nothing is wrong here; {notes}")),
        (error, warning) => {
            let class = if error > 0 { "error" } else { "warning" };
            let found = crate::output::findings::counted(error, warning, 0);
            (class, format!("{found} of {}; {notes}", output::count(causes, "cause")))
        }
    }
}

fn together(group: &Group, findings: &[Finding]) -> Together {
    Together {
        severity: group.severity.word(),
        subject: group.subject.to_string(),
        summary: behind(group),
        findings: group.findings.iter().map(|at| told(&findings[*at])).collect(),
    }
}

/// The summary of a group, as it is read behind its subject.
fn behind(group: &Group) -> String {
    let (subject, summary) = (group.subject.to_string(), output::safe(&group.summary));
    match summary.strip_prefix(&subject).filter(|rest| rest.starts_with(' ')) {
        Some(rest) => rest.trim_start().to_owned(),
        None => summary,
    }
}

fn told(finding: &Finding) -> Told {
    let remedy = |remedy: &whodunit_core::model::Remedy| (output::safe(&remedy.purpose), output::safe(&remedy.command));
    let place = |evidence: &whodunit_core::model::Evidence| (output::place(evidence), output::safe(&evidence.says));
    Told {
        kind: finding.kind.to_string(),
        summary: output::safe(&finding.summary),
        consequence: output::safe(&finding.consequence),
        remedies: finding.remedies.iter().map(remedy).collect(),
        evidence: finding.evidence.iter().take(MAX_EVIDENCE).map(place).collect(),
    }
}

/// What a Content-Security-Policy allows a text by.
fn digest(text: &str) -> String {
    STANDARD.encode(Sha256::digest(text))
}
