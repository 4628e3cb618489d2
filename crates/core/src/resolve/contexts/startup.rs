//! Which files a shell reads when it starts (the shells' manuals, sections "Invocation", "Startup/Shutdown Files").

use super::start::{Start, compiled};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::{Host, User};
use whodunit_shell::Unknown;
use whodunit_shell::eval::fish::{Directories, Fish};
use whodunit_shell::eval::{Account, Invocation, Run, State};
use whodunit_shell::syntax::Dialect;

/// A shell that can be followed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shell {
    /// The POSIX shell of the system, where that is dash or another small one.
    Dash,
    /// bash.
    Bash,
    /// bash, called as `sh`.
    BashAsSh,
    /// zsh.
    Zsh,
    /// fish.
    Fish,
}

impl Shell {
    /// The shell behind a path; none for one that is not followed here.
    pub fn of(host: &Host, file: &[u8]) -> Option<Self> {
        let name = path::name(file);
        let canonical = host.root.canonicalize_dir(file);
        match (name, path::name(&canonical)) {
            (b"bash" | b"rbash", _) => Some(Shell::Bash),
            (b"zsh", _) => Some(Shell::Zsh),
            (b"fish", _) => Some(Shell::Fish),
            (b"sh", b"bash") => Some(Shell::BashAsSh),
            // Where nothing tells, the families know.
            (b"sh", b"sh") if !super::is_like(host, b"debian") => Some(Shell::BashAsSh),
            (b"dash" | b"sh" | b"ash" | b"", _) => Some(Shell::Dash),
            _ => None,
        }
    }

    /// The name that a user says.
    pub fn named(name: &str) -> Option<Self> {
        match name {
            "bash" => Some(Shell::Bash),
            "dash" | "sh" => Some(Shell::Dash),
            "zsh" => Some(Shell::Zsh),
            "fish" => Some(Shell::Fish),
            _ => None,
        }
    }

    /// As outputs call it.
    pub fn word(self) -> &'static str {
        match self {
            Shell::Dash | Shell::BashAsSh => "sh",
            Shell::Bash => "bash",
            Shell::Zsh => "zsh",
            Shell::Fish => "fish",
        }
    }

    fn dialect(self) -> Dialect {
        match self {
            Shell::Dash => Dialect::Posix,
            Shell::Bash | Shell::BashAsSh => Dialect::Bash,
            Shell::Zsh | Shell::Fish => Dialect::Zsh,
        }
    }

    /// What it searches where it is started without a path.
    fn own_path(self) -> &'static str {
        match self {
            Shell::Bash | Shell::BashAsSh => "/usr/local/bin:/usr/local/sbin:/usr/bin:/usr/sbin:/bin:/sbin:.",
            Shell::Dash => "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
            Shell::Zsh => "/bin:/usr/bin:/usr/ucb:/usr/local/bin",
            Shell::Fish => "/bin:/usr/bin",
        }
    }
}

/// How a shell is started.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct InvocationMode {
    /// As the first of a session.
    pub login: bool,
    /// With a user typing.
    pub interactive: bool,
    /// By the server for remote logins, for one command.
    pub remote: bool,
}

/// Starts a shell and follows the files that it reads.
pub fn start(host: &Host, user: &User, shell: Shell, invocation: InvocationMode, from: Start) -> (State, Vec<Unknown>) {
    let (mut state, mut unknowns) = follow(host, user, shell, invocation, from, None);
    for _ in 0..MAX_REPLACED {
        let Some(next) = state.replaced_by.take() else { return (state, unknowns) };
        let mut from = Start::exported(&state, unknowns, true);
        let Some(shell) = Shell::of(host, &next.file) else {
            let says = format!("replaces the shell by {}, which is not followed", ByteString::from(next.file));
            from.note_unknown(Unknown { file: next.place.file, line: Some(next.place.line), says });
            return (from.state, from.unknowns);
        };
        // It has the terminal of the one before.
        let interactive = next.is_interactive || invocation.interactive;
        let invocation = InvocationMode { login: next.is_login, interactive, remote: false };
        (state, unknowns) = follow(host, user, shell, invocation, from, None);
    }
    let mut from = Start { state, unknowns };
    if let Some(next) = from.state.replaced_by.take() {
        let says = "shells replace each other without an end".to_owned();
        from.note_unknown(Unknown { file: next.place.file, line: Some(next.place.line), says });
    }
    (from.state, from.unknowns)
}

/// Shells that replace one another are followed this far.
const MAX_REPLACED: u32 = 4;

/// Follows exactly these files, in a shell that nobody types into.
pub fn files(host: &Host, user: &User, shell: Shell, from: Start, files: &[ByteString]) -> (State, Vec<Unknown>) {
    follow(host, user, shell, InvocationMode::default(), from, Some(files))
}

fn follow(
    host: &Host,
    user: &User,
    shell: Shell,
    invocation: InvocationMode,
    from: Start,
    only: Option<&[ByteString]>,
) -> (State, Vec<Unknown>) {
    let Start { mut state, mut unknowns } = from;
    if !state.variables.contains_key(&b"PATH"[..]) {
        let mut own = Start::default();
        own.set(b"PATH", shell.own_path().as_bytes(), &compiled(shell.word()));
        if let Some(mut path) = own.state.variables.remove(&b"PATH"[..]) {
            path.exported = shell == Shell::Fish;
            state.variables.insert(b"PATH".to_vec(), path);
        }
    }
    let name = if invocation.login { format!("-{}", shell.word()) } else { shell.word().to_owned() };
    let account = Account { name: user.name.clone(), uid: user.uid, home: user.home.clone() };
    let at = Invocation {
        files: &host.root,
        hostname: host.hostname(),
        user: &account,
        groups: host.accounts().group_numbers(user),
        homes: host.accounts().homes(),
        dialect: shell.dialect(),
        name: name.into_bytes(),
        is_login: invocation.login,
        is_interactive: invocation.interactive,
    };
    if invocation.remote {
        state.export(b"SSH_CLIENT", "192.0.2.7 50000 22");
        state.export(b"SSH_CONNECTION", "192.0.2.7 50000 192.0.2.1 22");
    }
    if shell == Shell::Fish {
        let dirs = fish_of(host, user, &state).map(|program| Directories::of(&program, &host.root));
        let mut run = Fish::new(at, state).with(dirs.unwrap_or_default());
        run.take_unknowns(unknowns);
        match only {
            Some(files) => files.iter().for_each(|file| run.file(file)),
            None => run.start(),
        }
        return run.finish();
    }
    let mut run = Run::new(at, state);
    run.unknowns = std::mem::take(&mut unknowns);
    if let Some(files) = only {
        let end = files.iter().find(|file| !run.file(file));
        let (mut state, mut unknowns) = run.finish();
        if let Some(file) = end {
            let mut ended = Start { state, unknowns };
            ended.note_unknown(Unknown::of_file(file.clone(), "ends the shell that starts the session"));
            (state, unknowns) = (ended.state, ended.unknowns);
        }
        return (state, unknowns);
    }
    read_own_files(&mut run, host, user, shell, invocation);
    if invocation.interactive {
        run.prompt();
    }
    run.finish()
}

/// The fish that a user starts: that of the account, or the first on the search path.
fn fish_of(host: &Host, user: &User, state: &State) -> Option<ByteString> {
    if path::name(&user.shell) == b"fish" {
        return Some(user.shell.clone());
    }
    let dirs = state.get(b"PATH").unwrap_or_default().split(|byte| *byte == b':');
    let found = dirs.filter(|dir| dir.starts_with(b"/")).map(|dir| path::join(dir, b"fish"));
    found.into_iter().find(|program| is_file(host, program))
}

/// The files that a shell reads by itself.
fn read_own_files(run: &mut Run<'_>, host: &Host, user: &User, shell: Shell, invocation: InvocationMode) {
    let home = |name: &[u8]| path::join(&user.home, name);
    match shell {
        Shell::Bash | Shell::BashAsSh | Shell::Dash if invocation.login => {
            let own: &[&[u8]] = match shell {
                Shell::Bash => &[b".bash_profile", b".bash_login", b".profile"],
                _ => &[b".profile"],
            };
            // What stands there and is no file is taken for the first, too, and ends in an error that nothing follows from.
            let first = own.iter().map(|name| home(name)).find(|file| host.root.has_record(file));
            let goes_on = run.file(b"/etc/profile") && first.is_none_or(|file| run.file(&file));
            if goes_on && shell != Shell::Bash && invocation.interactive {
                run.named_file(b"ENV");
            }
            if goes_on && shell == Shell::Bash && !invocation.interactive {
                run.named_file(b"BASH_ENV");
            }
        }
        Shell::Bash if invocation.interactive || (invocation.remote && !super::is_like(host, b"arch")) => {
            let _ = run.file(b"/etc/bash.bashrc") && run.file(&home(b".bashrc"));
        }
        Shell::Bash => run.named_file(b"BASH_ENV"),
        Shell::BashAsSh | Shell::Dash => {
            if invocation.interactive {
                run.named_file(b"ENV");
            }
        }
        Shell::Zsh => read_zsh_files(run, host, user, invocation),
        Shell::Fish => {}
    }
}

/// The files that zsh reads by itself: of each name the shared one, then the user's.
fn read_zsh_files(run: &mut Run<'_>, host: &Host, user: &User, invocation: InvocationMode) {
    for (name, value) in [("run-help", "man"), ("which-command", "whence")] {
        run.alias_of_its_own(name.as_bytes(), value.as_bytes());
    }
    let shared =
        if host.root.target(b"/etc/zsh").is_ok_and(|meta| meta.kind == Kind::Dir) { "/etc/zsh" } else { "/etc" };
    let names = [
        ("zshenv", true),
        ("zprofile", invocation.login),
        ("zshrc", invocation.interactive),
        ("zlogin", invocation.login),
    ];
    for name in names.iter().filter(|(_, reads)| *reads).map(|(name, _)| name) {
        if !run.file(format!("{shared}/{name}").as_bytes()) {
            break;
        }
        let own = run.variable(b"ZDOTDIR").filter(|own| !own.is_empty()).unwrap_or_else(|| user.home.to_vec());
        if !run.file(&path::join(&own, format!(".{name}").as_bytes())) {
            break;
        }
    }
}

fn is_file(host: &Host, file: &[u8]) -> bool {
    host.root.target(file).is_ok_and(|meta| meta.kind == Kind::File)
}
