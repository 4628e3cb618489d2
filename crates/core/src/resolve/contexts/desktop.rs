//! The way into a desktop session: which display manager there is, what it starts with, and which files its session
//! reads.

use super::start::{Start, compiled, read};
use super::startup::{self, InvocationMode, Shell};
use super::{Found, Overrides, Ways, launchd, systemd};
use crate::bytes::{ByteString, path};
use crate::fs::Kind;
use crate::host::{Host, User};
use crate::model::Evidence;
use whodunit_shell::eval::Variable;

/// Display managers by the name of their program, with what they have compiled in as a path, and their service's name.
const MANAGERS: [(&str, &str, &str); 3] = [
    ("gdm", "/usr/local/bin:/usr/bin:/bin:/usr/games", "gdm-password"),
    ("lightdm", "/usr/local/bin:/usr/bin:/bin:/usr/local/games:/usr/games", "lightdm"),
    ("sddm", "/bin:/usr/bin", "sddm"),
];

/// Which one is set up: Debian's file, else the link of the service.
fn manager(host: &Host) -> Option<(&'static str, &'static str, &'static str)> {
    let file = read(host, b"/etc/X11/default-display-manager");
    let link = host.root.read_link(b"/etc/systemd/system/display-manager.service");
    let name = if file.is_empty() { link.unwrap_or_default().to_vec() } else { file.trim_ascii().to_vec() };
    MANAGERS.into_iter().find(|(manager, ..)| path::name(&name).starts_with(manager.as_bytes()))
}

/// The assumption if no display manager is set up.
pub fn assumed(host: &Host) -> Option<Evidence> {
    let says = "no display manager is known here: the session is assumed to be started from a console login";
    manager(host).is_none().then(|| Evidence::whole("/etc/X11/default-display-manager", says))
}

/// What a launcher starts programs with.
pub fn desktop(ways: &Ways<'_>, overrides: &Overrides) -> Found {
    if ways.host.is_macos() {
        let mut start = launchd::user_service(ways.host, ways.user);
        start.inherit(&overrides.inherit);
        return (start.state, start.unknowns);
    }
    // The user's own service manager is there first, and what the session has goes over it.
    let services = systemd::user_service(ways.host, ways.user);
    let (session, unknowns) = session(ways, overrides);
    let mut all = services.state;
    let session = Start::exported(&session, unknowns, true);
    all.variables.extend(session.state.variables);
    all.functions = session.state.functions;
    (all, session.unknowns)
}

fn session(ways: &Ways<'_>, overrides: &Overrides) -> Found {
    let (host, user) = (ways.host, ways.user);
    let Some((name, own, service)) = manager(host) else {
        return ways.login().clone();
    };
    let mut start = Start::of(user);
    start.set(b"PATH", own.as_bytes(), &compiled(name));
    start.module(host, user, service);
    let is_x11 = is_x11(host, user, name);
    start.set(b"XDG_SESSION_TYPE", if is_x11 { b"x11" } else { b"wayland" }, &compiled(name));
    if is_x11 {
        start.set(b"DISPLAY", b":0", &compiled(name));
    }
    start.inherit(&overrides.inherit);
    let sh = Shell::of(host, b"/bin/sh").unwrap_or(Shell::Dash);
    match (name, is_x11) {
        ("gdm", true) | ("lightdm", _) => {
            let is_own = name == "lightdm" && host.root.target(b"/etc/lightdm/Xsession").is_err();
            let files = if is_own { Vec::new() } else { profiles(user) };
            x11_session(host, user, sh, start, files)
        }
        ("sddm", _) => {
            let (state, unknowns) = sddm(ways, start, sh);
            if !is_x11 {
                return (state, unknowns);
            }
            let start = Start::exported(&state, unknowns, false);
            let files = ["/etc/xprofile".into(), path::join(&user.home, b".xprofile")];
            x11_session(host, user, sh, start, files.into())
        }
        // A login shell without a user typing, of the user's own.
        _ => ways.started(start, InvocationMode { login: true, ..InvocationMode::default() }),
    }
}

/// Whether the session is one of X11: where a display manager says so, or remembers it.
fn is_x11(host: &Host, user: &User, manager: &str) -> bool {
    match manager {
        "gdm" => ["/etc/gdm3/daemon.conf", "/etc/gdm/custom.conf"].iter().any(|file| {
            let content = read(host, file.as_bytes());
            content.split(|&b| b == b'\n').any(|line| line.trim_ascii() == b"WaylandEnable=false")
        }),
        "sddm" => {
            // The session that was chosen last, else whatever is installed.
            let own = path::join(&user.home, b".local/share/sddm/wayland-session.log");
            let last = read(host, b"/var/lib/sddm/state.conf");
            let has = |text: &[u8]| memchr::memmem::find(&last, text).is_some();
            match (has(b"/wayland-sessions/"), has(b"/xsessions/")) {
                (true, false) => false,
                (false, true) => true,
                _ => host.root.target(b"/usr/share/xsessions").is_ok() && host.root.target(&own).is_err(),
            }
        }
        _ => true,
    }
}

/// The profiles that the scripts of X11 sessions source.
fn profiles(user: &User) -> Vec<ByteString> {
    let home = |name: &[u8]| path::join(&user.home, name);
    vec!["/etc/profile".into(), home(b".profile"), "/etc/xprofile".into(), home(b".xprofile")]
}

/// The script of an X11 session: profiles, then the parts of `/etc/X11/Xsession.d`, which find the user's own files by
/// variables.
fn x11_session(host: &Host, user: &User, sh: Shell, mut start: Start, mut files: Vec<ByteString>) -> Found {
    for (name, own) in [
        (&b"USERXSESSION"[..], &b".xsession"[..]),
        (b"USERXSESSIONRC", b".xsessionrc"),
        (b"ALTUSERXSESSION", b".Xsession"),
    ] {
        let file = path::join(&user.home, own);
        start.state.variables.insert(name.to_vec(), Variable::text(file.to_vec(), false));
    }
    let options = Variable::text("/etc/X11/Xsession.options", false);
    start.state.variables.insert(b"OPTIONFILE".to_vec(), options);
    let dir = b"/etc/X11/Xsession.d";
    let parts = host.root.names_in(dir);
    let is_part = |name: &ByteString| name.iter().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-'));
    let mut parts: Vec<ByteString> = parts.into_iter().map(|(name, _)| name).filter(is_part).collect();
    parts.sort();
    files.extend(parts.iter().map(|name| path::join(dir, name)));
    startup::files(host, user, sh, start, &files)
}

/// The script of sddm's sessions, which takes the place of a login shell: it sources the files that the user's own
/// shell reads at a login, and only fish is started.
fn sddm(ways: &Ways<'_>, start: Start, sh: Shell) -> Found {
    let (host, user) = (ways.host, ways.user);
    let home = |name: &[u8]| path::join(&user.home, name);
    let is_file = |file: &ByteString| host.root.target(file).is_ok_and(|meta| meta.kind == Kind::File);
    match ways.shell {
        Some(Shell::Bash) => {
            let own = [&b".bash_profile"[..], b".bash_login", b".profile"].map(home).into_iter().find(is_file);
            let files: Vec<ByteString> = std::iter::once("/etc/profile".into()).chain(own).collect();
            startup::files(host, user, Shell::Bash, start, &files)
        }
        Some(Shell::Zsh) => {
            let shared = if host.root.dir(b"/etc/zsh").is_ok() { "/etc/zsh" } else { "/etc" };
            let names = ["zshenv", "zprofile", "zlogin"];
            let files = names
                .into_iter()
                .flat_map(|name| [ByteString::from(format!("{shared}/{name}")), home(format!(".{name}").as_bytes())]);
            startup::files(host, user, Shell::Zsh, start, &files.collect::<Vec<_>>())
        }
        shell => {
            let files = ["/etc/profile".into(), home(b".profile")];
            let found = startup::files(host, user, sh, start, &files);
            match shell {
                Some(Shell::Fish) => {
                    let login = InvocationMode { login: true, ..InvocationMode::default() };
                    ways.started(Start::exported(&found.0, found.1, false), login)
                }
                _ => found,
            }
        }
    }
}
