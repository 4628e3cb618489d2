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
pub struct First {
    /// What it is about.
    pub subject: String,
    /// What is so.
    pub summary: String,
    /// What to type; empty for nothing.
    pub command: String,
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
    about: String,
    parts: Vec<(String, String)>,
    verdict: (&'static str, String),
    first: Vec<First>,
    more_groups: usize,
    machine_table: [Table; 1],
    figures: Vec<Figure>,
    /// The findings; none where nothing was looked for.
    groups: Option<Vec<Together>>,
    tables: Vec<Table>,
    style: &'static str,
    style_digest: String,
    script: &'static str,
    script_digest: String,
    program_version: &'static str,
}

/// What a page is about.
#[derive(Debug, Default)]
pub struct Head {
    /// The machine's name.
    pub machine: String,
    /// Its system.
    pub system: String,
    /// When it was as the page says.
    pub at: String,
    /// The users who were looked at.
    pub users: String,
}

impl Head {
    /// The machine as it is.
    pub fn of(session: &Session) -> Self {
        let host = &session.host;
        let users: Vec<_> = session.viewers().into_iter().map(|user| user.name).collect();
        Head {
            machine: host.hostname().map_or_else(|| "this machine".to_owned(), |name| name.to_string()),
            system: host.system().and_then(System::to_data).unwrap_or_default(),
            at: process::now().map(output::time).unwrap_or_default(),
            users: output::names(&users),
        }
    }
}

impl Report {
    /// A page with a verdict, and how that is shown; with what is wrong and what to do first, where that was looked for.
    pub fn new(
        head: Head,
        verdict: (&'static str, String),
        machine_table: Table,
        figures: Vec<Figure>,
        check: Option<&Check>,
        tables: Vec<Table>,
    ) -> Self {
        let users = if head.users.is_empty() { String::new() } else { format!("users: {}", head.users) };
        let about: Vec<String> = [head.system, head.at, users].into_iter().filter(|part| !part.is_empty()).collect();
        let part = |id: &str, title: &str| (id.to_owned(), title.to_owned());
        let mut parts = vec![part("verdict", "Verdict"), part(&machine_table.id, &machine_table.title)];
        parts.push(part("figures", "Figures"));
        parts.extend(check.map(|_| part("findings", "Findings")));
        parts.extend(tables.iter().map(|table| part(&table.id, &table.title)));
        let serious: Vec<&Group> = check.iter().flat_map(|check| serious(check)).collect();
        Report {
            machine: head.machine,
            about: about.join(" · "),
            parts,
            verdict,
            more_groups: serious.len().saturating_sub(MAX_FIRST),
            first: serious.into_iter().take(MAX_FIRST).map(first).collect(),
            machine_table: [machine_table],
            figures,
            groups: check.map(|check| check.groups.iter().map(|group| together(group, &check.findings)).collect()),
            tables,
            style: STYLE,
            style_digest: digest(STYLE),
            script: SCRIPT,
            script_digest: digest(SCRIPT),
            program_version: env!("CARGO_PKG_VERSION"),
        }
    }

    /// The page with other things to do first.
    #[must_use]
    pub fn with_first(self, first: Vec<First>) -> Self {
        Report { first, ..self }
    }

    /// The page as text.
    pub fn written(&self) -> String {
        // The template is checked when the program is built, and writing into a text does not fail.
        self.render().unwrap_or_default()
    }
}

/// The causes that are more than notes.
fn serious(check: &Check) -> impl Iterator<Item = &Group> {
    check.groups.iter().filter(|group| group.severity > Severity::Note)
}

fn first(group: &Group) -> First {
    First {
        subject: group.subject.to_string(),
        summary: behind(group),
        command: group.first_remedy.as_ref().map(|remedy| output::safe(&remedy.command)).unwrap_or_default(),
    }
}

/// The verdict, and how it is shown.
pub fn verdict(check: &Check) -> (&'static str, String) {
    let counts = &check.counts;
    let notes = output::count(counts.note, "note");
    match (counts.error, counts.warning) {
        (0, 0) => ("fine", format!("Nothing is wrong here; {notes}")),
        (error, warning) => {
            let class = if error > 0 { "error" } else { "warning" };
            let found = crate::output::findings::counted(error, warning, 0);
            (class, format!("{found} of {}; {notes}", output::count(serious(check).count(), "cause")))
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
