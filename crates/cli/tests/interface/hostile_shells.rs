//! Start-up files that no shell would survive, or that somebody made to mislead: an end, and a word about it.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::time::{Duration, Instant};

use super::support::{open_dir, run, tree};

/// What is said of maren's login with this profile, and the directories that are told.
fn followed(profile: &[u8], shell: &str) -> (String, String, bool) {
    let made = open_dir();
    let at = |path: &str| made.path().join(path);
    for dir in ["etc", "home/maren/.config/fish", "usr/bin"] {
        fs::create_dir_all(at(dir)).unwrap();
    }
    fs::write(at("etc/passwd"), "maren:x:1000:1000::/home/maren:/bin/bash\n").unwrap();
    for file in [".profile", ".zprofile", ".config/fish/config.fish"] {
        fs::write(at("home/maren").join(file), profile).unwrap();
    }
    // maren's own, whoever has made the tree.
    fs::set_permissions(at("home/maren"), fs::Permissions::from_mode(0o777)).unwrap();
    let start = Instant::now();
    let root = made.path().to_str().unwrap().to_owned();
    let ran = run(["--root", &root, "paths", "--shell", shell, "--inherit", "PATH=/usr/bin", "--format", "json"]);
    assert!(start.elapsed() < Duration::from_secs(20), "an end");
    let document = ran.document();
    let one = &document["contexts"][0];
    let dirs: Vec<&str> =
        one["entries"].as_array().unwrap().iter().map(|entry| entry["directory"].as_str().unwrap()).collect();
    let unknown: Vec<&str> =
        one["unknowns"].as_array().unwrap().iter().map(|unknown| unknown["says"].as_str().unwrap()).collect();
    (dirs.join(":"), unknown.join("; "), one["certain"] == true)
}

#[test]
fn bad_start_up_files_come_to_an_end_and_are_told() {
    let long = [b"X=".to_vec(), vec![b'x'; 1 << 20], b"\nPATH=/opt:$PATH\n".to_vec()].concat();
    let many = b"PATH=$PATH:/opt/x\n".repeat(70_000);
    let deep = [b"x=".to_vec(), b"$(".repeat(3000)].concat();
    let nested = [b"f() { f; f; }\nf\n".to_vec(), b"PATH=/opt:$PATH\n".to_vec()].concat();
    let replaced = [b"X=".to_vec(), vec![b'a'; 200_000], b"\nPATH=${X//a*b/c}\n".to_vec()].concat();
    // Each value is short enough; together they are gigabytes.
    let together =
        [b"x=".to_vec(), vec![b'x'; 1 << 20], b"\n".to_vec(), b"set -- \"$x\" \"$@\"\n".repeat(400)].concat();
    let cases: [(&[u8], &str, &str); 17] = [
        (&together, "sh", "a value that is too long"),
        (b"while :; do PATH=$PATH:/x; done\n", "sh", "a value that is too long"),
        (b"cd ~; while :; do i=$((i+1)); >f$i; done\n", "sh", "too many files are changed"),
        (b"cd ~; while :; do echo xxxxxxxxxxxxxxxx >>f; done\n", "sh", "too many commands"),
        (b". ~/.profile\n", "sh", "files are nested too deeply"),
        (b". ~/.zprofile\n", "zsh", "files are nested too deeply"),
        (b"source ~/.config/fish/config.fish\n", "fish", "files are nested too deeply"),
        (b"while true; set -a PATH /x; end\n", "fish", "too long"),
        (&nested, "bash", "too deeply"),
        (b"if x; then\n", "bash", "then with nothing behind it"),
        (b"PATH=\"/x\n", "bash", "a double quote is not closed"),
        (b"set PATH 'x\n", "fish", "a quote is not closed"),
        (&deep, "bash", "nested too deep"),
        (&many, "sh", "a value that is too long"),
        (&replaced, "bash", "a replacement in a value that is too long"),
        (b"PATH=/opt/$(nobody-knows):/x; . <(cat /etc/x)\n", "bash", "reads a file whose name is unknown"),
        (b"PATH=/opt/$RANDOM_$$\n", "bash", "a process id"),
    ];
    for (profile, shell, says) in cases {
        let (_, unknown, _) = followed(profile, shell);
        let shown = String::from_utf8_lossy(&profile[..profile.len().min(60)]).into_owned();
        assert!(unknown.contains(says), "{shell}: {shown}: {unknown}");
    }
    assert_eq!(followed(&long, "bash"), ("/opt:/usr/bin".to_owned(), String::new(), true));
    let (dirs, _, certain) = followed(b"PATH=/opt/\xff\xfe:$PATH\n\0\0\n", "sh");
    assert!(certain && dirs.ends_with(":/usr/bin"), "{dirs:?}");
}

/// What runs at each prompt counts where it bears on the search path.
#[test]
fn hooks_at_the_prompt_are_told_where_they_change_the_path() {
    let (_, unknown, certain) = followed(b"PROMPT_COMMAND='printf x'\n", "bash");
    assert!(certain, "{unknown}");
    let (dirs, unknown, certain) = followed(b"f() { PATH=/opt/now:$PATH; }\nPROMPT_COMMAND='f; printf x'\n", "bash");
    assert_eq!((dirs.as_str(), certain), ("/usr/bin", false));
    assert!(unknown.contains("changes the search path at each prompt"), "{unknown}");
    let (_, unknown, certain) = followed(b"g() { path+=(/opt/now) }\nprecmd_functions+=(g)\n", "zsh");
    assert!(!certain && unknown.contains("`g` changes the search path at each prompt"), "{unknown}");
}

/// What is known past the unknown is still told.
#[test]
fn what_is_known_stands_around_what_is_not() {
    let (dirs, unknown, certain) = followed(b"PATH=/opt/a:$(guess):$PATH\nPATH=/opt/b:$PATH\n", "bash");
    assert_eq!((dirs.as_str(), certain), ("/opt/b:/opt/a::/usr/bin", true), "a program that is not there: {unknown}");
    let one = b"if [ -e /dev/null ]; then :; fi\nif read -t 1 x </dev/tty; then PATH=/opt/one:$PATH; else PATH=/opt/two:$PATH; fi\nPATH=$PATH:/opt/end\n";
    let (dirs, unknown, certain) = followed(one, "bash");
    assert_eq!((dirs.as_str(), certain), ("/usr/bin:/opt/end", false));
    assert!(unknown.contains("depends on the exit status of a command that is not run"), "{unknown}");
}

/// What a context starts with may be closed to us, or a shell unknown: that is said, and the path is not certain.
#[test]
fn what_a_context_starts_with_is_in_unknown_where_it_cannot_be_read() {
    let made = open_dir();
    let at = |path: &str| made.path().join(path);
    for dir in
        ["etc/sudoers", "home/maren", "var/spool/cron/crontabs/maren", "usr/lib/systemd/user-environment-generators"]
    {
        fs::create_dir_all(at(dir)).unwrap();
    }
    fs::write(at("etc/passwd"), "maren:x:1000:1000::/home/maren:/bin/tcsh\n").unwrap();
    fs::write(at("usr/lib/systemd/user-environment-generators/50-quay"), "x").unwrap();
    let root = made.path().to_str().unwrap();
    for (context, says) in [
        ("login", "is a shell whose start-up files are not followed"),
        ("sudo", "sudo's search path may differ"),
        ("cron", "jobs may have a different search path"),
        ("user-service", "a generator that is not run"),
    ] {
        let ran = run(["--root", root, "paths", "--context", context, "--format", "json"]);
        let document = ran.document();
        let one = &document["contexts"][0];
        assert_eq!(one["certain"], false, "{context}");
        assert!(one["unknowns"].to_string().contains(says), "{context}: {one}");
    }
    let ran = run(["--root", root, "paths", "--context", "terminal", "--shell", "bash"]);
    assert!(ran.out.contains("no display manager is known here"), "{ran:?}");
}

/// A shell that is replaced by another one has what the other one makes of it.
#[test]
fn a_shell_that_replaces_another_is_followed() {
    let passwd: &[u8] = b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/bash\n";
    let ask = |bashrc: &[u8]| -> String {
        let made = tree(&[
            ("etc/passwd", passwd),
            ("usr/bin/fish", b"\x7fELF"),
            ("home/maren/.bashrc", bashrc),
            ("home/maren/.config/fish/config.fish", b"set -gx PATH /opt/fish $PATH\n"),
        ]);
        let root = made.path().to_str().unwrap();
        let arguments =
            ["--root", root, "paths", "--context", "terminal", "--inherit", "PATH=/usr/bin", "--format", "json"];
        let one = run(arguments).document()["contexts"][0].clone();
        let entries = one["entries"].as_array().unwrap().iter().map(|entry| entry["directory"].as_str().unwrap());
        format!("{} {}", entries.collect::<Vec<_>>().join(":"), one["certain"])
    };
    assert_eq!(ask(b"PATH=/opt/bash:$PATH\nexec fish\n"), "/opt/fish:/opt/bash:/usr/bin true");
    assert_eq!(ask(b"[ -x /usr/bin/fish ] && exec fish -l\nPATH=/never\n"), "/opt/fish:/usr/bin true");
    assert_eq!(ask(b"[ -x /usr/bin/zsh ] && exec zsh\nPATH=/opt/bash:$PATH\n"), "/opt/bash:/usr/bin true");
    // Which of the two it is, nobody knows.
    assert!(ask(b"gauge && exec fish\n").ends_with("true"), "there is no such program");
    assert_eq!(ask(b"exec fish -c true\n"), "/usr/bin false");
}
