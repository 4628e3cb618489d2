//! `whodunit report`.

mod figures;
mod fleet;
mod page;
mod past;
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

use super::compare::state;
use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Streams};
use crate::session::{Outcome, Session};
use figures::Palette;
use page::{Head, Report};

/// Write a page about the whole machine, to look at in a browser
///
/// One HTML file that needs no network and no other file: what is wrong and what to do first, figures with the numbers
/// behind them, and everything that is installed, searched and found. It can be read without scripts; its own small one
/// filters and sorts tables.
///
/// With --from it is about the machine as a snapshot has it, with --compare about what differs between two states; A and
/// B are what `whodunit compare` takes. Neither looks for anything wrong. With --fleet it is about all
/// machines of a store.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit report lantern.html
  whodunit report --from before before.html
  whodunit report --compare before now trial.html
  whodunit report --fleet harbour.sqlite harbour.html
  whodunit report --root /mnt > disk.html")]
pub struct Arguments {
    /// The file, which must not exist yet; standard output, if none is given
    file: Option<OsString>,

    /// The machine as this snapshot has it
    #[arg(long, value_name = "SNAPSHOT", conflicts_with = "compare")]
    from: Option<OsString>,

    /// All machines of a store of snapshots, as `whodunit fleet` asks it
    #[arg(long, value_name = "STORE", conflicts_with_all = ["from", "compare"])]
    fleet: Option<String>,

    /// What differs between two states
    #[arg(long, num_args = 2, value_names = ["A", "B"])]
    compare: Vec<OsString>,
}

/// Answers.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    if let Some(store) = &arguments.fleet {
        let page = fleet::of_store(&mut super::fleet::fleet(Some(store))?, store)?;
        write(&page, arguments, streams)?;
        return Ok(Outcome { found: true, ..Outcome::default() });
    }
    let of_past = match (&arguments.from, arguments.compare.as_slice()) {
        (Some(word), _) => Some(past::of_snapshot(&state(word, global)?)),
        (None, [a, b]) => Some(past::of_two((a, &state(a, global)?), (b, &state(b, global)?))),
        _ => None,
    };
    if let Some((page, is_incomplete)) = of_past {
        write(&page, arguments, streams)?;
        return Ok(Outcome { found: true, incomplete: is_incomplete, ..Outcome::default() });
    }
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    let survey = Survey::of(&session.host);
    write(&made(&session, &survey), arguments, streams)?;
    Ok(output::note_losses(&survey, global, streams))
}

fn write(page: &Report, arguments: &Arguments, streams: &mut Streams) -> Result<(), CliError> {
    let text = page.written();
    match &arguments.file {
        None => streams.out.write_all(text.as_bytes())?,
        Some(file) => super::write_file(file, text.as_bytes())?,
    }
    Ok(streams.out.flush()?)
}

/// The page.
fn made(session: &Session, survey: &Survey<'_>) -> Report {
    let resolved = session.all_contexts();
    let cx = CheckContext::new(survey, session.views(), &resolved);
    let wanted = FindingFilter { level: Some(Severity::Note), ..FindingFilter::default() };
    let checked = check(&cx, &session.config.for_check(), &wanted);
    let bill = bill(survey);
    let space = space(survey, None, &());
    let totals = totals(survey, &Selection::default());
    let sources = sources(survey, &[]);
    let events = timeline(survey, &Span::default()).events;
    let unowned = unowned(survey, &session.searches(), &[]);
    let view = &session.views()[0];
    let user = view.user.as_ref().map(|user| user.name.to_string()).unwrap_or_default();
    let meanings = across(survey, &view.searches, &[]);
    let palette = Palette::of(&bill.packages);
    let figures = vec![
        figures::bytes(figures::tiles_of(&space), &palette),
        figures::winners(&meanings, &user, &palette),
        figures::versions(&bill.packages, &palette),
        figures::changes(&events),
        figures::ages(&sources, session.now()),
        figures::needed(&bill),
        figures::holds_up(&bill, &palette),
    ];
    let tables = vec![
        tables::inventory(&bill.packages),
        tables::launchers(session, survey),
        tables::paths(&session.host, &resolved),
        tables::unowned(&unowned),
        tables::sources(&sources),
        tables::coverage(&survey.coverage()),
    ];
    let machine = tables::machine(&totals, &space);
    Report::new(Head::of(session), page::verdict(&checked), machine, figures, Some(&checked), tables)
}
