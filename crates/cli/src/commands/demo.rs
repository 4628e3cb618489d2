//! `whodunit demo`.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use whodunit_core::bytes::shown;
use whodunit_demo::{FleetScale, Scale, WriteError, write, write_fleet, write_laptop, write_workshop};

use crate::args::Global;
use crate::error::CliError;
use crate::output::{self, Line, Piece, Streams, Tone};
use crate::process;
use crate::session::Outcome;

/// Try Whodunit on a made-up machine
///
/// Writes the demo workstation to DIR (an empty or new directory; by default a new temporary directory), answers the
/// main questions about it, and shows the command for each answer. The directory is kept so that you can explore it
/// further; delete it when you are done.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Directory to write the demo workstation to
    dir: Option<PathBuf>,

    /// Which of the made-up workstations
    #[arg(long, value_name = "NAME", value_enum, default_value_t = Workstation::Lantern, conflicts_with_all = ["scale", "machines"])]
    workstation: Workstation,

    /// Multiply the number of packages of lantern's distribution, for benchmarks
    #[arg(long, value_name = "FACTOR", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    scale: u32,

    /// Write snapshots of a fleet of so many machines instead, for `whodunit fleet load`
    #[arg(long, value_name = "N", conflicts_with = "scale", value_parser = clap::value_parser!(u32).range(1..=100_000))]
    machines: Option<u32>,

    /// With --machines: about how many packages each machine has
    #[arg(long, value_name = "N", default_value_t = 300, requires = "machines", value_parser = clap::value_parser!(u32).range(20..=20_000))]
    packages: u32,

    /// With --machines: how many snapshots of each machine, a day apart
    #[arg(long, value_name = "N", default_value_t = 2, requires = "machines", value_parser = clap::value_parser!(u32).range(1..=28))]
    days: u32,

    /// Write the workstation without answering questions
    #[arg(long)]
    only_write: bool,
}

/// A made-up workstation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Workstation {
    /// The harbour office: the same software by several managers, and what goes wrong then
    Lantern,
    /// The boat builder's workshop: one program by each of the other managers
    Jetty,
    /// The ferry's laptop: macOS
    Gannet,
}

impl Workstation {
    fn name(self) -> &'static str {
        match self {
            Workstation::Lantern => "lantern",
            Workstation::Jetty => "jetty",
            Workstation::Gannet => "gannet",
        }
    }

    fn write(self, dir: &Path, scale: u32) -> Result<(), WriteError> {
        match self {
            Workstation::Lantern => write(dir, Scale::times(scale)).map(drop),
            Workstation::Jetty => write_workshop(dir),
            Workstation::Gannet => write_laptop(dir),
        }
    }

    fn tour(self) -> Tour {
        match self {
            Workstation::Lantern => LANTERN,
            Workstation::Jetty => JETTY,
            Workstation::Gannet => GANNET,
        }
    }
}

/// What is asked, and why it is worth asking.
type Tour = &'static [(&'static str, &'static [&'static str])];

const JETTY: Tour = &[
    (
        "What was installed, and by which manager?",
        &["inventory", "--all", "--columns", "name,version,manager,scope,origin"],
    ),
    ("Who owns the programs that these names run?", &["owner", "kelpnote", "hawserlen", "tidefold", "ferrydeck"]),
    ("And whose program does this start, in which container?", &["owner", "gullcount", "brinebook"]),
    ("Which programs are not claimed by any manager?", &["unowned"]),
    ("Is anything wrong with the machine?", &["check"]),
];

const GANNET: Tour = &[
    ("What was installed, and by which manager?", &["inventory", "--all"]),
    (
        "Whose are these applications and programs?",
        &["owner", "/Applications/Ferrysign.app", "/Applications/Chartcase.app", "tidelamp", "vi"],
    ),
    ("Which files add these directories to the search path?", &["paths", "--context", "terminal", "--user", "isolde"]),
    ("Which programs are not claimed by any manager?", &["unowned"]),
    ("Is anything wrong with the machine?", &["check"]),
];

const LANTERN: Tour = &[
    ("What was installed explicitly?", &["inventory"]),
    (
        "Who owns the program that this name runs, and what does it hide?",
        &["owner", "barolog", "tidegauge", "chartdesk"],
    ),
    (
        "An application in a virtual environment, a crate, and a file that two managers claim:",
        &["owner", "swellplot", "shoal", "/usr/lib/python3/dist-packages/knots/__init__.py"],
    ),
    ("A name that the alternatives system manages:", &["owner", "chart-view"]),
    ("A diverted program, and a script that no manager claims:", &["owner", "lamp", "/usr/bin/lampwick"]),
    ("Which names have several copies?", &["shadows"]),
    ("But it works in my terminal!", &["owner", "tidegauge", "--context", "all", "--user", "maren"]),
    ("Which names start different programs in different contexts?", &["shadows", "--across", "--user", "maren"]),
    ("Which files add these directories to the search path?", &["paths", "--context", "terminal"]),
    (
        "Which programs import a different copy of a module from the one they were packaged with?",
        &["shadows", "--kind", "module"],
    ),
    ("Is there anything for charts, in any source?", &["search", "chart"]),
    (
        "Which sources offer it, what does it bring along, and which should I take?",
        &["offers", "chartdesk", "ferrywatch"],
    ),
    ("And whose is it now, and who keeps it current?", &["owner", "chartdesk", "--user", "maren"]),
    ("Where do packages come from?", &["sources"]),
    ("Who keeps packages current, and what is behind?", &["upkeep"]),
    ("Which installed packages have a newer version?", &["offers", "--newer"]),
    ("Which packages did not come from the distribution?", &["inventory", "--origin", "third-party"]),
    ("What does the menu show, and what does it start?", &["launchers"]),
    ("Which earlier states exist?", &["states"]),
    ("What was done to it, when, and who asked for it?", &["timeline", "tidegauge", "pilotbook"]),
    ("Which programs are not claimed by any manager?", &["unowned"]),
    ("Software installed at four versions: which one runs where?", &["conflicts", "tidegauge"]),
    ("Which files differ from their manager's record, and who changed them?", &["verify"]),
    ("What would break without the interpreter, and would its manager notice?", &["impact", "python3.11"]),
    ("And why is it here at all?", &["why", "python3.11"]),
    ("How do I get rid of it, by every manager that has it?", &["plan", "remove", "swellplot"]),
    ("Is anything wrong with the machine?", &["check"]),
];

/// Answers one command line on the streams.
pub type Answer<'a> = &'a dyn Fn(Vec<OsString>, &mut Streams) -> Result<Outcome, CliError>;

/// Writes the workstation and shows it.
///
/// The output is exactly that of `answer` for the same arguments.
pub fn run(
    arguments: &Arguments,
    global: &Global,
    streams: &mut Streams,
    answer: Answer<'_>,
) -> Result<Outcome, CliError> {
    if global.root.is_some() {
        return Err(CliError::usage("the demo writes its own machine and does not accept --root"));
    }
    let dir = arguments.dir.clone().map_or_else(new_dir, Ok)?;
    let place = dir.display().to_string();
    let place = shown(place.as_bytes()).into_owned();
    if let Some(machines) = arguments.machines {
        let scale = FleetScale { machines, packages: arguments.packages, days: arguments.days };
        let count = write_fleet(&dir, scale)? as usize;
        let says = format!("{} of {machines} machines are in {place}", output::count(count, "snapshot"));
        say(streams, Line::of(Tone::Strong, says))?;
        let next = format!("$ whodunit fleet load {place} --into {place}/fleet.sqlite");
        say(streams, Line::of(Tone::Accent, next))?;
        return Ok(Outcome { found: true, ..Outcome::default() });
    }
    let workstation = arguments.workstation;
    workstation.write(&dir, arguments.scale)?;
    let says = format!("The demo workstation, {}, is in {place}", workstation.name());
    say(streams, Line::of(Tone::Strong, says))?;
    if arguments.only_write {
        return Ok(Outcome { found: true, ..Outcome::default() });
    }
    let mut outcome = Outcome { found: true, ..Outcome::default() };
    for (why, command) in workstation.tour() {
        // What is shown is what is run: the same words, through the same door.
        let words = [&["--root", &place], *command].concat();
        say(streams, Line::blank())?;
        say(streams, Line::of(Tone::Faint, format!("# {why}")))?;
        say(streams, Line::of(Tone::Accent, format!("$ whodunit {}", words.join(" "))))?;
        let words = [OsString::from("whodunit"), "--root".into(), dir.clone().into()]
            .into_iter()
            .chain(command.iter().map(OsString::from));
        let answered = answer(words.collect(), streams)?;
        outcome.incomplete |= answered.incomplete;
    }
    say(streams, Line::blank())?;
    say(
        streams,
        Line::of(
            Tone::Faint,
            format!("Explore it: whodunit --root {place} …   Delete it when you are done: rm -r {place}"),
        ),
    )?;
    Ok(outcome)
}

fn say(streams: &mut Streams, line: Line) -> Result<(), CliError> {
    output::write_page(streams, &[Piece::from(line)])
}

/// A new directory for temporary files, which stays.
fn new_dir() -> Result<PathBuf, CliError> {
    let dir = tempfile::Builder::new().prefix("whodunit-demo-").tempdir_in(process::temporary_dir());
    Ok(dir.map_err(CliError::Output)?.keep())
}
