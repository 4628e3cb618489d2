//! What display managers, sshd, sudo, cron and systemd start with, by their own files.

use serde_json::Value;

use super::support::{run, tree};

const PASSWD: &[u8] = b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/bash\nfenna:x:1001:1001::/home/fenna:/usr/bin/fish\nzeno:x:1002:1002::/home/zeno:/bin/zsh\n";

/// One list of one context of a tree.
fn asked(files: &[(&str, &[u8])], user: &str, context: &str, variable: &str) -> Value {
    let own = [
        ("etc/passwd", PASSWD),
        ("etc/os-release", &b"ID=debian\n"[..]),
        ("bin/dash", b"\x7fELF"),
        ("bin/sh", b"-> dash"),
    ];
    let own = own.into_iter().filter(|(name, _)| !files.iter().any(|(other, _)| other == name));
    let made = tree(&own.chain(files.iter().copied()).collect::<Vec<_>>());
    let root = made.path().to_str().unwrap();
    let arguments = ["--root", root, "paths", variable, "--context", context, "--user", user, "--format", "json"];
    run(arguments).document()["contexts"][0].clone()
}

fn list(one: &Value) -> String {
    let entries = one["entries"].as_array().unwrap().iter().map(|entry| entry["directory"].as_str().unwrap());
    entries.collect::<Vec<_>>().join(":")
}

#[test]
fn display_managers_start_sessions_by_their_own_scripts() {
    let sddm = ("etc/X11/default-display-manager", &b"/usr/bin/sddm\n"[..]);
    let wayland = ("var/lib/sddm/state.conf", &b"[Last]\nSession=/usr/share/wayland-sessions/harbour.desktop\n"[..]);
    let x11 = ("var/lib/sddm/state.conf", &b"[Last]\nSession=/usr/share/xsessions/harbour.desktop\n"[..]);
    let profile = ("etc/profile", &b"PATH=/usr/bin:/etc-profile\n"[..]);
    let by_type: &[u8] =
        b"case $XDG_SESSION_TYPE:$DISPLAY in x11::0) PATH=/x11:$PATH;; wayland:) PATH=/wl:$PATH;; esac\n";
    let lightdm = ("etc/X11/default-display-manager", &b"/usr/sbin/lightdm\n"[..]);
    let part: &[u8] = b"if [ -r \"$USERXSESSIONRC\" ]; then . \"$USERXSESSIONRC\"; fi\n";
    for (user, files, expected) in [
        // bash sources what a login would read, and is no login shell.
        (
            "maren",
            &[sddm, wayland, profile, ("home/maren/.profile", b"shopt -q login_shell && PATH=/no\nPATH=$PATH:$0\n")][..],
            "/usr/bin:/etc-profile:bash",
        ),
        (
            "zeno",
            &[
                sddm,
                wayland,
                ("etc/zsh/zprofile", b"path+=/zp\n"),
                ("home/zeno/.zshrc", b"path+=/no\n"),
                ("home/zeno/.zlogin", b"path+=/zl\n"),
            ],
            "/bin:/usr/bin:/zp:/zl",
        ),
        // For fish sh reads the profiles first.
        (
            "fenna",
            &[
                sddm,
                wayland,
                profile,
                ("home/fenna/.config/fish/config.fish", b"status is-login; and set -gx PATH /fish $PATH\n"),
            ],
            "/fish:/usr/bin:/etc-profile",
        ),
        ("maren", &[sddm, wayland, ("home/maren/.profile", by_type)], "/wl:/bin:/usr/bin"),
        (
            "maren",
            &[sddm, x11, ("home/maren/.profile", by_type), ("home/maren/.xprofile", b"PATH=/xp:$PATH\n")],
            "/xp:/x11:/bin:/usr/bin",
        ),
        (
            "maren",
            &[lightdm, ("etc/X11/Xsession.d/40rc", part), ("home/maren/.xsessionrc", b"PATH=/rc:/usr/bin\n")],
            "/rc:/usr/bin",
        ),
    ] {
        let one = asked(files, user, "desktop", "PATH");
        assert_eq!((list(&one).as_str(), &one["certain"]), (expected, &Value::Bool(true)), "{files:?}");
    }
    // A profile that dash cannot read ends the session.
    let broken = [
        ("etc/X11/default-display-manager", &b"/usr/sbin/gdm3\n"[..]),
        ("etc/gdm3/daemon.conf", b"WaylandEnable=false\n"),
        ("etc/profile", b"if true; then\n"),
    ];
    let one = asked(&broken, "maren", "desktop", "PATH");
    assert!(one["unknowns"].to_string().contains("ends the shell that starts the session"), "{one:#}");
}

#[test]
fn servers_and_services_start_with_what_their_settings_say() {
    let config = (
        "etc/ssh/sshd_config",
        &b"Include sshd_config.d/*.conf\nSetEnv PATH=/never\nMatch User x\nSetEnv MANPATH=/m\n"[..],
    );
    let own = ("etc/ssh/sshd_config.d/10-own.conf", &b"SetEnv \"PATH=/set/by/sshd\" MANPATH=/man\n"[..]);
    let asks = ("home/fenna/.config/fish/config.fish", &b"set -q SSH_CONNECTION; and set -gx PATH $PATH /ssh\n"[..]);
    let pam = ("etc/pam.d/login", &b"@include common-session\n"[..]);
    let systemd = ("etc/pam.d/common-session", &b"session optional pam_systemd.so\n"[..]);
    let by_type = ("home/maren/.profile", &b"[ \"$XDG_SESSION_TYPE\" = tty ] && PATH=/tty:$PATH\n"[..]);
    for (files, user, context, variable, expected) in [
        // Without the module of the session manager a session has no type.
        (&[pam, systemd, by_type][..], "maren", "login", "PATH", "/tty:/bin:/usr/bin"),
        (&[pam, by_type], "maren", "login", "PATH", "/bin:/usr/bin"),
        (&[config, own], "maren", "remote", "PATH", "/set/by/sshd"),
        (&[config, own], "maren", "remote", "MANPATH", "/man"),
        (&[("etc/os-release", &b"ID=fedora\n"[..])], "maren", "remote", "PATH", "/usr/local/bin:/usr/bin"),
        (
            &[("etc/os-release", b"ID=arch\n"), asks],
            "fenna",
            "remote",
            "PATH",
            "/usr/local/sbin:/usr/local/bin:/usr/bin:/ssh",
        ),
        (
            &[
                ("etc/profile", b"export MANPATH=/m XDG_DATA_DIRS=/d\n"),
                ("etc/sudoers", b"Defaults env_reset\nDefaults env_keep += \"XDG_*\"\n"),
            ],
            "maren",
            "sudo",
            "MANPATH",
            "",
        ),
        (
            &[
                ("etc/profile", b"export MANPATH=/m XDG_DATA_DIRS=/d\n"),
                ("etc/sudoers", b"Defaults env_keep += \"XDG_*\"\n"),
            ],
            "maren",
            "sudo",
            "XDG_DATA_DIRS",
            "/d",
        ),
        (
            &[("etc/profile", b"export MANPATH=/m PYTHONPATH=/p\n"), ("etc/sudoers", b"Defaults !env_reset\n")],
            "maren",
            "sudo",
            "MANPATH",
            "/m",
        ),
        (
            &[("etc/profile", b"export PYTHONPATH=/p\n"), ("etc/sudoers", b"Defaults !env_reset\n")],
            "maren",
            "sudo",
            "PYTHONPATH",
            "",
        ),
    ] {
        assert_eq!(list(&asked(files, user, context, variable)), expected, "{context} {variable} {files:?}");
    }
    let tables = [
        ("etc/cron.d/gauge", &b"PATH=/opt/gauge/bin\n* * * * * root gauge\n"[..]),
        ("etc/anacrontab", b"SHELL=/bin/sh\nPATH=/usr/sbin:/usr/bin\n"),
    ];
    let told = asked(&tables, "maren", "cron", "PATH")["others"].to_string();
    assert!(told.contains("/opt/gauge/bin") && told.contains("/etc/anacrontab"), "{told}");
    let unit = [("etc/systemd/system/gauge.service.d/path.conf", &b"[Service]\nEnvironment=\"PATH=/opt/gauge\"\n"[..])];
    let told = asked(&unit, "maren", "service", "PATH")["others"].to_string();
    assert!(told.contains("this unit has the search path /opt/gauge"), "{told}");
}

/// A condition that nobody knows leaves one of two answers: both are told, and which command decides.
#[test]
fn of_two_possible_winners_both_are_told() {
    let made = tree(&[
        ("etc/passwd", PASSWD),
        ("etc/os-release", b"ID=debian\n"),
        ("bin/dash", b"\x7fELF"),
        ("bin/sh", b"-> dash"),
        ("usr/bin/tidegauge", b"\x7fELF"),
        ("usr/bin/tide-check", b"\x7fELF"),
        ("opt/hawser/bin/tidegauge", b"\x7fELF"),
        ("opt/late/bin/tidegauge", b"\x7fELF"),
        ("opt/other/bin/sounding", b"\x7fELF"),
        (
            "home/maren/.profile",
            b"if tide-check --quiet; then PATH=/opt/hawser/bin:$PATH; fi\n\
              if tide-check -o; then PATH=$PATH:/opt/late/bin; else PATH=$PATH:/opt/other/bin; fi\n",
        ),
    ]);
    let root = made.path().to_str().unwrap();
    let shown = run(["--root", root, "owner", "tidegauge", "sounding", "--context", "login", "--user", "maren"]);
    insta::assert_snapshot!("two_possible_winners", shown.out);
    let shown = run(["--root", root, "paths", "--context", "login", "--user", "maren"]);
    insta::assert_snapshot!("two_possible_paths", shown.out);
}
