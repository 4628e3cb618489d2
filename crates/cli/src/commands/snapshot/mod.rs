//! `whodunit snapshot`.

pub mod store;

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt as _;

use clap::{Args, Subcommand};
use serde::Serialize;
use whodunit_core::checks::{FindingFilter, check, recorded};
use whodunit_core::history::{KeptSnapshot, KeptSnapshots, Snapshot};
use whodunit_core::model::Severity;
use whodunit_core::queries::CheckContext;
use whodunit_core::queries::snapshot::{add_newest, take};
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::process;
use crate::session::{Outcome, Session};
use store::Kept;

/// Keep the state of the machine, to compare with later
///
/// A snapshot holds packages, the program that each name starts in every context, search paths, launchers, unowned
/// programs, sources, services, accounts, and digests of settings and start-up files. It is kept below
/// $XDG_STATE_HOME/whodunit/snapshots (~/.local/state/whodunit/snapshots), readable only by you, as JSON compressed
/// with zstd. Nothing is ever overwritten.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit snapshot save before
  whodunit snapshot save /mnt/backup/lantern.json.zst
  whodunit snapshot list
  whodunit compare before                   what has changed since?
  whodunit snapshot drop before")]
pub struct Arguments {
    #[command(subcommand)]
    /// What to do.
    action: Action,
}

/// What to do.
#[derive(Debug, Subcommand)]
enum Action {
    /// Take a snapshot and keep it
    Save {
        /// A name for it, or the path of a file (with a slash); the time, if none is given
        name: Option<OsString>,
        /// Keep what check finds, too, and which packages have a newer version: takes as long as check and upkeep
        #[arg(long)]
        full: bool,
    },
    /// List the snapshots that are kept
    List,
    /// Delete snapshots
    Drop {
        /// Names, or paths of files
        #[arg(required = true)]
        name: Vec<OsString>,
    },
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    match &arguments.action {
        Action::Save { name, full } => save(name.as_ref(), *full, global, streams),
        Action::List => list(global, streams),
        Action::Drop { name } => {
            for name in name {
                let file = store::file_of(name)?;
                process::remove_file(&file).map_err(|cause| match cause.kind() {
                    std::io::ErrorKind::NotFound => CliError::NoSnapshot { name: name.as_bytes().into() },
                    _ => CliError::Snapshot { file, cause: cause.to_string() },
                })?;
            }
            Ok(Outcome { found: true, ..Outcome::default() })
        }
    }
}

/// Takes a snapshot of the machine that the options name, seen by all its users in every context.
pub fn of_machine(global: &Global) -> Result<Snapshot, CliError> {
    taken(global, false)
}

/// Takes a snapshot; a full one has the findings and the newest versions, too.
fn taken(global: &Global, is_full: bool) -> Result<Snapshot, CliError> {
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    let resolved = session.all_contexts();
    let asking = CheckContext::new(&survey, session.views(), &resolved);
    // A mounted disk has no clock of its own: that of this machine says when it was looked at.
    let now = session.now().or_else(process::now);
    let mut taken = take(&asking, now);
    if is_full {
        add_newest(&mut taken, &survey, now);
        let every = FindingFilter { level: Some(Severity::Note), ..FindingFilter::default() };
        taken.findings = Some(recorded(&check(&asking, &session.config.for_check(), &every)));
    }
    Ok(taken)
}

/// The answer, and whether it is about what was saved just now.
#[derive(Clone, Serialize)]
struct Rows {
    #[serde(flatten)]
    answer: KeptSnapshots,
    #[serde(skip)]
    is_new: bool,
}

impl Rows {
    fn new(snapshots: Vec<KeptSnapshot>, is_new: bool) -> Self {
        Rows { answer: KeptSnapshots { snapshots }, is_new }
    }
}

fn save(name: Option<&OsString>, is_full: bool, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    // A name that cannot be used is told before the work is done.
    let named = name.map(|name| store::file_of(name)).transpose()?;
    let snapshot = taken(global, is_full)?;
    let usual = snapshot.taken_at.clone().unwrap_or_default().replace(':', "-");
    let word = name.cloned().unwrap_or_else(|| usual.into());
    let file = named.map_or_else(|| store::file_of(&word), Ok)?;
    let bytes = snapshot.write()?;
    let written = super::write_file(OsStr::from_bytes(&file), &bytes);
    written.map_err(|error| error.with_hint("choose another name, or drop it first"))?;
    let size = u64::try_from(bytes.len()).unwrap_or(u64::MAX);
    let row = KeptSnapshot::of(word.as_bytes().into(), file, size, &Ok(snapshot));
    shown(&Rows::new(vec![row], true), global, streams)
}

fn list(global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let row = |one: Kept| KeptSnapshot::of(one.name, one.file, one.bytes, &one.snapshot);
    shown(&Rows::new(store::kept()?.into_iter().map(row).collect(), false), global, streams)
}

fn shown(answer: &Rows, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let session = Session::new(global)?;
    output::show(answer, &Survey::of(&session.host), &session, global, streams, true)
}

impl Shown for Rows {
    type Item = KeptSnapshot;
    const COMMAND: &'static str = "snapshot";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[KeptSnapshot] {
        &self.answer.snapshots
    }

    fn grid(&self) -> Grid {
        let row = |one: &KeptSnapshot| {
            let (tone, says) = match (&one.problem, one.packages) {
                (Some(problem), _) => (Tone::Warning, problem.clone()),
                (None, count) => (Tone::Plain, count.map(|count| count.to_string()).unwrap_or_default()),
            };
            vec![
                Cell::toned(Tone::Strong, one.name.to_string()),
                Cell::plain(one.taken_at.clone().unwrap_or_default()),
                Cell::plain(one.host.clone().unwrap_or_default()),
                Cell::toned(tone, says),
                Cell::bytes(Some(one.bytes)),
                Cell::plain(one.file.to_string()),
            ]
        };
        let columns = vec![
            Column::words("name", "NAME"),
            Column::words("taken_at", "TAKEN"),
            Column::words("host", "MACHINE"),
            Column::words("packages", "PACKAGES"),
            Column::numbers("bytes", "SIZE"),
            Column::words("file", "FILE"),
        ];
        Grid { columns, rows: self.answer.snapshots.iter().map(row).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        if let ([one], true) = (self.answer.snapshots.as_slice(), self.is_new) {
            let what = format!(
                "saved {}: {}, {}",
                one.name,
                output::count(one.packages.unwrap_or(0), "package"),
                output::size(one.bytes)
            );
            let place = format!("  {}", presenter.path(&one.file));
            return vec![Line::of(Tone::Strong, what).into(), Piece::Whole(Line::of(Tone::Faint, place))];
        }
        let first = match self.answer.snapshots.len() {
            0 => "no snapshot is kept (whodunit snapshot save takes one)".to_owned(),
            count => output::count(count, "snapshot"),
        };
        let mut page = vec![Line::of(Tone::Strong, first).into()];
        if !self.answer.snapshots.is_empty() {
            page.push(Line::blank().into());
            let mut grid = self.grid();
            // On a terminal the directory is the same for all.
            grid.columns.pop();
            grid.rows.iter_mut().for_each(|row| {
                row.pop();
            });
            page.push(Piece::Table(grid));
        }
        page
    }
}
