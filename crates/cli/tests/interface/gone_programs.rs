//! Units, cron jobs, autostart entries and default applications that name what is gone; and those that only look so.

use super::support::{run, tree};

/// A file of a machine: where it is, and what is in it.
type File<'a> = (&'a str, &'a [u8]);

const SERVICE: &[u8] = b"[Service]\nExecStart=/opt/tide/bin/watch --all\n";
const PASSWD: File<'_> = (
    "etc/passwd",
    b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\ntobin:x:1001:1001::/home/tobin:/bin/sh\n",
);

/// What is told of a machine with these files, as `kind subject: path…`.
fn told(files: &[File<'_>]) -> Vec<String> {
    let mut all: Vec<File<'_>> =
        vec![PASSWD, ("usr/bin/watch", b"\x7fELF"), ("home/maren/", b""), ("home/tobin/", b"")];
    all.extend(files);
    let made = tree(&all);
    let document = run(["--root", made.path().to_str().unwrap(), "leftovers", "--format", "json"]).document();
    let found = document["findings"].as_array().unwrap().iter();
    let text = |value: &serde_json::Value| value.as_str().unwrap().to_owned();
    found
        .filter(|one| one["kind"] != "missing-directory")
        .map(|one| {
            let paths: Vec<String> = one["paths"].as_array().unwrap().iter().map(text).collect();
            format!("{} {}: {}", text(&one["kind"]), text(&one["subject"]), paths.join(" "))
        })
        .collect()
}

/// A page or a completion of a command that nothing here has; and those of what a package, a shell or a function has.
#[test]
fn pages_and_completions_of_commands_that_are_gone_are_told() {
    let own = "home/maren/.local/share";
    let fish = "home/maren/.config/fish";
    let local = "usr/local/share";
    let status = b"Package: knots\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n\n";
    let at = |below: &str| format!("{own}/{below}");
    let files = [
        (format!("{local}/man/man1/tide.1.gz"), &b"x"[..]),
        (format!("{local}/bash-completion/completions/tide"), b"complete -W go tide\n"),
        (at("bash-completion/completions/tide"), b"complete -W go tide\n"),
        (format!("{fish}/completions/tern.fish"), b"complete -c tern\n"),
        // A library's page; a part of a command; a command of the shell, a function, an alias; a file of a package's.
        (format!("{local}/man/man3/tide.3"), b"x"),
        (format!("{local}/man/man1/watch-tide.1"), b"x"),
        (format!("{fish}/completions/cd.fish"), b"x"),
        (format!("{fish}/completions/moor.fish"), b"x"),
        (format!("{fish}/functions/moor.fish"), b"function moor; end\n"),
        (at("bash-completion/completions/buoy"), b"x"),
        ("home/maren/.bashrc".to_owned(), b"alias buoy=watch\n"),
        (format!("{local}/man/man1/knots.1"), b"x"),
        ("var/lib/dpkg/status".to_owned(), status),
        ("var/lib/dpkg/info/knots.list".to_owned(), b"/usr/local/share/man/man1/knots.1\n"),
        (format!("{local}/zsh/site-functions/_tools"), b"#compdef tide watch\n"),
        (format!("{local}/zsh/site-functions/helper"), b"x"),
        ("home/maren/.zshrc".to_owned(), b""),
    ];
    let mut files: Vec<File<'_>> = files.iter().map(|(path, content)| (path.as_str(), *content)).collect();
    files.push(("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/bash\n"));
    let mut expected = [
        "stray-companion tern: /home/maren/.config/fish/completions/tern.fish",
        "stray-companion tide: /home/maren/.local/share/bash-completion/completions/tide",
        "stray-companion tide: /usr/local/share/man/man1/tide.1.gz /usr/local/share/bash-completion/completions/tide",
    ];
    expected.sort_unstable();
    let mut found = told(&files);
    found.sort_unstable();
    assert_eq!(found, expected);
}

#[test]
fn what_starts_a_program_that_is_gone_is_told() {
    let own = "home/maren/.config";
    let unit = format!("{own}/systemd/user/tide.service");
    let wants = format!("{own}/systemd/user/default.target.wants/tide.service");
    let autostart = format!("{own}/autostart/tide.desktop");
    let list = format!("{own}/mimeapps.list");
    let entry: &[u8] = b"[Desktop Entry]\nType=Application\nName=Tide\nExec=env TIDE=1 /opt/tide/bin/watch %U\n";
    let cases: Vec<(Vec<File<'_>>, &[&str])> = vec![
        (
            vec![("etc/systemd/system/tide.service", SERVICE)],
            &["broken-job tide.service: /etc/systemd/system/tide.service"],
        ),
        (
            vec![(&unit, b"[Service]\nExecStart=%h/bin/watch\n"), (&wants, b"-> ../tide.service")],
            &[
                "broken-job tide.service: /home/maren/.config/systemd/user/tide.service /home/maren/.config/systemd/user/default.target.wants/tide.service",
            ],
        ),
        // An instance whose template is gone.
        (
            vec![(
                "etc/systemd/system/multi-user.target.wants/tide@quay.service",
                b"-> /lib/systemd/system/tide@.service",
            )],
            &["broken-job tide@quay.service: /etc/systemd/system/multi-user.target.wants/tide@quay.service"],
        ),
        (
            vec![(
                "etc/cron.d/tide",
                b"PATH=/usr/bin\n@daily root /opt/tide/bin/watch\n5 4 * * * root /usr/bin/watch\n",
            )],
            &["broken-job watch: /etc/cron.d/tide"],
        ),
        (
            vec![("var/spool/cron/crontabs/tobin", b"0 4 * * * /home/tobin/bin/watch >/dev/null\n")],
            &["broken-job watch: /var/spool/cron/crontabs/tobin"],
        ),
        (vec![(&autostart, entry)], &["broken-launcher tide.desktop: /home/maren/.config/autostart/tide.desktop"]),
        (
            vec![(
                &list,
                b"[Default Applications]\ntext/plain=tide.desktop;\n[Added Associations]\nimage/png=tide.desktop;\n",
            )],
            &["broken-association tide.desktop: /home/maren/.config/mimeapps.list"],
        ),
    ];
    for (files, expected) in cases {
        assert_eq!(told(&files), expected, "{files:?}");
    }
}

#[test]
fn an_autostart_entry_is_told_by_the_program_and_not_by_what_prepares_it() {
    let entry: &[u8] = b"[Desktop Entry]\nType=Application\nName=Tide\nExec=env TIDE=1 /opt/tide/bin/watch %U\n";
    let made = tree(&[PASSWD, ("home/maren/.config/autostart/tide.desktop", entry)]);
    let document = run(["--root", made.path().to_str().unwrap(), "leftovers", "--format", "json"]).document();
    let found = document["findings"].as_array().unwrap();
    let summaries: Vec<&str> = found.iter().map(|one| one["summary"].as_str().unwrap()).collect();
    let file = "/home/maren/.config/autostart/tide.desktop";
    let told = format!("{file} starts /opt/tide/bin/watch at each login, and there is no such program");
    assert!(summaries.contains(&told.as_str()), "{summaries:?}");
}

#[test]
fn what_works_asks_first_or_is_a_packages_own_is_not_told() {
    let status = b"Package: tide\nStatus: install ok installed\nVersion: 1\nArchitecture: all\nMaintainer: x\n";
    let list = b"/.\n/etc\n/etc/systemd/system/tide.service\n/etc/cron.d/tide\n";
    let wants = "etc/systemd/system/multi-user.target.wants/tide.service";
    let cases: Vec<Vec<File<'_>>> = vec![
        vec![("etc/systemd/system/tide.service", b"[Service]\nExecStart=/usr/bin/watch\n")],
        vec![(
            "etc/systemd/system/tide.service",
            b"[Unit]\nConditionPathExists=/opt/tide\n[Service]\nExecStart=/opt/tide/bin/watch\n",
        )],
        vec![("etc/systemd/system/tide.service", b"[Service]\nExecStart=-/opt/tide/bin/watch\n")],
        vec![("etc/systemd/system/tide.service", b"[Service]\nExecStart=/opt/%i/bin/watch\n")],
        // A drop-in takes the program back; a stronger unit masks the weaker one.
        vec![
            ("etc/systemd/system/tide.service", SERVICE),
            ("etc/systemd/system/tide.service.d/own.conf", b"[Service]\nExecStart=\nExecStart=/usr/bin/watch\n"),
        ],
        vec![
            ("etc/systemd/system/tide.service", b"-> /dev/null"),
            ("usr/local/lib/systemd/system/tide.service", SERVICE),
        ],
        // The link is looked up by its name, and what a package left enabled goes when it is purged.
        vec![
            (wants, b"-> /gone/tide.service"),
            ("usr/lib/systemd/system/tide.service", b"[Service]\nExecStart=/usr/bin/watch\n"),
        ],
        vec![
            (wants, b"-> /gone/tide.service"),
            ("var/lib/systemd/deb-systemd-helper-enabled/tide.service.dsh-also", b"/x\n"),
        ],
        vec![
            ("etc/systemd/system/tide.service", SERVICE),
            ("etc/cron.d/tide", b"@daily root /opt/tide/bin/watch\n"),
            ("var/lib/dpkg/status", status),
            ("var/lib/dpkg/info/tide.list", list),
        ],
        vec![("etc/cron.d/tide", b"@daily root [ -x /opt/tide ] && /opt/tide\n# 0 4 * * * root /opt/tide\n")],
        vec![(
            "home/maren/.config/autostart/tide.desktop",
            b"[Desktop Entry]\nType=Application\nHidden=true\nExec=/opt/tide\n",
        )],
        vec![
            ("home/maren/.config/autostart/tide.desktop", b"\xff\xfe no entry"),
            ("home/maren/.config/mimeapps.list", b"[\n=;=\n"),
        ],
        vec![
            (
                "home/maren/.config/mimeapps.list",
                b"[Default Applications]\ntext/plain=tide.desktop\n[Removed Associations]\na/b=gone.desktop;\n",
            ),
            (
                "home/maren/.local/share/applications/tide.desktop",
                b"[Desktop Entry]\nType=Application\nName=Tide\nExec=/usr/bin/watch\n",
            ),
        ],
    ];
    for files in cases {
        assert_eq!(told(&files), [""; 0], "{files:?}");
    }
}

/// A home with an environment of Python, and two versions of it of which the newer one is chosen.
fn told_of_idle(more: &[File<'_>]) -> Vec<String> {
    let config = b"home = /usr/bin\nversion = 3.11.2\n";
    let mut files: Vec<File<'_>> = vec![
        ("home/maren/lab/pyvenv.cfg", config),
        ("home/maren/lab/bin/python3", b"-> /usr/bin/python3.11"),
        ("home/maren/lab/lib/python3.11/site-packages/knots-1.0.dist-info/METADATA", b"Name: knots\nVersion: 1.0\n"),
        ("home/maren/.pyenv/versions/3.9.4/bin/python3", b"\x7fELF"),
        (
            "home/maren/.pyenv/versions/3.9.4/lib/python3.9/site-packages/pip-1.dist-info/METADATA",
            b"Name: pip\nVersion: 1\n",
        ),
        ("home/maren/.pyenv/versions/3.12.1/bin/python3", b"\x7fELF"),
        ("home/maren/.pyenv/version", b"3.12.1\n"),
        // Several versions of anything else are kept on purpose.
        ("home/maren/.sdkman/candidates/almanac/3.9.2/bin/almanac", b"\x7fELF"),
        ("home/maren/.sdkman/candidates/almanac/4.1.0/bin/almanac", b"\x7fELF"),
        ("home/maren/.sdkman/candidates/almanac/current", b"-> 4.1.0"),
    ];
    files.extend(more);
    told(&files)
}

#[test]
fn environments_and_interpreters_that_nothing_names_are_told_as_probable() {
    let (lab, old) = ("unreached-environment lab: /home/maren/lab", "unused-interpreter python: ");
    let unit = b"[Service]\nExecStart=%h/lab/bin/python3 -m knots\n";
    let cases: [(&[File<'_>], &[&str]); 11] = [
        (&[], &[lab, old]),
        (&[("home/maren/project/.python-version", b"3.9\n")], &[lab]),
        (&[("home/maren/sea/charts/tide/.tool-versions", b"nodejs 20\npython 3.9.4\n")], &[lab]),
        // What a file about another language says does not count.
        (&[("home/maren/sea/charts/.nvmrc", b"3.9\n")], &[lab, old]),
        (&[("home/maren/.local/bin/knots", b"-> ../../lab/bin/python3")], &[old]),
        (&[("home/maren/bin/knots", b"#!/home/maren/lab/bin/python3\n")], &[old]),
        (&[("home/maren/.bashrc", b". ~/lab/bin/activate\n")], &[old]),
        (&[("home/maren/.config/systemd/user/knots.service", unit)], &[old]),
        (&[("home/maren/pyproject.toml", b"")], &[old]),
        (&[("home/maren/lab/.project", b"/home/tobin\n")], &[old]),
        // An environment that is built on it.
        (
            &[
                ("home/maren/sea/tide/.git/HEAD", b"x"),
                ("home/maren/sea/tide/.venv/pyvenv.cfg", b"home = /home/maren/.pyenv/versions/3.9.4/bin\n"),
                ("home/maren/sea/tide/.venv/bin/python3", b"-> /home/maren/.pyenv/versions/3.9.4/bin/python3"),
                (
                    "home/maren/sea/tide/.venv/lib/python3.9/site-packages/x-1.dist-info/METADATA",
                    b"Name: x\nVersion: 1\n",
                ),
            ],
            &[lab],
        ),
    ];
    for (more, expected) in cases {
        let found = told_of_idle(more);
        let idle: Vec<&str> = found.iter().map(String::as_str).filter(|line| line.starts_with("un")).collect();
        assert_eq!(idle, expected, "{more:?}");
    }
}
