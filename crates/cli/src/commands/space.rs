//! `whodunit space`.

use std::ffi::OsString;
use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use clap::Args;
use indicatif::{ProgressBar, ProgressState};
use whodunit_core::checks::leftovers::{Leftover, SpaceAnswer, kept_in_vain};
use whodunit_core::queries::CheckContext;
use whodunit_core::queries::space::{Counted, Part, Progress, TitleSpace, space};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone, left, progress};
use crate::session::{Outcome, Session};

/// Show what installed software costs on disk
///
/// Adds up what the files of each package take on the disk, every file once: hard links and runtimes that several
/// packages share are not counted twice, nor is what several files have in the same places of a disk with copy-on-write;
/// holes in files are not counted. FREED is what removing the software would free, together with what only it needs and
/// without what a cache or anything else still has; it is 0 where other packages need it, and blank where that is not known.
/// Where files are not known one by one, the size that the manager recorded is shown, marked `recorded`. What managers
/// keep although nothing uses it, and what they keep of what they fetched, is listed below, with the commands for it.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit space                            the most expensive titles, what is kept in vain, caches
  whodunit space --top 50
  whodunit space chartdesk --format json")]
pub struct Arguments {
    /// Packages, by name, by id, or by what they own (see `whodunit owner --help`)
    name: Vec<OsString>,

    /// Show this many titles
    #[arg(long, value_name = "N", default_value_t = 20)]
    top: usize,
}

/// Files and bytes so far, on standard error where that is a terminal; how many there are is not known before.
struct Tally {
    bar: ProgressBar,
    files: Arc<AtomicUsize>,
}

impl Tally {
    fn new(is_hidden: bool) -> Self {
        let files = Arc::new(AtomicUsize::new(0));
        let seen = Arc::clone(&files);
        // Put together when it is drawn: whatever is drawn is what has been counted by then.
        let counted = move |state: &ProgressState, line: &mut dyn fmt::Write| {
            let files = output::count(seen.load(Ordering::Relaxed), "file");
            let _ = write!(line, "{files}, {}", output::size(state.pos()));
        };
        let bar = progress::bar(is_hidden, None, "{spinner} {counted}");
        bar.set_style(bar.style().with_key("counted", counted));
        Tally { bar, files }
    }
}

impl Progress for Tally {
    fn expect(&self, _: usize, _: u64) {}

    fn done(&self, bytes: u64) {
        self.files.fetch_add(1, Ordering::Relaxed);
        self.bar.inc(bytes);
    }

    fn is_stopped(&self) -> bool {
        false
    }
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let (packages, unknown) = super::packages_of(&survey, &session, &arguments.name);
    let all = arguments.name.is_empty();
    let tally = Tally::new(global.quiet);
    let answer = space(&survey, (!all).then_some(&packages), &tally);
    tally.bar.finish_and_clear();
    let unneeded = match all {
        true => kept_in_vain(&CheckContext::new(&survey, session.views(), &[])),
        false => Vec::new(),
    };
    let shown = Listed {
        answer: SpaceAnswer { space: answer, unneeded },
        top: if all { arguments.top } else { usize::MAX },
        all,
    };
    let outcome = output::show(&shown, &survey, &session, global, streams, unknown.is_empty())?;
    super::tell_unknown(&unknown, global, streams);
    Ok(outcome)
}

/// The answer, and how much of it is told.
#[derive(Clone, serde::Serialize)]
struct Listed {
    #[serde(flatten)]
    answer: SpaceAnswer,
    #[serde(skip)]
    top: usize,
    #[serde(skip)]
    all: bool,
}

/// The width of the longest bar.
const BAR: u64 = 12;

impl Shown for Listed {
    type Item = TitleSpace;
    const COMMAND: &'static str = "space";

    fn items(&self) -> &[TitleSpace] {
        &self.answer.space.titles
    }

    fn grid(&self) -> Grid {
        let row = |one: &TitleSpace| {
            vec![
                Cell::toned(Tone::Strong, one.title.to_string()),
                Cell::bytes(one.cost.own),
                Cell::bytes(one.cost.shared),
                Cell::bytes(one.cost.reclaimable),
                Cell::plain(one.cost.counted.word()),
                Cell::plain(output::names(&one.cost.packages)),
            ]
        };
        let columns = vec![
            Column::words("title", "TITLE"),
            Column::numbers("own", "OWN"),
            Column::numbers("shared", "SHARED"),
            Column::numbers("reclaimable", "FREED"),
            Column::words("counted", "COUNTED"),
            Column::words("packages", "PACKAGES"),
        ];
        Grid { columns, rows: self.answer.space.titles.iter().map(row).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let totals = &self.answer.space.totals;
        let mut first = format!(
            "{} in {}",
            output::size(totals.measured.saturating_add(totals.recorded)),
            output::count(totals.packages, "package")
        );
        if totals.recorded > 0 {
            first.push_str(&format!(", {} of it as recorded", output::size(totals.recorded)));
        }
        if totals.unknown > 0 {
            first.push_str(&format!("; the size of {} is unknown", output::count(totals.unknown, "package")));
        }
        if self.all && totals.caches > 0 {
            first.push_str(&format!("; {} in caches", output::size(totals.caches)));
        }
        let in_vain: u64 = self.answer.unneeded.iter().filter_map(|one| one.bytes).sum();
        if in_vain > 0 {
            first.push_str(&format!("; {} kept in vain", output::size(in_vain)));
        }
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into(), Line::blank().into()];
        page.push(Piece::Table(titles(&self.answer.space.titles, self.top, presenter)));
        if let Some(more) = self.answer.space.titles.len().checked_sub(self.top).filter(|more| *more > 0) {
            let says = format!("and {} (--top {} shows more)", output::count(more, "more title"), self.top * 2);
            page.push(Line::blank().to(2).and(Tone::Faint, says).into());
        }
        let in_vain: Vec<&Leftover> = self.answer.unneeded.iter().collect();
        page.extend(left::part("Kept in vain", &in_vain, presenter));
        page.extend(left::caches(&self.answer.space.caches, presenter));
        page
    }
}

/// One row for each installation of a title.
fn titles(all: &[TitleSpace], top: usize, presenter: &Presenter) -> Grid {
    let shown = || all.iter().take(top).flat_map(|one| one.installations.iter().map(move |part| (one, part)));
    let most = shown().map(|(_, part)| part.cost.total()).max().unwrap_or(0).max(1);
    let row = |(one, part): (&TitleSpace, &Part)| {
        let cost = &part.cost;
        let size = |bytes: Option<u64>| Cell::plain(bytes.map(output::size).unwrap_or_default());
        let length = usize::try_from(cost.total().saturating_mul(BAR) / most).unwrap_or(0);
        let shared = cost.shared.filter(|shared| *shared > 0);
        vec![
            size(cost.own),
            size(shared),
            size(cost.reclaimable),
            Cell::toned(Tone::Accent, "█".repeat(length)),
            Cell::toned(Tone::Strong, one.title.to_string()),
            Cell::plain(presenter.installation(part.manager, &part.scope)),
            Cell::toned(
                Tone::Faint,
                if cost.counted == Counted::Recorded && cost.own.is_some() { "recorded" } else { "" },
            ),
        ]
    };
    let columns = vec![
        Column::numbers("own", "OWN"),
        Column::numbers("shared", "SHARED"),
        Column::numbers("reclaimable", "FREED"),
        Column::words("bar", ""),
        Column::words("title", "TITLE"),
        Column::words("installation", "INSTALLATION"),
        Column::words("counted", ""),
    ];
    Grid { columns, rows: shown().map(row).collect() }
}
