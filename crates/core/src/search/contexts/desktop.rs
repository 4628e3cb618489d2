//! The way into a desktop session: which display manager there is, what it starts with, and which files its session reads.

use super::start::{Start, compiled, read};
use super::startup::{self, Manner, Shell};
use super::{Found, Ways, Wish, systemd};
use crate::model::Evidence;
use crate::scene::Scene;
use crate::text::{Text, path};

/// Display managers by the name of their program, with what they have compiled in as a path, and their service's name.
const MANAGERS: [(&str, &str, &str); 3] = [
    ("gdm", "/usr/local/bin:/usr/bin:/bin:/usr/games", "gdm-password"),
    ("lightdm", "/usr/local/bin:/usr/bin:/bin:/usr/local/games:/usr/games", "lightdm"),
    ("sddm", "/bin:/usr/bin", "sddm"),
];

/// Which one is set up: Debian's file, else the link of the service.
fn manager(scene: &Scene) -> Option<(&'static str, &'static str, &'static str)> {
    let file = read(scene, b"/etc/X11/default-display-manager");
    let link = scene.root.read_link(b"/etc/systemd/system/display-manager.service");
    let name = if file.is_empty() { link.unwrap_or_default().to_vec() } else { file.trim_ascii().to_vec() };
    MANAGERS.into_iter().find(|(manager, ..)| path::name(&name).starts_with(manager.as_bytes()))
}

/// What is taken to be so where no display manager is set up.
pub fn assumed(scene: &Scene) -> Option<Evidence> {
    let says = "no display manager is known here: the session is taken to be started from a log-in on the console";
    manager(scene).is_none().then(|| Evidence::at("/etc/X11/default-display-manager", "whole file", says))
}

/// What a launcher starts programs with.
pub fn desktop(ways: &Ways<'_>, wish: &Wish) -> Found {
    // The person's own service manager is there first, and what the session has goes over it.
    let services = systemd::user_service(ways.scene, ways.person);
    let (session, doubts) = session(ways, wish);
    let mut all = services.state;
    let session = Start::exported(&session, doubts, true);
    all.variables.extend(session.state.variables);
    all.functions = session.state.functions;
    (all, session.doubts)
}

fn session(ways: &Ways<'_>, wish: &Wish) -> Found {
    let (scene, person) = (ways.scene, ways.person);
    let Some((name, own, service)) = manager(scene) else {
        return ways.login().clone();
    };
    let mut start = Start::of(person);
    start.set(b"PATH", own.as_bytes(), &compiled(name));
    start.module(scene, person, service);
    start.inherit(&wish.inherit);
    let is_x11 = ["/etc/gdm3/daemon.conf", "/etc/gdm/custom.conf"].iter().any(|file| {
        let content = read(scene, file.as_bytes());
        content.split(|&b| b == b'\n').any(|line| line.trim_ascii() == b"WaylandEnable=false")
    });
    let home = |name: &[u8]| path::join(&person.home, name);
    match (name, is_x11) {
        ("gdm", true) | ("lightdm", _) => {
            let is_gdm = name == "gdm";
            let profiles =
                [Text::from("/etc/profile"), home(b".profile"), Text::from("/etc/xprofile"), home(b".xprofile")];
            let mut files: Vec<Text> = if is_gdm { profiles.to_vec() } else { Vec::new() };
            let folder = b"/etc/X11/Xsession.d";
            let parts = scene.root.folder(folder).and_then(|folder| folder.list()).unwrap_or_default();
            let is_part = |name: &Text| name.iter().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-'));
            let mut parts: Vec<Text> = parts.into_iter().map(|(name, _)| name).filter(is_part).collect();
            parts.sort();
            files.extend(parts.iter().map(|name| path::join(folder, name)));
            let sh = Shell::of(scene, b"/bin/sh").unwrap_or(Shell::Dash);
            startup::files(scene, person, sh, start, &files)
        }
        // A log-in shell without a person typing, of the person's own.
        _ => ways.started(start, Manner { login: true, ..Manner::default() }),
    }
}
