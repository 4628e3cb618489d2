//! The machine itself: its name, its system, its users, and what a login starts with.

use crate::WriteError;
use crate::tree::Tree;

/// The day on which the machine was set up: 2026-01-12, 08:00 UTC.
pub const SET_UP: i64 = 1_768_204_800;

const OS_RELEASE: &str = "\
PRETTY_NAME=\"Breakwater 12\"
NAME=\"Breakwater\"
VERSION_ID=\"12\"
ID=breakwater
ID_LIKE=debian
";

const PASSWD: &str = "\
root:x:0:0:root:/root:/bin/bash
daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin
maren:x:1000:1000:Maren,harbour office,,:/home/maren:/bin/bash
tobin:x:1001:1001:Tobin,weather hut,,:/home/tobin:/bin/zsh
nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin
";

const LOGIN_DEFS: &str = "\
# What a login starts with.
ENV_SUPATH\tPATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
ENV_PATH\tPATH=/usr/local/bin:/usr/bin:/bin:/usr/games
UID_MIN\t1000
";

const PROFILE: &str = "\
# Read by a login shell.
if [ -n \"$BASH_VERSION\" ] && [ -f \"$HOME/.bashrc\" ]; then
    . \"$HOME/.bashrc\"
fi
PATH=\"/home/linuxbrew/.linuxbrew/bin:$PATH\"
PATH=\"$HOME/.npm-global/bin:$HOME/.cargo/bin:$PATH\"
if [ -d \"$HOME/.local/bin\" ]; then
    PATH=\"$HOME/.local/bin:$PATH\"
fi
";

const SYSTEM_PROFILE: &str = "\
# Read by every login shell.
if [ \"$(id -u)\" -eq 0 ]; then
    PATH=\"/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin\"
else
    PATH=\"/usr/local/bin:/usr/bin:/bin:/usr/games\"
fi
export PATH
for part in /etc/profile.d/*.sh; do
    if [ -r \"$part\" ]; then
        . \"$part\"
    fi
done
unset part
";

const BASHRC: &str = "\
# Read by every bash that somebody types into.
case $- in
    *i*) ;;
    *) return ;;
esac
alias ll='ls -l'
alias tide='tidegauge --now'
export PATH=\"$HOME/.nix-profile/bin:$PATH\"
";

const ZSHENV: &str = "\
typeset -U path
path=(~/.cargo/bin $path)
";

const ZSHRC: &str = "\
path+=(/opt/harbour/bin)
eval \"$(lampwick --settings)\"
barolog() { command barolog --metric \"$@\"; }
";

const SUDOERS: &str = "\
Defaults\tenv_reset
Defaults\tsecure_path=\"/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin\"
root\tALL=(ALL:ALL) ALL
maren\tALL=(ALL:ALL) ALL
";

const CRONTAB: &str = "\
# Jobs of the system.
SHELL=/bin/sh
PATH=/usr/local/sbin:/usr/local/bin:/sbin:/bin:/usr/sbin:/usr/bin
17 *\t* * *\troot\tbarolog --log
";

const ROOT_PROFILE: &str = "\
PATH=\"/opt/harbour/bin:$PATH\"
";

/// Writes what no package brings.
pub fn write(tree: &Tree) -> Result<(), WriteError> {
    write_healthy(tree)?;
    for (path, content) in [("root/.profile", ROOT_PROFILE), ("home/tobin/.zshrc", ZSHRC)] {
        tree.file(path, content.as_bytes(), 0o644, SET_UP)?;
    }
    // Somebody opened it so that both could put programs there.
    tree.open_dir("opt/harbour/bin")
}

/// The same of a machine with which nothing is wrong.
pub fn write_healthy(tree: &Tree) -> Result<(), WriteError> {
    for dir in ["usr/bin", "usr/sbin", "usr/lib", "usr/games", "tmp", "root", "home/maren", "home/tobin", "opt"] {
        tree.dir(dir)?;
    }
    for (link, target) in [("bin", "usr/bin"), ("sbin", "usr/sbin"), ("lib", "usr/lib")] {
        tree.link(link, target)?;
    }
    for (path, content) in [
        ("etc/os-release", OS_RELEASE),
        ("etc/hostname", "lantern\n"),
        ("etc/passwd", PASSWD),
        ("etc/login.defs", LOGIN_DEFS),
        ("etc/profile", SYSTEM_PROFILE),
        ("etc/sudoers", SUDOERS),
        ("etc/crontab", CRONTAB),
        ("etc/X11/default-display-manager", "/usr/sbin/gdm3\n"),
        ("home/maren/.profile", PROFILE),
        ("home/maren/.bashrc", BASHRC),
        ("home/tobin/.zshenv", ZSHENV),
    ] {
        tree.file(path, content.as_bytes(), 0o644, SET_UP)?;
    }
    Ok(())
}
