//! The cast: what the distribution installed, and what came by other hands. Each teaches one thing.

use crate::WriteError;
use crate::binary;
use crate::deb::{Content, Deb};
use crate::machine::SET_UP;
use crate::tree::Tree;

const DAY: i64 = 86_400;

fn program(name: &str, version: &str) -> Content {
    Content::Program(binary::packaged(name, version))
}

fn data(text: &str) -> Content {
    Content::Data(text.as_bytes().to_vec())
}

/// A package with one program, its manual and its papers.
fn simple(name: &str, version: &str, about: &'static str, date: i64) -> Deb {
    let path = format!("/usr/bin/{name}");
    Deb::new(name, version, about, date).with(&path, program(name, version)).with_papers(name)
}

/// The distribution's packages with which nothing is wrong.
pub fn healthy_packages() -> Vec<Deb> {
    let mut all = base();
    all.extend(tide());
    all.extend(charts());
    all.push(chartdesk());
    all.extend(lamps());
    all.extend(crate::python::packages());
    all.push(crate::sources::unattended());
    all
}

/// The distribution's packages.
pub fn packages() -> Vec<Deb> {
    let mut all = healthy_packages();
    // An older copy than the one that was built from source and hides it.
    all.push(simple("barolog", "1.9.3-1", "keeps the barometer's log", SET_UP + 3 * DAY));
    // Fetched by hand as a file: no repository has it.
    all.push(simple("ferryboard", "0.8.2-1", "shows which ferry leaves when", SET_UP + 9 * DAY));
    // Removed, with its settings left behind.
    let mut pilotbook = simple("pilotbook", "5.0-4", "sailing directions for the island", SET_UP + 2 * DAY);
    pilotbook.status = "deinstall ok config-files";
    all.push(pilotbook.with("/etc/pilotbook.conf", Content::Settings(b"harbour = north\n".to_vec())));
    all
}

/// What every machine of the distribution has.
fn base() -> Vec<Deb> {
    // dash lists its shell through /bin, which is a link: a trap for whoever compares spellings.
    let mut dash = Deb::new("dash", "0.5.12-6", "the shell that runs scripts", SET_UP)
        .with("/bin/dash", program("dash", "0.5.12-6"))
        .with("/bin/sh", Content::Link("dash".to_owned()));
    let mut bash =
        Deb::new("bash", "5.2.15-2", "the shell that users use", SET_UP).with("/bin/bash", program("bash", "5.2.15-2"));
    let mut dpkg =
        Deb::new("dpkg", "1.21.22", "the package manager", SET_UP).with("/usr/bin/dpkg", program("dpkg", "1.21.22"));
    let mut utils = Deb::new("breakwater-utils", "9.1-1", "the small programs that scripts lean on", SET_UP)
        .with("/usr/bin/env", program("breakwater-utils", "9.1-1"))
        .with("/usr/bin/id", program("breakwater-utils", "9.1-1"));
    for deb in [&mut dash, &mut bash, &mut dpkg, &mut utils] {
        deb.essential = true;
    }
    let apt = simple("apt", "2.6.1", "fetches packages", SET_UP);
    let flatpak = simple("flatpak", "1.14.10-1", "runs sandboxed apps", SET_UP + 14 * DAY)
        .with("/etc/profile.d/flatpak.sh", Content::Settings(FLATPAK_PROFILE.to_vec()));
    let snapd = Deb::new("snapd", "2.57.6-1", "runs snaps", SET_UP + 14 * DAY)
        .with("/usr/bin/snap", program("snapd", "2.57.6-1"))
        .with("/etc/profile.d/apps-bin-path.sh", Content::Settings(SNAP_PROFILE.to_vec()));
    let zsh = simple("zsh", "5.9-4", "a shell for users who type much", SET_UP + 15 * DAY);
    let node = Deb::new("nodejs", "18.19.0-1", "runs programs that are written in JavaScript", SET_UP + 35 * DAY)
        .with("/usr/bin/node", program("nodejs", "18.19.0-1"));
    let sudo = simple("sudo", "1.9.13-3", "lets users act as another", SET_UP);
    vec![zsh, dash, bash, dpkg, utils, apt, sudo, flatpak, snapd, node]
}

const FLATPAK_PROFILE: &[u8] = b"# Puts the directories of exported launchers first.
own=\"${XDG_DATA_HOME:-$HOME/.local/share}/flatpak/exports/share\"
case \":$XDG_DATA_DIRS:\" in
    *:\"$own\":*) ;;
    *) XDG_DATA_DIRS=\"$own:/var/lib/flatpak/exports/share:${XDG_DATA_DIRS:-/usr/local/share:/usr/share}\" ;;
esac
export XDG_DATA_DIRS
unset own
";

const SNAP_PROFILE: &[u8] = b"# Puts /snap/bin last.
case \":$PATH:\" in
    *:/snap/bin:*) ;;
    *) PATH=\"$PATH:/snap/bin\" ;;
esac
case \":$XDG_DATA_DIRS:\" in
    *:/var/lib/snapd/desktop:*) ;;
    *) XDG_DATA_DIRS=\"${XDG_DATA_DIRS:-/usr/local/share:/usr/share}:/var/lib/snapd/desktop\" ;;
esac
export XDG_DATA_DIRS
";

/// The gauge, its library for two architectures, and a table that came along.
fn tide() -> Vec<Deb> {
    let settings = Content::Settings(b"station = lantern\nheight = metres\n".to_vec());
    let mut gauge = simple("tidegauge", "3.1.4-2", "reads the tide gauge at the quay", SET_UP + DAY)
        .with("/etc/tidegauge.conf", settings);
    // As the copy from the registry of Python, which is the same software.
    gauge.depends = "python3.11 (>= 3.11)";
    let library = |arch: &'static str| {
        let dir = if arch == "amd64" { "x86_64-linux-gnu" } else { "i386-linux-gnu" };
        let mut deb = Deb::new("libtide2", "3.1.4-2", "works out heights of the tide", SET_UP + DAY)
            .with(&format!("/lib/{dir}/libtide.so.2"), Content::Data(binary::silent(arch)))
            .with("/usr/share/doc/libtide2/copyright", data("libtide2 is invented.\n"));
        deb.arch = arch;
        deb.same = true;
        deb.automatic = true;
        deb
    };
    let mut tables = Deb::new("wave-tables", "2026.1", "tables of waves and swell", SET_UP + DAY)
        .with("/usr/share/wave-tables/2026.csv", data("hour,height\n0,1.2\n"));
    tables.arch = "all";
    tables.automatic = true;
    vec![gauge, library("amd64"), library("i386"), tables]
}

/// Two viewers for one name, chosen by the alternatives system.
fn charts() -> Vec<Deb> {
    // Held back by a user.
    let mut seaglass = simple("seaglass", "2.4-1", "looks at sea charts", SET_UP + 4 * DAY);
    seaglass.status = "hold ok installed";
    vec![seaglass, simple("paperchart", "1.0.7-3", "looks at sea charts, slowly", SET_UP + 4 * DAY)]
}

/// The desktop app, with a launcher of its own and one that is for another desktop.
fn chartdesk() -> Deb {
    let entry = "[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=chartdesk %U\nCategories=Education;\n";
    let panel = "[Desktop Entry]\nType=Application\nName=Chart Panel\nExec=chartdesk --panel\nOnlyShowIn=Quayside;\n";
    simple("chartdesk", "2.6-1", "spreads sea charts on a desk", SET_UP + 7 * DAY)
        .with("/usr/share/applications/chartdesk.desktop", data(entry))
        .with("/usr/share/applications/chartdesk-panel.desktop", data(panel))
}

/// One package's program gives way to another's.
fn lamps() -> Vec<Deb> {
    vec![
        Deb::new("harbour-lamps", "1.2-1", "switches the lamps on the mole", SET_UP + 5 * DAY)
            .with_at("/usr/bin/lamp", "/usr/bin/lamp.plain", program("harbour-lamps", "1.2-1"))
            .with_papers("lamp"),
        Deb::new("foglight", "0.3-1", "lamps that know about fog", SET_UP + 6 * DAY)
            .with("/usr/bin/lamp", program("foglight", "0.3-1"))
            .with("/usr/share/doc/foglight/copyright", data("foglight is invented.\n")),
    ]
}

const CHART_VIEW: &str = "\
auto
/usr/bin/chart-view
chart-view.1
/usr/share/man/man1/chart-view.1

/usr/bin/paperchart
20
/usr/share/man/man1/paperchart.1
/bin/seaglass
50
/usr/share/man/man1/seaglass.1

";

/// What no package brings.
pub fn by_hand(tree: &Tree) -> Result<(), WriteError> {
    alternatives(tree)?;
    launchers(tree)?;
    built_from_source(tree)?;
    let script = "#!/bin/sh\n# Trims the wicks at dusk.\nexec lamp --trim \"$@\"\n";
    tree.file("usr/bin/lampwick", script.as_bytes(), 0o755, SET_UP + 20 * DAY)?;
    // An archive that somebody unpacked.
    let date = SET_UP + 25 * DAY;
    tree.file("opt/surge-1.4.2/bin/surge", &binary::of_module("quay.example/weather/surge", "v1.4.2"), 0o755, date)?;
    tree.file("opt/surge-1.4.2/README", b"Warns of storm surges.\n", 0o644, date)?;
    tree.link("usr/local/bin/surge", "/opt/surge-1.4.2/bin/surge")
}

pub fn alternatives(tree: &Tree) -> Result<(), WriteError> {
    let date = SET_UP + 4 * DAY;
    tree.file("var/lib/dpkg/alternatives/chart-view", CHART_VIEW.as_bytes(), 0o644, date)?;
    for (link, target) in [
        ("usr/bin/chart-view", "/etc/alternatives/chart-view"),
        ("usr/share/man/man1/chart-view.1", "/etc/alternatives/chart-view.1"),
        ("etc/alternatives/chart-view", "/bin/seaglass"),
        ("etc/alternatives/chart-view.1", "/usr/share/man/man1/seaglass.1"),
    ] {
        tree.link(link, target)?;
    }
    Ok(())
}

/// What maren keeps in her own menu: a launcher that masks the distribution's and starts another copy of
/// barolog, and one of a program that she has removed.
fn launchers(tree: &Tree) -> Result<(), WriteError> {
    let dir = "home/maren/.local/share/applications";
    let masking = "[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=env LANG=C chartdesk --big %U\n";
    let gone = "[Desktop Entry]\nType=Application\nName=Pilot Book\nExec=pilotbook\n";
    tree.file(&format!("{dir}/chartdesk.desktop"), masking.as_bytes(), 0o644, SET_UP + 21 * DAY)?;
    tree.file(&format!("{dir}/pilotbook.desktop"), gone.as_bytes(), 0o644, SET_UP + 3 * DAY)?;
    // And what else is left of it: a link of her own, and what it wrote into her home.
    let pages = b"north mole\tdries at low water\n";
    tree.file("home/maren/.local/share/pilotbook/pages.tsv", pages, 0o644, SET_UP + 3 * DAY)?;
    tree.dated_link("home/maren/.local/bin/pilotbook", "/usr/bin/pilotbook", SET_UP + 3 * DAY)
}

/// `make install`, 2026-02-11 at 09:14: newer than the distribution's, whose manual page stays.
fn built_from_source(tree: &Tree) -> Result<(), WriteError> {
    const DATE: i64 = 1_770_801_240;
    let pc = "prefix=/usr/local\nrelease=2.1.0\n\nName: barolog\nDescription: keeps the barometer's log\nVersion: ${release}\n";
    tree.file("usr/local/bin/barolog", &binary::silent("barolog"), 0o755, DATE)?;
    tree.file("usr/local/lib/libbarolog.so.2", &binary::silent("libbarolog"), 0o644, DATE)?;
    tree.file("usr/local/lib/pkgconfig/barolog.pc", pc.as_bytes(), 0o644, DATE + 1)?;
    tree.file("usr/local/share/barolog/stations.csv", b"mole,54.1\nquay,54.2\n", 0o644, DATE + 2)
}
