//! A session: the machine, the configuration, and the requested contexts.

use std::collections::HashMap;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;
use std::sync::OnceLock;

use whodunit_core::bytes::{ByteString, path};
use whodunit_core::fs::{FsError, Kind, Root};
use whodunit_core::host::{Host, User, UserSelection};
use whodunit_core::queries::UserView;
use whodunit_core::resolve::contexts::{self, Shell, resolve_contexts};
use whodunit_core::resolve::{Context, Overrides, ResolvedContext, SearchPath};

use crate::args::{ContextName, Global, ShellName};
use crate::config::Config;
use crate::error::CliError;
use crate::process;

/// How a command ended.
#[derive(Debug, Clone, Copy, Default)]
pub struct Outcome {
    /// Whether the thing asked for was found.
    pub found: bool,
    /// Whether anything could not be read.
    pub incomplete: bool,
    /// Whether the user ended it before it was done.
    pub stopped: bool,
}

/// The inputs of a command.
pub struct Session {
    /// The machine.
    pub host: Host,
    /// The search path that was given.
    given: Option<SearchPath>,
    views: OnceLock<Vec<UserView>>,
    /// Whether the users were named one by one.
    are_users_named: bool,
    /// The settings.
    pub config: Config,
    /// The contexts that were asked for.
    pub contexts: Vec<Context>,
    /// Overrides given on the command line.
    pub overrides: Overrides,
}

impl Session {
    /// Opens the root, finds the users, and works out the search path.
    pub fn new(global: &Global) -> Result<Self, CliError> {
        whodunit_core::threads::start();
        let root = match &global.root {
            None => Root::live(),
            Some(place) => Root::offline(place).map_err(|cause| {
                let place = place.as_os_str().as_bytes().into();
                CliError::Directory { option: "--root", place, cause }
            })?,
        };
        let users = match (global.user.as_slice(), global.all_users, root.is_live()) {
            ([], false, true) => process::users(),
            ([], ..) => UserSelection::All,
            (names, ..) => UserSelection::Named(names.iter().map(|name| name.as_bytes().into()).collect()),
        };
        let mut env = process::process_env();
        if !root.is_live() {
            // Paths are as seen from inside the root, where the current directory is nowhere.
            env.dir = "/".into();
        }
        if env.dir.is_empty() && global.directory.is_none() {
            // Without it relative paths would be those of another directory.
            return Err(CliError::NoCurrentDirectory);
        }
        if let Some(given) = &global.directory {
            env.dir = working_dir(&root, given, &env.dir)?;
            env.dir_is_given = true;
        }
        let chosen =
            global.context.unwrap_or(ContextName(Some(if root.is_live() { Context::Here } else { Context::Login })));
        let contexts = chosen.contexts();
        let context = contexts[0];
        if context != Context::Here {
            // Programs that are started elsewhere do not see this process's environment.
            env.variables.clear();
        }
        let config = Config::read(global.config.as_deref())?;
        let mut host = Host::new(root, &users, env)?;
        host.extra_dirs = config.bundle_dirs(&host.users);
        host.title_rules = config.title_rules();
        let overrides = overrides(global)?;
        let given = global.path.as_ref().map(|list| SearchPath::given(&host, context, list.as_bytes()));
        let are_users_named = !global.user.is_empty();
        Ok(Session { host, given, views: OnceLock::new(), are_users_named, config, contexts, overrides })
    }

    /// Now, on the running machine: seconds since 1970. A mounted disk has no clock.
    pub fn now(&self) -> Option<i64> {
        self.host.root.is_live().then(process::now).flatten()
    }

    /// A file of settings that does not count, because it belongs to another user.
    pub fn ignored_settings(&self) -> Option<&ByteString> {
        self.config.ignored()
    }

    /// Looks at every context, where none was named.
    pub fn use_all_contexts(&mut self, global: &Global) {
        if global.context.is_none() && global.path.is_none() {
            self.contexts = Context::ALL.to_vec();
        }
    }

    /// The users whose contexts are told: in the process's own environment there is one.
    pub fn users(&self) -> Vec<User> {
        let mut users = self.host.users.clone();
        if self.contexts == [Context::Here] {
            users.truncate(1);
        }
        users
    }

    /// Whether names are looked up in this process's own environment.
    pub fn is_here(&self) -> bool {
        self.contexts == [Context::Here] && self.given.is_none()
    }

    /// What the contexts are called together.
    pub fn context_word(&self) -> &'static str {
        if self.contexts.len() == 1 { self.contexts[0].word() } else { "all" }
    }

    /// The users whose sessions are looked at: those who were named, else every ordinary user, else root. Root's own
    /// login is a context of every user's.
    pub fn viewers(&self) -> Vec<User> {
        let ordinary = || self.host.users.iter().filter(|user| user.uid != 0).cloned().collect::<Vec<_>>();
        let viewers = if self.are_users_named { self.host.users.clone() } else { ordinary() };
        if viewers.is_empty() { vec![contexts::default_user(&self.host)] } else { viewers }
    }

    /// The chosen contexts of each user, with their search paths; or the search path that was given.
    pub fn views(&self) -> &[UserView] {
        self.views.get_or_init(|| {
            let resolved = |user: &User| resolve_contexts(&self.host, &self.contexts, user, &self.overrides);
            let first = || contexts::default_user(&self.host);
            if let Some(given) = &self.given {
                return vec![UserView { user: None, searches: vec![given.clone()], usual: resolved(&first()) }];
            }
            if self.contexts == [Context::Here] {
                let here = SearchPath::of(&self.host, Context::Here);
                let asks = self.host.users.iter().find(|user| self.host.env.uid == Some(user.uid));
                let usual = resolved(asks.unwrap_or(&first()));
                return vec![UserView { user: asks.cloned(), searches: vec![here], usual }];
            }
            let view = |user: User| {
                let usual = resolved(&user);
                let searches = usual.iter().map(|one| SearchPath::in_context(&self.host, one)).collect();
                UserView { user: Some(user), searches, usual }
            };
            self.viewers().into_iter().map(view).collect()
        })
    }

    /// The search path of each context of each user.
    pub fn searches(&self) -> Vec<&SearchPath> {
        self.views().iter().flat_map(|view| &view.searches).collect()
    }

    /// Where names are looked up: the first of them.
    pub fn search(&self) -> &SearchPath {
        &self.views()[0].searches[0]
    }

    /// The chosen contexts of all users, for questions that look at their search paths as well: nothing is followed twice.
    pub fn all_contexts(&self) -> Vec<ResolvedContext> {
        self.views();
        self.resolve_contexts(&self.users())
    }

    /// The chosen contexts of these users; those that are nobody's, once.
    pub fn resolve_contexts(&self, users: &[User]) -> Vec<ResolvedContext> {
        // What has been followed for the user's search paths is not followed again.
        let views = self.views.get().into_iter().flatten();
        let known: HashMap<&ByteString, &UserView> =
            views.filter_map(|view| Some((&view.user.as_ref()?.name, view))).collect();
        let mut found = Vec::new();
        for (number, user) in users.iter().enumerate() {
            let of_user = self.contexts.iter().filter(|context| number == 0 || !context.is_shared());
            // What root's own contexts are, is told once.
            let is_told = |context: &Context| user.uid != 0 || !matches!(context, Context::Sudo | Context::Login);
            let is_all = self.contexts.len() > 1;
            let of_user: Vec<Context> = of_user.copied().filter(|context| !is_all || is_told(context)).collect();
            match known.get(&user.name) {
                Some(view) => found.extend(view.usual.iter().filter(|one| of_user.contains(&one.context)).cloned()),
                None => found.extend(resolve_contexts(&self.host, &of_user, user, &self.overrides)),
            }
        }
        found
    }
}

/// Overrides given on the command line.
fn overrides(global: &Global) -> Result<Overrides, CliError> {
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
            return Err(CliError::usage(format!("--inherit takes NAME=VALUE, not {}", ByteString::from(given))));
        };
        inherit.push((given[..at].into(), given[at + 1..].into()));
    }
    Ok(Overrides { shell, inherit })
}

/// The directory of `--directory`, absolute; with `--root` it is one inside the root.
fn working_dir(root: &Root, given: &Path, current: &ByteString) -> Result<ByteString, CliError> {
    let place = path::absolute(given.as_os_str().as_bytes(), current);
    let failed = |cause| CliError::Directory { option: "--directory", place: place.clone(), cause };
    match root.target(&place).map_err(failed)?.kind {
        Kind::Dir => Ok(place),
        found => Err(failed(FsError::WrongKind { path: place.clone(), found, wanted: Kind::Dir })),
    }
}
