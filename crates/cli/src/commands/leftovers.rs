//! `whodunit leftovers`.

use clap::Args;
use whodunit_core::checks::CheckContext;
use whodunit_core::checks::leftovers::{Leftover, Leftovers, leftovers};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone, left};
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
    let resolved = session.all_contexts();
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
            page.extend(left::part(title, &listed, presenter));
        }
        page.extend(left::caches(&self.caches, presenter));
        page
    }
}
