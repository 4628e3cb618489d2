//! `whodunit`: who put that program there, what runs under its name, and what it hides.

mod args;
mod commands;
mod config;
mod output;
mod run;
mod surroundings;

use std::process::ExitCode;

use output::Streams;

fn main() -> ExitCode {
    let mut streams = Streams::of_process();
    ExitCode::from(run::run(surroundings::arguments(), &mut streams))
}
