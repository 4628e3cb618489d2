//! How findings are shown, whichever command found them.

use serde::Serialize;
use whodunit_core::bytes::ByteString;
use whodunit_core::model::{Finding, Group, Remedy, Severity};

use super::{Cell, Column, Grid, Line, Piece, Presenter, Shown, Tone};

/// Where the text of a finding begins.
const COLUMN: usize = 10;
/// Where the command of a remedy begins at the least.
const COMMANDS: usize = COLUMN + 18;
/// Pieces of evidence that a user is shown of one finding.
const MAX_EVIDENCE: usize = 3;

/// An answer that is a list of findings and no more.
pub trait OfFindings: Serialize + Clone {
    /// The command that it answers.
    const COMMAND: &'static str;
    /// The findings.
    fn list(&self) -> &[Finding];
    /// The findings for a user at a terminal; the first line is the verdict.
    fn page(&self, presenter: &Presenter) -> Vec<Piece>;
}

impl<A: OfFindings> Shown for A {
    type Item = Finding;
    const COMMAND: &'static str = A::COMMAND;

    fn findings(&self) -> Option<&[Finding]> {
        Some(self.list())
    }

    fn items(&self) -> &[Finding] {
        self.list()
    }

    fn grid(&self) -> Grid {
        grid(self.list())
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        A::page(self, presenter)
    }
}

/// Findings as rows.
fn grid(findings: &[Finding]) -> Grid {
    let texts = |texts: &[ByteString]| texts.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
    let row = |finding: &Finding| {
        let remedies: Vec<&str> = finding.remedies.iter().map(|remedy| remedy.command.as_str()).collect();
        vec![
            Cell::plain(finding.severity.word()),
            Cell::plain(finding.kind.to_string()),
            Cell::plain(finding.subject.to_string()),
            Cell::plain(super::safe(&finding.summary)),
            Cell::plain(finding.consequence.clone()),
            Cell::plain(texts(&finding.packages)),
            Cell::plain(texts(&finding.paths)),
            Cell::plain(texts(&finding.users)),
            Cell::plain(remedies.join("; ")),
            Cell::plain(finding.accepted.clone().unwrap_or_default()),
        ]
    };
    let names =
        ["severity", "kind", "subject", "summary", "consequence", "packages", "paths", "users", "remedies", "accepted"];
    let columns = names.into_iter().map(|name| Column::titled(name, name.to_uppercase())).collect();
    Grid { columns, rows: findings.iter().map(row).collect() }
}

/// Findings for a user, one below the other, each after a blank line.
pub fn each_in_full(findings: &[Finding], presenter: &Presenter) -> Vec<Piece> {
    let each = |finding| std::iter::once(Line::blank().into()).chain(in_full(finding, presenter));
    findings.iter().flat_map(each).collect()
}

/// How bad it is, and what it is about.
fn head(severity: Severity, subject: &ByteString, presenter: &Presenter) -> Line {
    let tone = if severity > Severity::Note { Tone::Warning } else { Tone::Faint };
    let subject = if subject.starts_with(b"/") { presenter.path(subject) } else { subject.to_string() };
    Line::of(tone, severity.word()).to(COLUMN).and(Tone::Strong, subject)
}

/// What to type, behind what it is for.
fn advice(remedy: &Remedy, tone: Tone) -> Piece {
    let label = Line::blank().to(COLUMN).and(Tone::Faint, format!("to {}", remedy.purpose)).to(COMMANDS);
    Piece::Whole(label.and(tone, super::safe(&remedy.command)))
}

/// One finding for a user: what it is about, what is so, what follows, what to type, and where it stands.
pub fn in_full(finding: &Finding, presenter: &Presenter) -> Vec<Piece> {
    let whose = presenter.whose(&finding.users).map(|whose| format!("   {whose}")).unwrap_or_default();
    let head = head(finding.severity, &finding.subject, presenter);
    let head = head.and(Tone::Accent, format!("   {}", finding.kind)).and(Tone::Faint, whose);
    let text = |tone: Tone, text: String| Piece::Paragraph { column: COLUMN, label: Line::blank(), tone, text };
    let mut pieces = vec![head.into(), text(Tone::Plain, super::safe(&finding.summary))];
    pieces.push(text(Tone::Plain, format!("→ {}", super::safe(&finding.consequence))));
    for remedy in &finding.remedies {
        pieces.push(advice(remedy, Tone::Plain));
        pieces.extend(remarks(remedy).into_iter().map(|says| text(Tone::Faint, format!("  {says}"))));
    }
    if let Some(reason) = &finding.accepted {
        pieces.push(text(Tone::Faint, format!("accepted: {}", super::safe(reason))));
    }
    for evidence in finding.evidence.iter().take(MAX_EVIDENCE) {
        let says = format!(
            "{}, {}: {}",
            presenter.path(&evidence.file),
            evidence.at,
            ByteString::from(evidence.says.as_str())
        );
        pieces.push(Piece::Paragraph { column: COLUMN, label: Line::blank(), tone: Tone::Faint, text: says });
    }
    pieces
}

/// A group in two lines: what is so, and the first thing to type, or what follows where there is nothing to type.
pub fn of_group(group: &Group, findings: &[Finding], presenter: &Presenter) -> Vec<Piece> {
    let mut summary = super::safe(&group.summary);
    if let Some(whose) = presenter.whose(&group.users).filter(|whose| !summary.contains(whose.as_str())) {
        summary = format!("{summary} ({whose})");
    }
    if group.findings.len() > 1 {
        summary = format!("{summary} [{}]", super::count(group.findings.len(), "finding"));
    }
    let head = head(group.severity, &group.subject, presenter).and(Tone::Plain, format!("   {summary}"));
    let below = match &group.first_remedy {
        Some(remedy) => advice(remedy, Tone::Accent),
        None => {
            let lead = group.findings.first().and_then(|at| findings.get(*at));
            Line::blank().to(COLUMN).and(Tone::Faint, format!("→ {}", lead.map_or("", |lead| &lead.consequence))).into()
        }
    };
    vec![head.into(), below]
}

/// What a user should know before typing a remedy.
pub fn remarks(remedy: &Remedy) -> Option<String> {
    let because = remedy.because.iter().map(|why| format!("because {why}"));
    let loses = (!remedy.loses.is_empty()).then(|| format!("loses {}", remedy.loses.join(", ")));
    let remarks: Vec<String> = because.chain(loses).collect();
    (!remarks.is_empty()).then(|| ByteString::from(remarks.join("; ")).to_string())
}

/// How many there are of each severity, in words: `1 error, 3 warnings`.
pub fn counted(error: usize, warning: usize, note: usize) -> String {
    let counts = [(error, "error"), (warning, "warning"), (note, "note")];
    let told = counts.into_iter().filter(|(count, _)| *count > 0).map(|(count, what)| super::count(count, what));
    told.collect::<Vec<_>>().join(", ")
}
