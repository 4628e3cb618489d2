//! `whodunit browse`.

mod action;
mod answers;
mod draw;
mod facts;
mod keys;
mod list;
mod plain;
mod state;
mod target;
mod worker;

use std::io::{self, IsTerminal as _, Write as _};
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use clap::Args;
use ratatui::crossterm::event::{self, DisableMouseCapture, EnableMouseCapture};
use ratatui::crossterm::execute;
use whodunit_core::survey::Survey;

use crate::args::Global;
use crate::error::CliError;
use crate::output::Streams;
use crate::session::{Outcome, Session};
use action::Effect;
use draw::{Places, Screen};
use facts::{Facts, Section};
use plain::Walk;
use state::State;
use worker::Worker;

/// Walk through the machine on the whole screen
///
/// On the left the questions, beside them a list that is filtered as you type, and on the right the answer with its
/// evidence and what it leads to: from a name to its package, from there to its files, and to who else claims one. The
/// screen is there at once and fills while the machine is read. `?` shows the keys.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  whodunit browse
  whodunit browse packages ssl       the packages with `ssl` in their names
  whodunit browse --root /mnt
  whodunit browse --plain            line by line: for screen readers, and in a pipe")]
pub struct Arguments {
    /// The question to begin with
    #[arg(default_value = "machine")]
    question: Section,

    /// Begin with the lines that have this text
    #[arg(default_value = "")]
    text: String,

    /// Tell and ask line by line, without placing text on the screen
    #[arg(long)]
    plain: bool,
}

/// How long is waited for a key before what was read meanwhile is shown.
const TICK: Duration = Duration::from_millis(50);

/// Shows, and asks, until the user leaves.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, CliError> {
    let is_on_screen = io::stdin().is_terminal() && io::stdout().is_terminal();
    if !arguments.plain && !is_on_screen {
        return Err(CliError::usage("browse needs a terminal (browse --plain does not)"));
    }
    let mut session = Session::new(global)?;
    session.use_all_contexts(global);
    // What reads the machine is not waited for at the end: it may use these until the process is gone.
    let session: &'static Session = Box::leak(Box::new(session));
    let survey: &'static Survey<'static> = Box::leak(Box::new(Survey::of(&session.host)));
    let worker = Worker::start(Facts::new(session, survey));
    if arguments.plain {
        let width = streams.width.unwrap_or(100);
        Walk::new(&worker, io::stdin().lock(), &mut streams.out, width).run(arguments.question, &arguments.text)?;
    } else {
        on_screen(&worker, State::new(arguments.question, &arguments.text), streams.color)?;
    }
    Ok(Outcome { found: true, ..Outcome::default() })
}

fn on_screen(worker: &Worker, mut state: State, color: bool) -> Result<(), CliError> {
    let mut terminal = ratatui::try_init()?;
    let result =
        execute!(io::stdout(), EnableMouseCapture).and_then(|()| walk(worker, &mut terminal, &mut state, color));
    // Whatever happened, the terminal is as it was.
    let _ = execute!(io::stdout(), DisableMouseCapture);
    ratatui::try_restore()?;
    Ok(result?)
}

fn walk(worker: &Worker, terminal: &mut ratatui::DefaultTerminal, state: &mut State, color: bool) -> io::Result<()> {
    let screen = Screen { color };
    let mut places = Places::default();
    let mut is_stale = true;
    loop {
        if is_stale {
            terminal.draw(|frame| places = screen.draw(frame, state))?;
        }
        is_stale = false;
        let mut effects: Vec<Effect> = worker.news().map(|news| state.take(news)).collect();
        is_stale |= !effects.is_empty();
        if effects.is_empty() && event::poll(TICK)? {
            let happened = event::read()?;
            is_stale = true;
            effects.extend(keys::action(&happened, &places, state.is_filtering).map(|action| state.act(action)));
        }
        for effect in effects {
            match effect {
                Effect::None => {}
                Effect::Quit => return Ok(()),
                Effect::Ask(target) => worker.ask(target),
                Effect::Copy(command) => {
                    // The terminal's own clipboard (control sequence OSC 52).
                    write!(io::stdout(), "\x1b]52;c;{}\x07", STANDARD.encode(command))?;
                    io::stdout().flush()?;
                }
            }
        }
    }
}
