//! `whodunit report`.

mod figures;
mod page;
mod table;
mod tables;

use std::ffi::OsString;
use std::io::Write as _;

use clap::Args;
use whodunit_core::checks::{CheckContext, FindingFilter, check};
use whodunit_core::model::Severity;
use whodunit_core::queries::across::across;
use whodunit_core::queries::bill::bill;
use whodunit_core::queries::inventory::{Selection, totals};
use whodunit_core::queries::sources::sources;
use whodunit_core::queries::space::space;
use whodunit_core::queries::timeline::{Span, timeline};
use whodunit_core::queries::unowned::unowned;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Streams};
use crate::session::{Outcome, Session};
use figures::Palette;
use page::Report;

/// Write a page about the whole machine, to look at in a browser
///
/// One HTML file that needs no network and no other file: what is wrong and what to do first, figures with the numbers
/// behind them, and everything that is installed, searched and found. It can be read without scripts; its own small one
/// filters and sorts tables.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit report lantern.html
  whodunit report --root /mnt > disk.html")]
pub struct Arguments {
    /// The file, which must not exist yet; standard output, if none is given
    file: Option<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    let page = made(&session, &survey);
    match &arguments.file {
        None => streams.out.write_all(page.as_bytes())?,
        Some(file) => super::write_file(file, page.as_bytes())?,
    }
    streams.out.flush()?;
    Ok(output::note_losses(&survey, global, streams))
}

/// The page.
fn made(session: &Session, survey: &Survey<'_>) -> String {
    let resolved = session.resolve_contexts(&session.users());
    let cx = CheckContext::new(survey, session.views(), &resolved);
    let wanted = FindingFilter { level: Some(Severity::Note), ..FindingFilter::default() };
    let checked = check(&cx, &session.config.for_check(), &wanted);
    let bill = bill(survey);
    let space = space(survey, None);
    let totals = totals(survey, &Selection::default());
    let sources = sources(survey, &[]);
    let events = timeline(survey, &Span::default()).events;
    let unowned = unowned(survey, &session.searches(), &[]);
    let view = &session.views()[0];
    let user = view.user.as_ref().map(|user| user.name.to_string()).unwrap_or_default();
    let meanings = across(survey, &view.searches, &[]);
    let palette = Palette::of(&bill.packages);
    let figures = vec![
        figures::bytes(&space, &palette),
        figures::winners(&meanings, &user, &palette),
        figures::versions(&bill.packages, &palette),
        figures::changes(&events),
        figures::ages(&sources, session.now()),
        figures::needed(&bill),
    ];
    let tables = vec![
        tables::inventory(&bill.packages),
        tables::launchers(session, survey),
        tables::paths(&session.host, &resolved),
        tables::unowned(&unowned),
        tables::sources(&sources),
        tables::coverage(&survey.coverage()),
    ];
    let machine_table = [tables::machine(&totals, &space)];
    Report::new(session, &checked, machine_table, figures, tables).written()
}
