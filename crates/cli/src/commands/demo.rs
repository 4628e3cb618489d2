//! `whodunit demo`.

use std::ffi::OsString;
use std::path::PathBuf;
use std::time::{SystemTime, UNIX_EPOCH};

use clap::Args;
use whodunit_core::text::shown;
use whodunit_demo::{Scale, write};

use super::Outcome;
use crate::args::Global;
use crate::output::{self, Line, Piece, Streams, Tone};
use crate::run::{self, Failure};
use crate::surroundings;

/// Try it on a made-up machine
///
/// Writes the demo workstation, `lantern`, into DIR (empty or new; without it a new folder for
/// temporary files), asks the main questions of it, and says which command gave each answer. The tree
/// stays, to be looked at further; delete it when you are done.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Where the demo workstation is written
    dir: Option<PathBuf>,

    /// How often the distribution's packages are there, for measurements
    #[arg(long, value_name = "FACTOR", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    scale: u32,

    /// Only write the workstation; ask nothing
    #[arg(long)]
    only_write: bool,
}

/// The tour: what is asked, and why it is worth asking.
const TOUR: &[(&str, &[&str])] = &[
    ("What was installed on purpose?", &["inventory"]),
    ("Whose is the program behind this name, and what does it hide?", &["owner", "barolog", "tidegauge", "chartdesk"]),
    (
        "An application in an environment of its own, a crate, and a file that two managers claim:",
        &["owner", "swellplot", "shoal", "/usr/lib/python3/dist-packages/knots/__init__.py"],
    ),
    ("A name that the alternatives system chooses for:", &["owner", "chart-view"]),
    (
        "A program that another package's stands in for, and a script that nobody claims:",
        &["owner", "lamp", "/usr/bin/lampwick"],
    ),
    ("Which names have several copies?", &["shadows"]),
    ("But it works in my terminal!", &["owner", "tidegauge", "--context", "all", "--person", "maren"]),
    ("Which names mean different programs in different contexts?", &["shadows", "--across", "--person", "maren"]),
    ("Who put these folders into the search path?", &["paths", "--context", "terminal"]),
    ("Which programs take in another copy of a module than they were built for?", &["shadows", "--kind", "module"]),
    ("Which sources have it, and at which version?", &["offers", "chartdesk", "tidegauge"]),
    ("What is installed and has something newer?", &["offers", "--newer"]),
    ("What did not come from the distribution?", &["inventory", "--origin", "third-party"]),
    ("What does the menu show, what does it start, and what does it not show?", &["launchers"]),
    ("What can be gone back to?", &["states"]),
    ("What did no manager put here?", &["unowned"]),
    ("One piece of software at four versions: which one runs where?", &["conflicts", "tidegauge"]),
    ("Which files are not as their manager recorded them, and who changed them?", &["verify"]),
    ("What would break without the interpreter, and would anybody say so?", &["impact", "python3.11"]),
    ("Is the machine in order?", &["check"]),
];

/// Writes the workstation and shows it.
pub fn run(arguments: &Arguments, global: &Global, streams: &mut Streams) -> Result<Outcome, Failure> {
    if global.root.is_some() {
        return Err(Failure::usage("demo writes a machine of its own and takes no --root"));
    }
    let folder = arguments.dir.clone().unwrap_or_else(new_folder);
    write(&folder, Scale::times(arguments.scale)).map_err(|error| Failure::usage(error.to_string()))?;
    let place = folder.display().to_string();
    let place = shown(place.as_bytes()).into_owned();
    say(streams, Line::of(Tone::Strong, format!("The demo workstation, lantern, stands in {place}")))?;
    if arguments.only_write {
        return Ok(Outcome { found: true, incomplete: false });
    }
    let mut outcome = Outcome { found: true, incomplete: false };
    for (why, command) in TOUR {
        // What is shown is what is run: the same words, through the same door.
        let words = [&["--root", &place], *command].concat();
        say(streams, Line::blank())?;
        say(streams, Line::of(Tone::Faint, format!("# {why}")))?;
        say(streams, Line::of(Tone::Accent, format!("$ whodunit {}", words.join(" "))))?;
        let words = [OsString::from("whodunit"), "--root".into(), folder.clone().into()]
            .into_iter()
            .chain(command.iter().map(OsString::from));
        let answered = run::answer(words, streams)?;
        outcome.incomplete |= answered.incomplete;
    }
    say(streams, Line::blank())?;
    say(
        streams,
        Line::of(Tone::Faint, format!("Ask on: whodunit --root {place} …   When you are done: rm -r {place}")),
    )?;
    Ok(outcome)
}

fn say(streams: &mut Streams, line: Line) -> Result<(), Failure> {
    output::write_page(streams, &[Piece::from(line)])
}

fn new_folder() -> PathBuf {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_nanos());
    surroundings::temporary_folder().join(format!("whodunit-demo-{}-{now:x}", std::process::id()))
}
