//! `whodunit compare --by-cause`: what differs, under the transactions that did it.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;

use whodunit_core::history::{Compared, Comparison, Snapshot, Transaction, is_one_machine, transactions};
use whodunit_core::queries::timeline::{Span, timeline as events_of};
use whodunit_core::survey::Survey;

use super::super::{snapshot::store, timeline};
use super::{lines_of, tree};
use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Line, Piece, Presenter, Tone};
use crate::session::Session;

/// The transactions between two states, by the logs on the machine of the later one. What keeps them from being told is
/// added to the losses.
pub(super) fn told(
    later: &OsStr,
    (before, after): (&Snapshot, &Snapshot),
    comparison: &Comparison,
    losses: &mut Vec<String>,
    global: &Global,
) -> Result<Vec<Transaction>, CliError> {
    let place = tree(later);
    let is_kept = later != store::NOW && place.is_none();
    let root = place.map(|place| OsStr::from_bytes(&place).into()).or_else(|| global.root.clone());
    let session = Session::new(&Global { root, ..global.clone() })?;
    let host = &session.host;
    if is_kept && !is_one_machine(after, host.machine().as_ref(), host.hostname().as_ref()) {
        losses.push("the logs on this machine are not those of the later state: no transaction is told".to_owned());
        return Ok(Vec::new());
    }
    let zone = host.time_zone();
    let seconds = |one: &Snapshot| one.taken_at.as_ref().and_then(|text| output::seconds(text, &zone));
    // Logs have whole seconds: what was done in the one in which a snapshot was taken may be on either side.
    let until = seconds(after).filter(|_| is_kept).map(|at| at + 1);
    let span = Span { since: seconds(before), until, ..Span::default() };
    let survey = Survey::of(host);
    Ok(transactions(before, after, comparison, &events_of(&survey, &span).events))
}

/// Each transaction with what it did, and then what no log tells of.
pub(super) fn page(compared: &Compared, told: &[Transaction], presenter: &Presenter) -> Vec<Piece> {
    let changes = &compared.comparison.changes;
    let mut page: Vec<Piece> = Vec::new();
    let mut add = |head: Line, command: Option<&String>, places: &[usize]| {
        page.push(Line::blank().into());
        page.push(head.into());
        page.extend(command.map(|command| Line::blank().to(2).and(Tone::Faint, output::safe(command)).into()));
        let lines = places.iter().flat_map(|place| {
            let one = &changes[*place];
            lines_of(one, Some(one.what.word()), compared.is_wanted, presenter)
        });
        page.extend(lines.map(Piece::from));
    };
    for one in told {
        let when = one.at.map_or_else(|| "at an unknown time".to_owned(), output::time);
        let who = timeline::who(one.manager, &one.scope, one.by.as_deref());
        let head = Line::of(Tone::Strong, when).to(22).and(Tone::Plain, who);
        add(head, one.command.as_ref(), &one.changes);
    }
    let is_told = |place: &usize| told.iter().any(|one| one.changes.contains(place));
    let rest: Vec<usize> = (0..changes.len()).filter(|place| !is_told(place)).collect();
    if !rest.is_empty() {
        add(Line::of(Tone::Strong, "No log tells who did this"), None, &rest);
    }
    page
}
