//! The contexts in which programs are started: what each starts with, which files its shell reads, and so which search
//! paths, aliases and functions it has.

mod cron;
mod desktop;
mod launchd;
mod lists;
mod sshd;
mod start;
mod startup;
mod sudo;
mod systemd;

use std::cell::OnceCell;

use schemars::JsonSchema;
use serde::Serialize;

use crate::bytes::ByteString;
use crate::host::{ENVIRONMENT, Host, User};
use crate::model::Evidence;
use whodunit_shell::Unknown;
use whodunit_shell::eval::{Place, State};

/// Evidence from a place of a shell's start-up.
pub fn evidence_at(place: &Place, says: impl Into<String>) -> Evidence {
    match place.line {
        0 if place.file.starts_with(b"/") || *place.file == *ENVIRONMENT.as_bytes() => {
            Evidence::whole(place.file.clone(), says)
        }
        0 => Evidence::compiled_in(place.file.clone(), says),
        line => Evidence::line(place.file.clone(), line, says),
    }
}

pub use lists::{Listed, Possible};
pub use start::Start;
pub use startup::{InvocationMode, Shell};
pub use whodunit_shell::syntax::is_name as is_variable_name;

/// A context in which programs are started, with its own search path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Context {
    /// This process's own environment.
    Here,
    /// A login on the console.
    Login,
    /// A terminal window of the desktop.
    Terminal,
    /// A script started from a login.
    Script,
    /// A single command over ssh.
    Remote,
    /// A launcher of the desktop.
    Desktop,
    /// A command run with sudo, from a login.
    Sudo,
    /// A login of root.
    RootLogin,
    /// A scheduled job.
    Cron,
    /// A system service.
    Service,
    /// A user service.
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

    /// A short description.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Context::Here => "This process's own environment",
            Context::Login => "A login on the console",
            Context::Terminal => "A terminal window of the desktop",
            Context::Script => "A script started from a login",
            Context::Remote => "A single command over ssh",
            Context::Desktop => "A launcher of the desktop",
            Context::Sudo => "A command run with sudo, from a login",
            Context::RootLogin => "A login of root",
            Context::Cron => "A scheduled job",
            Context::Service => "A system service",
            Context::UserService => "A user service",
        }
    }

    /// Whether it is one for the whole machine, and no user's.
    #[must_use]
    pub fn is_shared(self) -> bool {
        matches!(self, Context::RootLogin | Context::Service)
    }
}

/// Overrides given by the user instead of derived values.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Overrides {
    /// The shell, by name.
    pub shell: Option<Shell>,
    /// Variables that the context's shell starts with.
    pub inherit: Vec<(ByteString, ByteString)>,
}

/// One context of one user, with all that its shell knows at the end.
#[derive(Debug, Clone)]
pub struct ResolvedContext {
    /// Which context.
    pub context: Context,
    /// Whose.
    pub user: User,
    /// The shell whose files were followed; none where no shell is involved.
    pub shell: Option<Shell>,
    /// Variables, aliases, functions.
    pub state: State,
    /// The unknowns.
    pub unknowns: Vec<Unknown>,
    /// Assumptions where no file tells.
    pub assumed: Vec<Evidence>,
    /// Tables and units that start programs in this way with a search path of their own.
    pub others: Vec<Evidence>,
}

/// Whether the system is of a family, by `os-release(5)`.
pub(crate) fn is_like(host: &Host, family: &[u8]) -> bool {
    let is_it = |system: &crate::host::System| {
        system.id.as_deref() == Some(family) || system.like.iter().any(|like| **like == *family)
    };
    host.system().is_some_and(is_it)
}

/// Variables, aliases, functions, and what is not known of them.
type Found = (State, Vec<Unknown>);

/// Works out one context of one user.
#[must_use]
pub fn resolve_context(host: &Host, context: Context, user: &User, overrides: &Overrides) -> ResolvedContext {
    Ways::new(host, user, overrides).resolve_context(context)
}

/// Works out several contexts of one user: the login that others start from is followed once.
#[must_use]
pub fn resolve_contexts(host: &Host, contexts: &[Context], user: &User, overrides: &Overrides) -> Vec<ResolvedContext> {
    let ways = Ways::new(host, user, overrides);
    contexts.iter().map(|context| ways.resolve_context(*context)).collect()
}

/// The user whose login stands for all; root where nobody else is there.
#[must_use]
pub fn default_user(host: &Host) -> User {
    host.default_user().cloned().unwrap_or_else(|| host.accounts().root().clone())
}

/// The ways in of one user. Some contexts start from others.
struct Ways<'s> {
    host: &'s Host,
    user: &'s User,
    shell: Option<Shell>,
    overrides: &'s Overrides,
    login: OnceCell<Found>,
    desktop: OnceCell<Found>,
}

impl<'s> Ways<'s> {
    fn new(host: &'s Host, user: &'s User, overrides: &'s Overrides) -> Self {
        let shell = shell_of(host, user, overrides);
        Ways { host, user, shell, overrides, login: OnceCell::new(), desktop: OnceCell::new() }
    }

    fn resolve_context(&self, context: Context) -> ResolvedContext {
        if context == Context::RootLogin && self.user.uid != 0 {
            return Ways::new(self.host, self.host.accounts().root(), self.overrides).resolve_context(context);
        }
        let (state, unknowns) = self.found(context);
        let is_mac = self.host.is_macos();
        let is_of_desktop = matches!(context, Context::Desktop | Context::Terminal) && !is_mac;
        let assumed = if is_of_desktop { desktop::assumed(self.host).into_iter().collect() } else { Vec::new() };
        let others = match context {
            Context::Cron => cron::others(self.host, self.user),
            Context::Service if is_mac => launchd::jobs(self.host),
            Context::UserService if is_mac => launchd::user_jobs(self.host, self.user),
            Context::Service => systemd::units(self.host),
            _ => Vec::new(),
        };
        let has_shell =
            !matches!(context, Context::Here | Context::Sudo | Context::Service | Context::UserService | Context::Cron);
        let user = if context == Context::Service { self.host.accounts().root() } else { self.user }.clone();
        ResolvedContext { context, user, shell: self.shell.filter(|_| has_shell), state, unknowns, assumed, others }
    }

    /// A login on the console.
    fn login(&self) -> &Found {
        self.login.get_or_init(|| login(self.host, self.user, self.shell, self.overrides))
    }

    fn desktop(&self) -> &Found {
        self.desktop.get_or_init(|| desktop::desktop(self, self.overrides))
    }

    fn exported(&self, found: &Found) -> Start {
        Start::exported(&found.0, found.1.clone(), self.shell == Some(Shell::Bash))
    }

    fn started(&self, start: Start, invocation: InvocationMode) -> Found {
        match self.shell {
            Some(shell) => startup::start(self.host, self.user, shell, invocation, start),
            None => (start.state, start.unknowns),
        }
    }

    fn found(&self, context: Context) -> Found {
        let (host, user, overrides) = (self.host, self.user, self.overrides);
        match context {
            Context::Login | Context::RootLogin => self.login().clone(),
            Context::Desktop => self.desktop().clone(),
            Context::Terminal => {
                let mut start = self.exported(self.desktop());
                start.set(b"TERM", b"xterm-256color", &start::compiled("terminal"));
                // A window of macOS's terminal is a login.
                let login = host.is_macos();
                if login {
                    start.set(b"TERM_PROGRAM", b"Apple_Terminal", &start::compiled("terminal"));
                } else {
                    start.set(b"DISPLAY", b":0", &start::compiled("desktop"));
                }
                start.inherit(&overrides.inherit);
                self.started(start, InvocationMode { login, interactive: true, remote: false })
            }
            Context::Script => self.started(self.exported(self.login()), InvocationMode::default()),
            Context::Remote => {
                let mut start = sshd::sshd(host, user);
                start.inherit(&overrides.inherit);
                self.started(start, InvocationMode { remote: true, ..InvocationMode::default() })
            }
            Context::Sudo => {
                let (state, unknowns) = self.login();
                let groups = host.accounts().group_names(user);
                let start = sudo::sudo(host, user, &groups, state, unknowns.clone());
                (start.state, start.unknowns)
            }
            Context::Cron => {
                let mut start = cron::cron(host, user);
                start.inherit(&overrides.inherit);
                let shell = start.state.get(b"SHELL").and_then(|file| Shell::of(host, file));
                match shell {
                    Some(shell) => startup::start(host, user, shell, InvocationMode::default(), start),
                    None => (start.state, start.unknowns),
                }
            }
            Context::Service => {
                let start = if host.is_macos() { launchd::service(host) } else { systemd::service(host) };
                (start.state, start.unknowns)
            }
            Context::UserService => {
                let is_mac = host.is_macos();
                let mut start =
                    if is_mac { launchd::user_service(host, user) } else { systemd::user_service(host, user) };
                start.inherit(&overrides.inherit);
                (start.state, start.unknowns)
            }
            Context::Here => {
                let mut start = Start::default();
                for (name, value) in &host.env.variables {
                    start.set(name, value, &Place { file: ENVIRONMENT.into(), line: 0 });
                }
                (start.state, start.unknowns)
            }
        }
    }
}

/// A login on the console.
fn login(host: &Host, user: &User, shell: Option<Shell>, overrides: &Overrides) -> Found {
    let mut start = Start::of(user);
    let (names, otherwise): (&[&[u8]], &str) = match user.uid {
        _ if host.is_macos() => (&[], launchd::OWN_PATH),
        0 => (&[b"ENV_SUPATH"], "/sbin:/bin:/usr/sbin:/usr/bin"),
        _ => (&[b"ENV_PATH"], "/bin:/usr/bin"),
    };
    start.definitions(host, names, otherwise, "login");
    start.set(b"TERM", b"linux", &start::compiled("console"));
    start.without_display(host, "login");
    start.module(host, user, "login");
    start.inherit(&overrides.inherit);
    match shell {
        Some(shell) => {
            let invocation = InvocationMode { login: true, interactive: true, remote: false };
            startup::start(host, user, shell, invocation, start)
        }
        None => {
            let file = if user.shell.is_empty() { ByteString::from("/bin/sh") } else { user.shell.clone() };
            start.note_unknown(Unknown::of_file(file, "is a shell whose start-up files are not followed"));
            (start.state, start.unknowns)
        }
    }
}

fn shell_of(host: &Host, user: &User, overrides: &Overrides) -> Option<Shell> {
    let file = if user.shell.is_empty() { &b"/bin/sh"[..] } else { &user.shell };
    overrides.shell.or_else(|| Shell::of(host, file))
}
