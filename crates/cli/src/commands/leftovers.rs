//! `whodunit leftovers`.

use clap::Args;
use whodunit_core::bytes::ByteString;
use whodunit_core::checks::CheckContext;
use whodunit_core::checks::leftovers::{Leftover, Leftovers, leftovers};
use whodunit_core::survey::Survey;

use super::space::caches;
use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone, findings};
use crate::session::{Outcome, Session};

/// List what is no longer needed or no longer installed but still there
///
/// Lists settings and data of removed software, dependencies and runtimes that nothing needs, disabled revisions, old
/// generations, unreferenced store paths, links and launchers that lead to nothing, and services, cron jobs, default
/// applications and start-up lines that name what is gone, each with its size and the command that removes it. What a record says is certain; a directory in a home that only has the name of software
/// that a log says was removed is listed as probable. Caches are listed last.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit leftovers
  whodunit leftovers --all-users
  whodunit leftovers --format json")]
pub struct Arguments {}

/// Answers.
pub fn run(_: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    let resolved = session.resolve_contexts(&session.users());
    let answer = leftovers(&CheckContext::new(&survey, session.views(), &resolved));
    output::show(&answer, &survey, &session, global, streams, true)
}

impl Shown for Leftovers {
    type Item = Leftover;
    const COMMAND: &'static str = "leftovers";
    const SEARCHES: bool = true;

    fn items(&self) -> &[Leftover] {
        &self.findings
    }

    fn grid(&self) -> Grid {
        let row = |one: &Leftover| {
            let finding = &one.finding;
            let remedies: Vec<&str> = finding.remedies.iter().map(|remedy| remedy.command.as_str()).collect();
            vec![
                Cell::plain(finding.kind.to_string()),
                Cell::toned(Tone::Strong, finding.subject.to_string()),
                Cell::bytes(one.bytes),
                Cell::plain(if one.certain { "certain" } else { "probable" }),
                Cell::plain(output::safe(&finding.summary)),
                Cell::plain(output::names(&finding.packages)),
                Cell::plain(output::names(&finding.paths)),
                Cell::plain(one.left_by.as_ref().map(ToString::to_string).unwrap_or_default()),
                Cell::plain(remedies.join("; ")),
            ]
        };
        let columns = vec![
            Column::words("kind", "KIND"),
            Column::words("subject", "SUBJECT"),
            Column::numbers("bytes", "SIZE"),
            Column::words("certain", "CERTAIN"),
            Column::words("summary", "SUMMARY"),
            Column::words("packages", "PACKAGES"),
            Column::words("paths", "PATHS"),
            Column::words("left_by", "LEFT BY"),
            Column::words("remedies", "REMEDIES"),
        ];
        Grid { columns, rows: self.findings.iter().map(row).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let size: u64 = self.findings.iter().filter_map(|one| one.bytes).sum();
        let cached: u64 = self.caches.iter().filter_map(|cache| cache.bytes).sum();
        let mut first = match self.findings.len() {
            0 => "nothing is left of removed software, and nothing is kept in vain".to_owned(),
            count => format!("{}, {}", output::count(count, "leftover"), output::size(size)),
        };
        if cached > 0 {
            first.push_str(&format!("; {} in caches", output::size(cached)));
        }
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        for (certain, title) in [(true, "Certain"), (false, "Probable, look into it first")] {
            let listed: Vec<&Leftover> = self.findings.iter().filter(|one| one.certain == certain).collect();
            page.extend(part(title, &listed, presenter));
        }
        page.extend(caches(&self.caches, presenter));
        page
    }
}

/// Leftovers below a heading, where there are any.
pub fn part(title: &str, listed: &[&Leftover], presenter: &Presenter) -> Vec<Piece> {
    if listed.is_empty() {
        return Vec::new();
    }
    let head: [Piece; 2] = [Line::blank().into(), Line::of(Tone::Strong, title).into()];
    head.into_iter().chain(listed.chunk_by(is_together).flat_map(|some| in_full(some, presenter))).collect()
}

/// Whether one command removes both.
fn is_together(a: &&Leftover, b: &&Leftover) -> bool {
    let command = |one: &Leftover| one.finding.remedies.first().map(|remedy| remedy.command.clone());
    a.finding.kind == b.finding.kind && command(a).is_some() && command(a) == command(b)
}

/// What one command removes: its size, what it is, and what to type.
fn in_full(together: &[&Leftover], presenter: &Presenter) -> Vec<Piece> {
    let one = together[0];
    let bytes: Option<u64> = together.iter().map(|one| one.bytes).sum();
    let size = bytes.map(output::size).unwrap_or_default();
    let label = Line::blank().to(2).and(Tone::Plain, format!("{size:>9}"));
    let whose = presenter.whose(&one.finding.users).map(|whose| format!(" ({whose})")).unwrap_or_default();
    let mut summary = output::safe(&one.finding.summary);
    if together.len() > 1 {
        let others: Vec<ByteString> = together[1..].iter().map(|one| one.finding.subject.clone()).collect();
        summary = format!("{summary}; likewise {}", output::names(&others));
    }
    let mut lines = vec![Piece::Paragraph { column: 13, label, tone: Tone::Plain, text: format!("{summary}{whose}") }];
    for remedy in one.finding.remedies.iter().take(1) {
        let command = output::safe(&remedy.command);
        lines.push(Piece::Whole(Line::blank().to(13).and(Tone::Accent, command)));
        lines.extend(findings::remarks(remedy).map(|says| Line::blank().to(13).and(Tone::Faint, says).into()));
    }
    lines
}
