//! The situations in which programs are started: what each starts with, which files its shell reads, and so which search
//! paths, aliases and functions it has.

mod cron;
mod desktop;
mod start;
mod startup;
mod sudo;
mod systemd;

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

/// Works out one context of one person.
#[must_use]
pub fn situation(scene: &Scene, context: Context, person: &Person, wish: &Wish) -> Situation {
    let (person, shell, (state, doubts)) = match context {
        Context::RootLogin => {
            let root = root_of(scene);
            let shell = shell_of(scene, &root, wish);
            let found = login(scene, &root, shell, wish);
            (root, shell, found)
        }
        Context::Service => {
            let start = systemd::service(scene);
            (root_of(scene), None, (start.state, start.doubts))
        }
        _ => {
            let shell = shell_of(scene, person, wish);
            let found = of_person(scene, context, person, shell, wish);
            let has_shell = !matches!(context, Context::Here | Context::Sudo | Context::UserService | Context::Cron);
            (person.clone(), shell.filter(|_| has_shell), found)
        }
    };
    Situation { context, person, shell, state, doubts }
}

/// One context of the person whose log-in stands for all; of root where nobody else is there.
#[must_use]
pub fn usual(scene: &Scene, context: Context, wish: &Wish) -> Situation {
    let person = scene.usual_person().cloned().unwrap_or_else(|| root_of(scene));
    situation(scene, context, &person, wish)
}

fn of_person(
    scene: &Scene,
    context: Context,
    person: &Person,
    shell: Option<Shell>,
    wish: &Wish,
) -> (State, Vec<Evidence>) {
    let plain = |start: Start, manner: Manner| match shell {
        Some(shell) => startup::start(scene, person, shell, manner, start),
        None => (start.state, start.doubts),
    };
    match context {
        Context::Terminal => {
            let (state, doubts) = desktop::desktop(scene, person, shell, wish);
            let mut start = Start::exported(&state, doubts, shell == Some(Shell::Bash));
            start.set(b"TERM", b"xterm-256color", &start::compiled("terminal"));
            start.set(b"DISPLAY", b":0", &start::compiled("desktop"));
            start.inherit(&wish.inherit);
            plain(start, Manner { interactive: true, ..Manner::default() })
        }
        Context::Script => {
            let (state, doubts) = login(scene, person, shell, wish);
            plain(Start::exported(&state, doubts, shell == Some(Shell::Bash)), Manner::default())
        }
        Context::Remote => {
            let mut start = Start::of(person);
            let is_root = person.uid == 0;
            let own = match is_root {
                true => "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
                false => "/usr/local/bin:/usr/bin:/bin:/usr/games",
            };
            start.set(b"PATH", own.as_bytes(), &start::compiled("sshd"));
            start.module(scene, person, "sshd");
            start.inherit(&wish.inherit);
            plain(start, Manner { remote: true, ..Manner::default() })
        }
        Context::Desktop => desktop::desktop(scene, person, shell, wish),
        Context::Sudo => {
            let (state, doubts) = login(scene, person, shell, wish);
            let start = sudo::sudo(scene, person, &startup::group_names(scene, person), &state, doubts);
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
        Context::Login | Context::RootLogin | Context::Service => login(scene, person, shell, wish),
    }
}

/// A log-in on the console.
fn login(scene: &Scene, person: &Person, shell: Option<Shell>, wish: &Wish) -> (State, Vec<Evidence>) {
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
            start.doubts.push(Evidence::at(file, "whole file", "is a shell whose start-up files are not followed"));
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
