//! `whodunit compare`.

mod by_cause;

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt as _;

use clap::Args;
use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::{Kind, Root};
use whodunit_core::history::{Change, Compared, Difference, Snapshot, Subject, compare};
use whodunit_core::survey::Survey;

use super::snapshot::{of_machine, store};
use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Cell, Column, Grid, Line, Piece, Presenter, Shown, Streams, Tone};
use crate::process;
use crate::session::{Outcome, Session};

/// Show what differs between two states of a machine
///
/// A and B are each the name of a snapshot, a file with a slash in its path, a directory with a machine's tree, or now.
/// Without B, A is compared with now; without A, the last snapshot is. Only what both could see is compared: the homes of
/// users that one of them did not look at are left out. With --strict, the exit status is 1 if anything differs.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit compare                          since the last snapshot
  whodunit compare before                   since this one
  whodunit compare before now --strict      did the trial leave nothing?
  whodunit compare before --by-cause        which command did what?
  whodunit compare before /mnt/lantern      with a mounted disk")]
pub struct Arguments {
    /// The earlier state
    a: Option<OsString>,
    /// The later state [default: now]
    b: Option<OsString>,

    /// Group what differs under the transactions of managers that did it
    ///
    /// Reads the managers' logs on the machine of the later state.
    #[arg(long)]
    by_cause: bool,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let last = || {
        let kept = store::kept()?.into_iter().rfind(|one| one.snapshot.is_ok());
        let last = kept.ok_or_else(|| {
            CliError::usage("no snapshot is kept to compare with").with_hint("whodunit snapshot save takes one")
        })?;
        Ok::<OsString, CliError>(OsStr::from_bytes(&last.name).to_owned())
    };
    let a = arguments.a.clone().map_or_else(last, Ok)?;
    let b = arguments.b.clone().unwrap_or_else(|| store::NOW.into());
    let (before, after) = (state(&a, global)?, state(&b, global)?);
    let comparison = compare(&before, &after);
    let named = |word: &OsStr| ByteString::from(word.as_bytes());
    let mut losses = lost(&before, &after);
    let transactions = match arguments.by_cause {
        true => Some(by_cause::told(&b, (&before, &after), &comparison, &mut losses, global)?),
        false => None,
    };
    let answer = Compared { comparison, before: named(&a), after: named(&b), losses, transactions, is_wanted: false };
    show_compared(&answer, global, streams)
}

/// Shows what differs; with `--strict` a difference is told by the exit status.
pub fn show_compared(answer: &Compared, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let is_incomplete = !answer.losses.is_empty() || !answer.comparison.not_compared.is_empty();
    let is_same = answer.comparison.same;
    let session = Session::new(global)?;
    let survey = Survey::of(&session.host);
    let outcome = output::show(answer, &survey, &session, global, streams, is_same || !global.strict)?;
    // What differs is told by the status before what could not be read.
    Ok(Outcome { incomplete: is_same && (is_incomplete || outcome.incomplete), ..outcome })
}

/// The state that a word names.
pub(super) fn state(word: &OsStr, global: &Global) -> Result<Snapshot, CliError> {
    if word == store::NOW {
        return of_machine(global);
    }
    match tree(word) {
        Some(place) => of_machine(&Global { root: Some(OsStr::from_bytes(&place).into()), ..global.clone() }),
        None => store::read(word),
    }
}

/// The directory that a word names, if it is one with a machine's tree.
fn tree(word: &OsStr) -> Option<ByteString> {
    let place = path::absolute(word.as_bytes(), &process::process_env().dir);
    let is_dir = || Root::live().target(&place).is_ok_and(|meta| meta.kind == Kind::Dir);
    (word.as_bytes().contains(&b'/') && is_dir()).then_some(place)
}

/// What could not be read in one of the states and not in the other, and how much in both.
pub(super) fn lost(before: &Snapshot, after: &Snapshot) -> Vec<String> {
    let only = |one: &Snapshot, other: &Snapshot| {
        one.losses.iter().filter(|loss| !other.losses.contains(loss)).cloned().collect::<Vec<_>>()
    };
    let mut told = only(before, after);
    told.extend(only(after, before));
    let both = before.losses.iter().filter(|loss| after.losses.contains(loss)).count();
    if both > 0 {
        told.push(format!("{} could not be read in either state", output::count(both, "record")));
    }
    told
}

/// The heading of a kind of change, and one of it in a count.
pub(super) fn words(what: Subject) -> (&'static str, &'static str) {
    match what {
        Subject::Package => ("Packages", "package"),
        Subject::Winner => ("Programs that a name starts", "name"),
        Subject::Launcher => ("Launchers", "launcher"),
        Subject::Unowned => ("Unowned programs", "unowned program"),
        Subject::SearchPath => ("Search paths", "directory of a search path"),
        Subject::Source => ("Sources", "source"),
        Subject::State => ("Numbered states", "numbered state"),
        Subject::Service => ("Services and jobs", "service"),
        Subject::User => ("Accounts", "account"),
        Subject::File => ("Settings and start-up files", "file"),
    }
}

impl Shown for Compared {
    type Item = Change;
    const COMMAND: &'static str = "compare";
    const READS_MANAGERS: bool = false;

    fn items(&self) -> &[Change] {
        &self.comparison.changes
    }

    fn grid(&self) -> Grid {
        let row = |one: &Change| {
            let text = |text: &Option<String>| text.clone().unwrap_or_default();
            vec![
                Cell::plain(one.what.word()),
                Cell::plain(one.change.word()),
                Cell::toned(Tone::Strong, one.subject.clone()),
                Cell::plain(text(&one.of)),
                Cell::plain(text(&one.from)),
                Cell::plain(text(&one.to)),
                Cell::plain(one.contexts.join(", ")),
            ]
        };
        let columns = vec![
            Column::words("what", "WHAT"),
            Column::words("change", "CHANGE"),
            Column::words("subject", "SUBJECT"),
            Column::words("of", "OF"),
            Column::words("from", "FROM"),
            Column::words("to", "TO"),
            Column::words("contexts", "CONTEXTS"),
        ];
        Grid { columns, rows: self.comparison.changes.iter().map(row).collect() }
    }

    fn page(&self, presenter: &Presenter) -> Vec<Piece> {
        let changes = &self.comparison.changes;
        let mut kinds: Vec<Subject> = changes.iter().map(|one| one.what).collect();
        kinds.dedup();
        let counted = |kind: &Subject| {
            let subjects = changes.iter().filter(|one| one.what == *kind).map(|one| &one.subject);
            let count = subjects.collect::<std::collections::BTreeSet<_>>().len();
            match (kind, count) {
                (Subject::SearchPath, 2..) => format!("{count} directories of search paths"),
                _ => output::count(count, words(*kind).1),
            }
        };
        let first = match changes.len() {
            0 => format!("nothing differs between {} and {}", self.before, self.after),
            _ => format!(
                "from {} to {}: {}",
                self.before,
                self.after,
                kinds.iter().map(counted).collect::<Vec<_>>().join(", ")
            ),
        };
        let mut page: Vec<Piece> = vec![Line::of(Tone::Strong, first).into()];
        match &self.transactions {
            Some(transactions) => page.extend(by_cause::page(self, transactions, presenter)),
            None => page.extend(kinds.into_iter().flat_map(|kind| of_kind(self, kind, presenter))),
        }
        let notes = self.comparison.not_compared.iter().chain(&self.losses);
        let notes: Vec<Piece> = notes.map(|note| Line::of(Tone::Warning, format!("  {note}")).into()).collect();
        if !notes.is_empty() {
            page.push(Line::blank().into());
            page.push(Line::of(Tone::Strong, "Not compared").into());
            page.extend(notes);
        }
        page
    }
}

/// The changes of one kind, under a heading that says what they are about.
fn of_kind(compared: &Compared, kind: Subject, presenter: &Presenter) -> Vec<Piece> {
    let mut page: Vec<Piece> = vec![Line::blank().into(), Line::of(Tone::Strong, words(kind).0).into()];
    let changes = compared.comparison.changes.iter().filter(|one| one.what == kind);
    page.extend(changes.flat_map(|one| lines_of(one, None, compared.is_wanted, presenter)).map(Piece::from));
    page
}

/// The lines of one change; with a word for what it is about where no heading says so.
fn lines_of(one: &Change, what: Option<&str>, is_wanted: bool, presenter: &Presenter) -> Vec<Line> {
    let (tone, mark) = match (one.change, one.of.as_deref()) {
        (Difference::Added, _) if is_wanted => (Tone::Plain, "surplus"),
        (Difference::Removed, _) if is_wanted => (Tone::Warning, "missing"),
        (Difference::Added, _) => (Tone::Accent, "added"),
        (Difference::Removed, _) => (Tone::Warning, "removed"),
        (Difference::Changed, Some(of @ ("up" | "down"))) => (Tone::Plain, of),
        (Difference::Changed, _) => (Tone::Plain, "changed"),
    };
    let shown = |text: &String| match text.starts_with('/') {
        true => presenter.path(&ByteString::from(text.as_str())),
        false => output::safe(text),
    };
    let says = match (&one.of, &one.from, &one.to) {
        (Some(of), ..) if of == "content" => "other content".to_owned(),
        (of, Some(from), Some(to)) => {
            let of = of.as_deref().filter(|of| !["up", "down", "version"].contains(of));
            let of = of.map(|of| format!("{of}: ")).unwrap_or_default();
            format!("{of}{} → {}", shown(from), shown(to))
        }
        (of, Some(text), None) if of.is_some() => format!("no longer {}", shown(text)),
        (of, None, Some(text)) if of.is_some() => format!("now {}", shown(text)),
        (_, Some(text), None) | (_, None, Some(text)) => shown(text),
        (_, None, None) => String::new(),
    };
    let head = Line::blank().to(2).and(tone, mark).to(11);
    let head = match what {
        Some(word) => head.and(Tone::Faint, word).to(24),
        None => head,
    };
    let head = head.and(Tone::Plain, shown(&one.subject));
    let head = if says.is_empty() { head } else { head.and(Tone::Plain, "  ").and(Tone::Faint, says) };
    let contexts = match one.contexts.as_slice() {
        [] => None,
        some if some.len() <= 3 => Some(format!("in {}", some.join(", "))),
        many => Some(format!("in {} contexts, {} among them", many.len(), many[0])),
    };
    let column = if what.is_some() { 26 } else { 13 };
    let more = contexts.map(|text| Line::blank().to(column).and(Tone::Faint, text));
    std::iter::once(head).chain(more).collect()
}
