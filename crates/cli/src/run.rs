//! From the command line to the exit status.

use std::cell::OnceCell;
use std::ffi::OsString;
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use clap::Parser as _;
use whodunit_core::root::{Root, RootError};
use whodunit_core::scene::{People, Person, Scene};
use whodunit_core::search::contexts::{self, Shell, situations};
use whodunit_core::search::{Context, SearchPath, Situation, Wish};
use whodunit_core::text::Text;

use crate::args::{Cli, ContextName, Global, ShellName};
use crate::commands::Outcome;
use crate::config::Config;
use crate::output::Streams;
use crate::surroundings;

/// Something about the call itself is wrong, or the results could not be written.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// The call cannot be answered as given.
    #[error("{0}")]
    Usage(String),
    /// Writing the results failed.
    #[error("the results could not be written: {0}")]
    Output(#[from] std::io::Error),
}

impl Failure {
    /// A mistake in the call, in words.
    pub fn usage(what: impl Into<String>) -> Self {
        Failure::Usage(what.into())
    }
}

const USAGE: u8 = 2;
const INCOMPLETE: u8 = 3;

/// Runs one command line; the result is the exit status.
pub fn run(arguments: impl IntoIterator<Item = OsString>, streams: &mut Streams) -> u8 {
    let cli = match Cli::try_parse_from(arguments) {
        Ok(cli) => cli,
        // Help and version are results; mistakes are told by clap in its own words.
        Err(error) => {
            let _ = error.print();
            return if error.use_stderr() { USAGE } else { 0 };
        }
    };
    streams.choose_color(cli.global.color);
    let strict = cli.global.strict;
    let outcome = crate::commands::run(&cli, streams);
    let flushed = streams.out.flush();
    match outcome.and_then(|outcome| flushed.map(|()| outcome).map_err(Failure::from)) {
        Ok(outcome) if strict && outcome.incomplete => INCOMPLETE,
        Ok(outcome) => u8::from(!outcome.found),
        // A reader that has seen enough closes the pipe; that is no error.
        Err(Failure::Output(error)) if error.kind() == std::io::ErrorKind::BrokenPipe => 0,
        Err(failure) => {
            let _ = writeln!(streams.err, "whodunit: {failure}");
            USAGE
        }
    }
}

/// Runs one command line within another, on the same streams and with the same colours.
pub fn answer(arguments: impl IntoIterator<Item = OsString>, streams: &mut Streams) -> Result<Outcome, Failure> {
    let cli = Cli::try_parse_from(arguments).map_err(|error| Failure::usage(error.to_string()))?;
    crate::commands::run(&cli, streams)
}

/// What a command works on.
pub struct Ready {
    /// The machine.
    pub scene: Scene,
    /// The search path that was given.
    given: Option<SearchPath>,
    searches: OnceCell<Vec<SearchPath>>,
    usual: OnceCell<Vec<Situation>>,
    /// The settings.
    pub config: Config,
    /// The contexts that were asked for.
    pub contexts: Vec<Context>,
    /// What was said instead of what would be derived.
    pub wish: Wish,
}

impl Ready {
    /// Opens the root, finds the people, and works out the search path.
    pub fn new(global: &Global) -> Result<Self, Failure> {
        let root = match &global.root {
            None => Root::live(),
            Some(place) => Root::offline(place).map_err(|error| bad_root(place, &error))?,
        };
        let people = match (global.person.as_slice(), global.everyone, root.is_live()) {
            ([], false, true) => surroundings::people(),
            ([], ..) => People::Everyone,
            (names, ..) => People::Named(names.iter().map(|name| name.as_bytes().into()).collect()),
        };
        let mut here = surroundings::here();
        if !root.is_live() {
            // Paths are as seen from inside the root, where the current folder is nowhere.
            here.folder = "/".into();
        }
        let chosen =
            global.context.unwrap_or(ContextName(Some(if root.is_live() { Context::Here } else { Context::Login })));
        let contexts = chosen.contexts();
        let context = contexts[0];
        if context != Context::Here {
            // Programs that are started elsewhere do not see this process's environment.
            here.variables.clear();
        }
        let config = Config::read(global.config.as_deref())?;
        let mut scene = Scene::new(root, &people, here).map_err(|unknown| Failure::usage(unknown.to_string()))?;
        scene.extra_folders = config.bundle_folders(&scene.people);
        scene.title_rules = config.title_rules();
        let wish = wish(global)?;
        let given = global.path.as_ref().map(|list| SearchPath::given(&scene, context, list.as_bytes()));
        let (searches, usual) = (OnceCell::new(), OnceCell::new());
        Ok(Ready { scene, given, searches, usual, config, contexts, wish })
    }

    /// Looks at every context, where none was named.
    pub fn look_everywhere(&mut self, global: &Global) {
        if global.context.is_none() && global.path.is_none() {
            self.contexts = Context::ALL.to_vec();
        }
    }

    /// The people whose contexts are told: in the process's own environment there is one.
    pub fn people(&self) -> Vec<Person> {
        let mut people = self.scene.people.clone();
        if self.contexts == [Context::Here] {
            people.truncate(1);
        }
        people
    }

    /// What the contexts are called together.
    pub fn context_word(&self) -> &'static str {
        if self.contexts.len() == 1 { self.contexts[0].word() } else { "all" }
    }

    /// The chosen contexts of the person whose log-in stands for all.
    pub fn usual(&self) -> &[Situation] {
        let person = || contexts::usual_person(&self.scene);
        self.usual.get_or_init(|| situations(&self.scene, &self.contexts, &person(), &self.wish))
    }

    /// The one of them in this context.
    pub fn usual_in(&self, context: Context) -> &Situation {
        let usual = self.usual();
        usual.iter().find(|one| one.context == context).unwrap_or(&usual[0])
    }

    /// The search path of each of them, or the one that was given.
    pub fn searches(&self) -> &[SearchPath] {
        self.searches.get_or_init(|| match &self.given {
            Some(given) => vec![given.clone()],
            None if self.contexts == [Context::Here] => vec![SearchPath::of(&self.scene, Context::Here)],
            None => self.usual().iter().map(|one| SearchPath::in_situation(&self.scene, one)).collect(),
        })
    }

    /// Where names are looked up: the first of them.
    pub fn search(&self) -> &SearchPath {
        &self.searches()[0]
    }

    /// The chosen contexts of these people; those that are nobody's, once.
    pub fn situations(&self, people: &[Person]) -> Vec<Situation> {
        let mut found = Vec::new();
        for (number, person) in people.iter().enumerate() {
            let of_person = self.contexts.iter().filter(|context| number == 0 || !context.is_shared());
            // What root's own contexts are, is told once.
            let is_told = |context: &Context| person.uid != 0 || !matches!(context, Context::Sudo | Context::Login);
            let is_all = self.contexts.len() > 1;
            let of_person: Vec<Context> = of_person.copied().filter(|context| !is_all || is_told(context)).collect();
            found.extend(situations(&self.scene, &of_person, person, &self.wish));
        }
        found
    }
}

/// What was said instead of what would be derived.
fn wish(global: &Global) -> Result<Wish, Failure> {
    let shell = global.shell.map(|shell| match shell {
        ShellName::Bash => Shell::Bash,
        ShellName::Sh => Shell::Dash,
        ShellName::Zsh => Shell::Zsh,
        ShellName::Fish => Shell::Fish,
    });
    let mut inherit = Vec::new();
    for given in &global.inherit {
        let given = given.as_bytes();
        let at = given.iter().position(|&b| b == b'=').filter(|at| *at > 0);
        let Some(at) = at else {
            let says = format!("--inherit takes NAME=VALUE, not {}", Text::from(given));
            return Err(Failure::usage(says));
        };
        inherit.push((given[..at].into(), given[at + 1..].into()));
    }
    Ok(Wish { shell, inherit })
}

fn bad_root(place: &Path, error: &RootError) -> Failure {
    let place = Text::from(place.as_os_str().as_bytes());
    Failure::usage(match error {
        RootError::Missing { .. } => format!("no such folder for --root: {place} (is the disk mounted?)"),
        RootError::Denied { .. } => format!("may not look into {place} for --root (try it as root)"),
        other => format!("cannot use {place} for --root: {other}"),
    })
}
