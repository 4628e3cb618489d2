//! The situations in which programs are started: what each starts with, which files its shell reads, and so which search
//! paths, aliases and functions it has.

mod cron;
mod desktop;
mod start;
mod startup;
mod sudo;
mod systemd;

use std::cell::OnceCell;

use schemars::JsonSchema;
use serde::Serialize;

use crate::model::Evidence;
use crate::scene::{Person, Scene};
use crate::search::shell::{Place, State, doubts_in, is_known, parts};
use crate::text::Text;

pub use start::Start;
pub use startup::{Manner, Shell};

/// A situation in which programs are started, with its own search path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Context {
    /// This process's own environment.
    Here,
    /// A log-in on the console.
    Login,
    /// A terminal window of the desktop.
    Terminal,
    /// A script started from a log-in.
    Script,
    /// A single command over a remote log-in.
    Remote,
    /// A launcher of the desktop.
    Desktop,
    /// A command with administrator's rights, from a log-in.
    Sudo,
    /// A log-in of root.
    RootLogin,
    /// A scheduled job.
    Cron,
    /// A service of the system.
    Service,
    /// A service of a person.
    UserService,
}

impl Context {
    /// Every one but `here`.
    pub const ALL: [Context; 10] = [
        Context::Login,
        Context::Terminal,
        Context::Script,
        Context::Remote,
        Context::Desktop,
        Context::Sudo,
        Context::RootLogin,
        Context::Cron,
        Context::Service,
        Context::UserService,
    ];

    /// The word used in every output.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Context::Here => "here",
            Context::Login => "login",
            Context::Terminal => "terminal",
            Context::Script => "script",
            Context::Remote => "remote",
            Context::Desktop => "desktop",
            Context::Sudo => "sudo",
            Context::RootLogin => "root-login",
            Context::Cron => "cron",
            Context::Service => "service",
            Context::UserService => "user-service",
        }
    }

    /// What it stands for, in a few words.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Context::Here => "This process's own environment",
            Context::Login => "A log-in on the console",
            Context::Terminal => "A terminal window of the desktop",
            Context::Script => "A script started from a log-in",
            Context::Remote => "A single command over a remote log-in",
            Context::Desktop => "A launcher of the desktop",
            Context::Sudo => "A command with administrator's rights, from a log-in",
            Context::RootLogin => "A log-in of root",
            Context::Cron => "A scheduled job",
            Context::Service => "A service of the system",
            Context::UserService => "A service of a person",
        }
    }

    /// Whether it is one for the whole machine, and no person's.
    #[must_use]
    pub fn is_shared(self) -> bool {
        matches!(self, Context::RootLogin | Context::Service)
    }
}

/// What a person said instead of what would be derived.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Wish {
    /// The shell, by name.
    pub shell: Option<Shell>,
    /// Variables that the context's shell starts with.
    pub inherit: Vec<(Text, Text)>,
}

/// One context of one person, with all that its shell knows at the end.
#[derive(Debug, Clone)]
pub struct Situation {
    /// Which context.
    pub context: Context,
    /// Whose.
    pub person: Person,
    /// The shell whose files were followed; none where no shell is involved.
    pub shell: Option<Shell>,
    /// Variables, aliases, functions.
    pub state: State,
    /// What is not known.
    pub doubts: Vec<Evidence>,
    /// What was taken to be so where nothing says it.
    pub assumed: Vec<Evidence>,
}

/// One folder of a list, as its variable has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// As it is spelled.
    pub folder: Text,
    /// Who put it there.
    pub because: Evidence,
}

/// Whether the system is of a family, by `os-release(5)`.
pub(crate) fn is_like(scene: &Scene, family: &[u8]) -> bool {
    let is_it = |system: &crate::scene::System| {
        system.id.as_deref() == Some(family) || system.like.iter().any(|like| **like == *family)
    };
    scene.system().is_some_and(is_it)
}

/// Variables, aliases, functions, and what is not known of them.
type Found = (State, Vec<Evidence>);

/// Works out one context of one person.
#[must_use]
pub fn situation(scene: &Scene, context: Context, person: &Person, wish: &Wish) -> Situation {
    Ways::new(scene, person, wish).situation(context)
}

/// Works out several contexts of one person: the log-in that others start from is followed once.
#[must_use]
pub fn situations(scene: &Scene, contexts: &[Context], person: &Person, wish: &Wish) -> Vec<Situation> {
    let ways = Ways::new(scene, person, wish);
    contexts.iter().map(|context| ways.situation(*context)).collect()
}

/// The person whose log-in stands for all; root where nobody else is there.
#[must_use]
pub fn usual_person(scene: &Scene) -> Person {
    scene.usual_person().cloned().unwrap_or_else(|| root_of(scene))
}

/// The ways in of one person. Some contexts start from others.
struct Ways<'s> {
    scene: &'s Scene,
    person: &'s Person,
    shell: Option<Shell>,
    wish: &'s Wish,
    login: OnceCell<Found>,
    desktop: OnceCell<Found>,
}

impl<'s> Ways<'s> {
    fn new(scene: &'s Scene, person: &'s Person, wish: &'s Wish) -> Self {
        let shell = shell_of(scene, person, wish);
        Ways { scene, person, shell, wish, login: OnceCell::new(), desktop: OnceCell::new() }
    }

    fn situation(&self, context: Context) -> Situation {
        if context == Context::RootLogin && self.person.uid != 0 {
            let root = root_of(self.scene);
            return Ways::new(self.scene, &root, self.wish).situation(context);
        }
        let (state, doubts) = self.found(context);
        let is_of_desktop = matches!(context, Context::Desktop | Context::Terminal);
        let assumed = if is_of_desktop { desktop::assumed(self.scene).into_iter().collect() } else { Vec::new() };
        let has_shell =
            !matches!(context, Context::Here | Context::Sudo | Context::Service | Context::UserService | Context::Cron);
        let person = if context == Context::Service { root_of(self.scene) } else { self.person.clone() };
        Situation { context, person, shell: self.shell.filter(|_| has_shell), state, doubts, assumed }
    }

    /// A log-in on the console.
    fn login(&self) -> &Found {
        self.login.get_or_init(|| login(self.scene, self.person, self.shell, self.wish))
    }

    fn desktop(&self) -> &Found {
        self.desktop.get_or_init(|| desktop::desktop(self, self.wish))
    }

    fn exported(&self, found: &Found) -> Start {
        Start::exported(&found.0, found.1.clone(), self.shell == Some(Shell::Bash))
    }

    fn started(&self, start: Start, manner: Manner) -> Found {
        match self.shell {
            Some(shell) => startup::start(self.scene, self.person, shell, manner, start),
            None => (start.state, start.doubts),
        }
    }

    fn found(&self, context: Context) -> Found {
        let (scene, person, wish) = (self.scene, self.person, self.wish);
        match context {
            Context::Login | Context::RootLogin => self.login().clone(),
            Context::Desktop => self.desktop().clone(),
            Context::Terminal => {
                let mut start = self.exported(self.desktop());
                start.set(b"TERM", b"xterm-256color", &start::compiled("terminal"));
                start.set(b"DISPLAY", b":0", &start::compiled("desktop"));
                start.inherit(&wish.inherit);
                self.started(start, Manner { interactive: true, ..Manner::default() })
            }
            Context::Script => self.started(self.exported(self.login()), Manner::default()),
            Context::Remote => {
                let mut start = Start::of(person);
                let own = match person.uid {
                    0 => "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
                    _ => "/usr/local/bin:/usr/bin:/bin:/usr/games",
                };
                start.set(b"PATH", own.as_bytes(), &start::compiled("sshd"));
                start.module(scene, person, "sshd");
                start.inherit(&wish.inherit);
                self.started(start, Manner { remote: true, ..Manner::default() })
            }
            Context::Sudo => {
                let (state, doubts) = self.login();
                let groups = startup::group_names(scene, person);
                let start = sudo::sudo(scene, person, &groups, state, doubts.clone());
                (start.state, start.doubts)
            }
            Context::Cron => {
                let mut start = cron::cron(scene, person);
                start.inherit(&wish.inherit);
                let shell = start.state.get(b"SHELL").and_then(|file| Shell::of(scene, file));
                match shell {
                    Some(shell) => startup::start(scene, person, shell, Manner::default(), start),
                    None => (start.state, start.doubts),
                }
            }
            Context::Service => {
                let start = systemd::service(scene);
                (start.state, start.doubts)
            }
            Context::UserService => {
                let mut start = systemd::user_service(scene, person);
                start.inherit(&wish.inherit);
                (start.state, start.doubts)
            }
            Context::Here => {
                let mut start = Start::default();
                for (name, value) in &scene.here.variables {
                    start.set(name, value, &Place { file: "environment of this process".into(), line: 0 });
                }
                (start.state, start.doubts)
            }
        }
    }
}

/// A log-in on the console.
fn login(scene: &Scene, person: &Person, shell: Option<Shell>, wish: &Wish) -> Found {
    let mut start = Start::of(person);
    let (names, otherwise): (&[&[u8]], &str) = match person.uid {
        0 => (&[b"ENV_SUPATH"], "/sbin:/bin:/usr/sbin:/usr/bin"),
        _ => (&[b"ENV_PATH"], "/bin:/usr/bin"),
    };
    start.definitions(scene, names, otherwise, "login");
    start.set(b"TERM", b"linux", &start::compiled("console"));
    start.module(scene, person, "login");
    start.inherit(&wish.inherit);
    match shell {
        Some(shell) => {
            let manner = Manner { login: true, interactive: true, remote: false };
            startup::start(scene, person, shell, manner, start)
        }
        None => {
            let file = if person.shell.is_empty() { Text::from("/bin/sh") } else { person.shell.clone() };
            start.doubt(Evidence::at(file, "whole file", "is a shell whose start-up files are not followed"));
            (start.state, start.doubts)
        }
    }
}

fn shell_of(scene: &Scene, person: &Person, wish: &Wish) -> Option<Shell> {
    let file = if person.shell.is_empty() { &b"/bin/sh"[..] } else { &person.shell };
    wish.shell.or_else(|| Shell::of(scene, file))
}

fn root_of(scene: &Scene) -> Person {
    let file = start::read(scene, b"/etc/passwd");
    let account = crate::formats::accounts::accounts(&file).find(|account| account.uid == 0);
    Person {
        name: account.as_ref().map_or(&b"root"[..], |one| one.name).into(),
        uid: 0,
        group: 0,
        home: account.as_ref().map_or(&b"/root"[..], |one| one.home).into(),
        shell: account.as_ref().map_or(&b"/bin/sh"[..], |one| one.shell).into(),
    }
}

impl Situation {
    /// The folders of a variable, with who put each there. Unknown parts come second, as doubts.
    #[must_use]
    pub fn list(&self, variable: &str) -> (Vec<Listed>, Vec<Evidence>) {
        let (mut listed, mut unknown) = (Vec::new(), Vec::new());
        // What is not given to programs counts for the shell's own look-up alone.
        let variable_name = variable;
        let variable =
            self.state.variables.get(variable_name.as_bytes()).filter(|set| set.exported || variable_name == "PATH");
        let Some(variable) = variable else { return (listed, unknown) };
        let list = parts(variable.as_text());
        for (number, part) in list.iter().enumerate() {
            if !is_known(part) {
                unknown.extend(doubts_in(part).into_iter().filter_map(|doubt| self.doubts.get(doubt).cloned()));
                continue;
            }
            let folder = Text::from(*part);
            let place = variable.places.get(number);
            let says = if number == 0 { format!("puts {folder} first") } else { format!("puts {folder} there") };
            let because = match place {
                Some(place) if place.line > 0 => Evidence::line(place.file.clone(), place.line, says),
                Some(place) if place.file.starts_with(b"/") => Evidence::at(place.file.clone(), "whole file", says),
                Some(place) => Evidence::at(place.file.clone(), "compiled in", format!("starts with {folder}")),
                None => Evidence::at("environment", variable_name, format!("has {folder}")),
            };
            listed.push(Listed { folder, because });
        }
        unknown.extend(variable.clouds.iter().filter_map(|doubt| self.doubts.get(*doubt).cloned()));
        unknown.dedup();
        (listed, unknown)
    }
}
