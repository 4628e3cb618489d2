//! The way into a desktop session: which display manager there is, what it starts with, and which files its session
//! reads.

use super::start::{Start, compiled, read};
use super::startup::{self, InvocationMode, Shell};
use super::{Found, Overrides, Ways, systemd};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::Evidence;

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
    start.inherit(&overrides.inherit);
    let is_x11 = ["/etc/gdm3/daemon.conf", "/etc/gdm/custom.conf"].iter().any(|file| {
        let content = read(host, file.as_bytes());
        content.split(|&b| b == b'\n').any(|line| line.trim_ascii() == b"WaylandEnable=false")
    });
    let home = |name: &[u8]| path::join(&user.home, name);
    match (name, is_x11) {
        ("gdm", true) | ("lightdm", _) => {
            let is_gdm = name == "gdm";
            let profiles = [
                ByteString::from("/etc/profile"),
                home(b".profile"),
                ByteString::from("/etc/xprofile"),
                home(b".xprofile"),
            ];
            let mut files: Vec<ByteString> = if is_gdm { profiles.to_vec() } else { Vec::new() };
            let dir = b"/etc/X11/Xsession.d";
            let parts = host.root.dir(dir).and_then(|dir| dir.list()).unwrap_or_default();
            let is_part =
                |name: &ByteString| name.iter().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-'));
            let mut parts: Vec<ByteString> = parts.into_iter().map(|(name, _)| name).filter(is_part).collect();
            parts.sort();
            files.extend(parts.iter().map(|name| path::join(dir, name)));
            let sh = Shell::of(host, b"/bin/sh").unwrap_or(Shell::Dash);
            startup::files(host, user, sh, start, &files)
        }
        // A login shell without a user typing, of the user's own.
        _ => ways.started(start, InvocationMode { login: true, ..InvocationMode::default() }),
    }
}
