//! Records of files, requirements and environments that are damaged, closed, or made to mislead.

use std::fs;
use std::process::Command;

use serde_json::Value;

use super::support::{Closed, run, run_unprivileged, tree};

const STATUS: &[u8] = b"Package: lamp\nStatus: install ok installed\nArchitecture: all\nVersion: 1\nConffiles:\n /etc/lamp.conf 00000000000000000000000000000000\n /etc/odd name.conf newconffile\n /etc/old.conf 11111111111111111111111111111111 obsolete\n\n\
Package: half\nStatus: install ok half-configured\nArchitecture: all\nVersion: 2\n\n";

fn findings(document: &Value) -> Vec<String> {
    let told = |finding: &Value| {
        let paths: Vec<&str> = finding["paths"].as_array().unwrap().iter().filter_map(Value::as_str).collect();
        format!("{} {} {}", finding["severity"].as_str().unwrap(), finding["kind"].as_str().unwrap(), paths.join(" "))
    };
    document["findings"].as_array().unwrap().iter().map(told).collect()
}

#[test]
fn records_of_files_that_lie_cost_themselves() {
    let tree = tree(&[
        ("var/lib/dpkg/status", STATUS),
        ("var/lib/dpkg/info/lamp.list", b"/.\n/usr\n/usr/bin\n/usr/bin/lamp\n/usr/bin/pipe\n/usr/bin/loop\n/usr/bin/directory\n/usr/bin/gone\n/etc/lamp.conf\n/etc/odd name.conf\n/etc/old.conf\n/usr/share/doc/lamp/copyright\n/../../escape\n"),
        ("var/lib/dpkg/info/lamp.md5sums", b"d41d8cd98f00b204e9800998ecf8427e  usr/bin/lamp\nd41d8cd98f00b204e9800998ecf8427e  usr/bin/pipe\nd41d8cd98f00b204e9800998ecf8427e  usr/bin/loop\nd41d8cd98f00b204e9800998ecf8427e  usr/bin/directory\nshort\n"),
        ("var/lib/dpkg/info/half.list", b"/.\n/usr/bin/half\n"),
        ("usr/bin/lamp", b""),
        ("usr/bin/loop", b"-> loop"),
        ("usr/bin/directory/", b""),
        ("etc/lamp.conf", b"changed\n"),
        ("etc/odd name.conf", b"x\n"),
    ]);
    let made = Command::new("mkfifo").arg(tree.path().join("usr/bin/pipe")).status().unwrap();
    assert!(made.success());
    let ran = run(["--root", tree.path().to_str().unwrap(), "verify", "--format", "json"]);
    let document = ran.document();
    let found = findings(&document);
    assert_eq!(
        found,
        [
            "warning altered-file /usr/bin/pipe /usr/bin/directory",
            "warning missing-file /usr/bin/gone /../../escape",
            "note altered-settings /etc/lamp.conf",
            "note missing-file /etc/old.conf /usr/share/doc/lamp/copyright",
        ],
        "{document:#}"
    );
    assert!(ran.err.contains("a line is damaged: whether a file of lamp is altered is unknown"), "{}", ran.err);
    assert!(document["unread"].to_string().contains("/usr/bin/loop"), "{document:#}");
    let checked = findings(&run(["--root", tree.path().to_str().unwrap(), "check", "--format", "json"]).document());
    assert!(checked.contains(&"error half-installed ".to_owned()), "{checked:?}");
}

#[test]
fn what_may_not_be_read_is_said_and_not_called_altered() {
    let tree = tree(&[
        ("var/lib/dpkg/status", b"Package: lamp\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n"),
        ("var/lib/dpkg/info/lamp.list", b"/.\n/usr/bin/lamp\n/usr/bin/shut\n/closed/file\n"),
        ("var/lib/dpkg/info/lamp.md5sums", b"d41d8cd98f00b204e9800998ecf8427e  usr/bin/lamp\nd41d8cd98f00b204e9800998ecf8427e  usr/bin/shut\nd41d8cd98f00b204e9800998ecf8427e  closed/file\n"),
        ("usr/bin/lamp", b""),
        ("usr/bin/shut", b""),
        ("closed/file", b""),
    ]);
    let ran = {
        let _closed = ["usr/bin/shut", "closed"].map(|path| Closed::new(tree.path().join(path)));
        run_unprivileged(["--root", tree.path().to_str().unwrap(), "verify", "--format", "json", "--strict"])
    };
    let document = ran.document();
    assert_eq!((findings(&document), ran.status), (Vec::<String>::new(), 3), "{document:#}");
    let unread = document["unread"].to_string();
    assert!(
        unread.contains("/usr/bin/shut: permission denied") && unread.contains("/closed/file: permission denied"),
        "{unread}"
    );
}

#[test]
fn requirements_that_mean_nothing_are_said() {
    let site = "home/maren/project/venv/lib/python3.11/site-packages";
    let meta = |name: &str| format!("{site}/{name}.dist-info/METADATA");
    let files: Vec<(String, Vec<u8>)> = vec![
        ("etc/passwd".to_owned(), b"maren:x:1000:1000::/home/maren:/bin/sh\n".to_vec()),
        ("home/maren/project/venv/pyvenv.cfg".to_owned(), b"home = /usr/bin\nversion = 3.11.2\n".to_vec()),
        ("home/maren/project/venv/bin/python".to_owned(), b"-> /usr/bin/python3".to_vec()),
        (meta("knots-1"), b"Metadata-Version: 2.1\nName: knots\nVersion: not a version\n\n".to_vec()),
        (
            meta("mooring-2"),
            [
                &b"Metadata-Version: 2.1\nName: mooring\nVersion: 2\nRequires-Dist: \xff\xfe\nRequires-Dist: knots>=1\n"[..],
                b"Requires-Dist: tide ; platform_release == '6'\nRequires-Dist: gone\x1b[31m>=1\n\n",
            ]
            .concat(),
        ),
    ];
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, content)| (path.as_str(), content.as_slice())).collect();
    let tree = tree(&files);
    let ran = run(["--root", tree.path().to_str().unwrap(), "conflicts", "mooring", "--format", "json"]);
    let document = ran.document();
    let found = document["findings"].as_array().unwrap();
    let says: Vec<&str> = found.iter().map(|finding| finding["summary"].as_str().unwrap()).collect();
    assert!(
        says.iter()
            .any(|says| says
                .starts_with("pip · mooring 2 requires knots>=1, and in /home/maren/project/venv pip · knots")),
        "{says:?}"
    );
    assert!(!ran.out.contains('\u{1b}'), "control characters are kept from terminals");
    assert!(ran.err.contains("is not a requirement: one of mooring is unknown"), "{}", ran.err);
    assert!(ran.err.contains("it is unknown whether line 6 applies to /home/maren/project/venv"), "{}", ran.err);
}

#[test]
fn remedies_that_touch_files_alone_do_what_they_say() {
    let dir = tempfile::tempdir().unwrap();
    let place = dir.path().join("lantern");
    whodunit_demo::write(&place, whodunit_demo::Scale::default()).unwrap();
    let root = place.to_str().unwrap();
    let check =
        || run(["--root", root, "check", "--format", "json"]).document()["findings"].as_array().unwrap().clone();
    let before = check();
    let mut followed = Vec::new();
    for finding in &before {
        let remedies = finding["remedies"].as_array().unwrap();
        // The safest comes first, but one that only runs something else changes nothing.
        let commands = remedies.iter().filter_map(|remedy| remedy["command"].as_str());
        let plain = commands.map(|command| command.trim_start_matches("sudo ").trim_start_matches("-u maren -H "));
        let commands = plain.filter(|command| !command.contains("&&"));
        let of_files = ["rm -- /", "chmod ", "mv -n ", "rm -r -- /"];
        let Some(command) =
            commands.into_iter().find(|command| of_files.iter().any(|start| command.starts_with(start)))
        else {
            continue;
        };
        if finding["kind"] == "version-split" {
            continue;
        }
        let inside = command.replace(" /", &format!(" {root}/"));
        let ran = Command::new("sh").args(["-c", &inside]).output().unwrap();
        assert!(ran.status.success(), "{inside}: {ran:?}");
        followed.push((finding["kind"].clone(), finding["subject"].clone()));
    }
    let after = check();
    assert!(followed.len() >= 6, "{followed:?}");
    for (kind, subject) in &followed {
        assert!(
            !after.iter().any(|finding| finding["kind"] == *kind && finding["subject"] == *subject),
            "{kind} {subject} is still there"
        );
    }
    assert!(after.len() <= before.len() - followed.len(), "nothing new came up");
}

#[test]
fn advice_is_for_the_machine_that_is_looked_at() {
    let passwd: &[u8] = b"root:x:0:0:root:/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n";
    let crates = b"[v1]\n\"--git=quay 1.0.0 (registry+https://quay.example)\" = [\"tally\"]\n\"shoal 2.0.0 (registry+https://quay.example)\" = [\"shoal\"]\n";
    let base: &[(&str, &[u8])] = &[
        ("etc/passwd", passwd),
        ("var/lib/dpkg/status", b"Package: lamp\nStatus: install ok installed\nVersion: 1\nArchitecture: all\n"),
        ("var/lib/dpkg/info/lamp.list", b"/.\n/usr/bin/lamp\n"),
        ("usr/bin/lamp", b"#!/bin/sh\n"),
        ("usr/bin/lampwick", b"#!/bin/sh\n"),
        ("usr/local/bin/", b""),
        ("bin/sh", b"\x7fELF"),
        ("home/maren/.cargo/.crates.toml", crates),
        ("home/maren/.cargo/bin/tally", b"\x7fELF"),
        ("home/maren/.cargo/bin/shoal", b"\x7fELF"),
    ];
    let remedies = |more: &[(&str, &[u8])], arguments: &[&str], list: &str| -> Vec<String> {
        let made = tree(&[base, more].concat());
        let root = made.path().to_str().unwrap();
        let document = run([&["--root", root], arguments, &["--format", "json"]].concat()).document();
        let all = document[list].as_array().unwrap().iter().flat_map(|one| one["remedies"].as_array().unwrap().clone());
        all.map(|remedy| format!("{} {}", remedy["command"].as_str().unwrap(), remedy["as_user"])).collect()
    };
    let unowned = ["check", "--kind", "unowned-in-managed-directory"];
    let shoal = ["owner", "package:shoal"];
    let sudo: (&str, &[u8]) = ("usr/bin/sudo", b"\x7fELF");
    // Without sudo root types it, and becomes the user by other means.
    let moved = "mv -n -t /usr/local/bin -- /usr/bin/lampwick \"root\"";
    assert!(remedies(&[], &unowned, "findings").contains(&moved.to_owned()));
    assert_eq!(remedies(&[], &shoal, "answers")[0], "su -s /bin/sh -c 'cargo uninstall shoal' -- maren \"root\"");
    assert_eq!(remedies(&[sudo], &shoal, "answers")[0], "sudo -u maren -H cargo uninstall shoal null");
    // Where only the user's own search path has the program, its path is given.
    let cargo: (&str, &[u8]) = ("home/maren/.cargo/bin/cargo", b"\x7fELF");
    assert_eq!(
        remedies(&[sudo, cargo], &shoal, "answers")[0],
        "sudo -u maren -H /home/maren/.cargo/bin/cargo uninstall shoal null"
    );
    // A name that reads like an option is in no command, and a system that comes as an image is not changed.
    assert_eq!(remedies(&[sudo], &["owner", "package:--git=quay"], "answers"), Vec::<String>::new());
    assert!(remedies(&[("ostree/repo/config", b"")], &unowned, "findings").is_empty());
}

#[test]
fn a_program_that_one_of_cargos_records_lacks_is_told() {
    let made = tree(&[
        ("etc/passwd", b"root:x:0:0:root:/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n"),
        ("home/maren/.cargo/.crates.toml", b"[v1]\n\"shoal 2.0.0 (registry+https://quay.example)\" = [\"shoal\"]\n"),
        (
            "home/maren/.cargo/.crates2.json",
            br#"{"installs":{"shoal 1.0.0 (registry+https://quay.example)":{"bins":["shoal"]},
                "tally 0.4.0 (registry+https://quay.example)":{"bins":["tally"]},
                "sedge 0.1.0 (path+file:///src/sedge)":{"bins":["sedge"]},
                "gone 0.1.0 (path+file:///src/gone)":{"bins":["gone"]}}}"#,
        ),
        ("home/maren/.cargo/bin/shoal", b"\x7fELF"),
        ("home/maren/.cargo/bin/tally", b"\x7fELF"),
        ("home/maren/.cargo/bin/sedge", b"\x7fELF"),
    ]);
    let root = made.path().to_str().unwrap();
    let document = run(["--root", root, "check", "--kind", "record-disagrees", "--format", "json"]).document();
    let told: Vec<String> = document["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|finding| format!("{} {} {}", finding["subject"], finding["paths"], finding["remedies"][0]["command"]))
        .collect();
    assert_eq!(
        told,
        [
            r#""sedge" ["/home/maren/.cargo/bin/sedge"] null"#,
            r#""tally" ["/home/maren/.cargo/bin/tally"] "su -s /bin/sh -c 'cargo install --force tally --version 0.4.0' -- maren""#
        ]
    );
}

/// What is lost is said, and an answer that it could change is not certain.
#[test]
fn what_cannot_be_read_is_never_taken_for_empty() {
    let script: &[u8] = b"#!/bin/sh\n";
    let status: &[u8] = b"Package: lamp\nStatus: install ok installed\nVersion: 1\nArchitecture: all\n";
    let passwd: &[u8] = b"root:x:0:0::/root:/bin/sh\nmaren:x:1000:1000::/home/maren:/bin/sh\n";
    let made = tree(&[
        ("usr/bin/lamp", script),
        ("usr/bin/sh", b"\x7fELF"),
        ("var/lib/dpkg/status", status),
        ("home/maren/.local/bin/lamp", script),
    ]);
    let at = |path: &str| made.path().join(path);
    let put = |path: &str, content: Option<&[u8]>| {
        let file = at(path);
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        let _ = fs::remove_file(&file);
        let _ = fs::remove_dir(&file);
        match content {
            Some(content) => fs::write(file, content).unwrap(),
            None => fs::create_dir(file).unwrap(),
        }
    };
    let list: &[u8] = b"/.\n/usr\n/usr/bin\n/usr/bin/lamp\n";
    let places = ["etc/passwd", "etc/os-release", "var/lib/dpkg/info/lamp.list"];
    let sound: [Option<&[u8]>; 3] = [Some(passwd), Some(b"ID=debian\n"), Some(list)];
    let ask = || {
        let root = made.path().to_str().unwrap();
        let ran = run(["--root", root, "--strict", "--path", "/usr/bin", "owner", "lamp", "--format", "json"]);
        let answer = ran.document()["answers"][0].clone();
        (ran.status, answer["verdict"].clone(), answer["certain"] == true, ran.err.clone())
    };
    let cut = &list[..list.len() - 3];
    for (broken, content, is_certain) in [
        (usize::MAX, None, true),
        (0, None, false),
        (0, Some(&b"\xff\0garbage"[..]), false),
        (0, Some(b""), false),
        (1, None, true),
        (2, Some(b""), false),
        (2, Some(&[0; 40]), false),
        (2, Some(cut), false),
        (2, Some(b"usr/bin/lamp\n"), false),
    ] {
        for (number, place) in places.iter().enumerate() {
            put(place, if number == broken { content } else { sound[number] });
        }
        let (status, verdict, certain, said) = ask();
        let case = format!("{broken} {content:?}: {verdict} {said}");
        assert_eq!(certain, is_certain, "{case}");
        assert_eq!(status == 3, broken != usize::MAX, "{case}");
        assert!(broken == usize::MAX || said.contains(places[broken.min(2)]), "{case}");
    }
}

/// Each of 3,000 packages depends on what each of them provides: nine million pairs, which nobody wants to read.
#[test]
fn needs_that_thousands_meet_for_thousands_are_said_not_to_be_followed() {
    let package = |number: usize| {
        format!(
            "Package: bollard{number}\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n\
             Provides: mooring\nDepends: mooring\n\n"
        )
    };
    let status: String = (0..3000).map(package).collect();
    let tree = tree(&[("var/lib/dpkg/status", status.as_bytes())]);
    let root = tree.path().to_str().unwrap();
    let ran = run(["--root", root, "why", "package:bollard7", "--format", "json"]);
    let document = ran.document();
    assert!(ran.err.contains("which needs which is unknown"), "{}", ran.err);
    assert_eq!(document["packages"][0]["is_complete"], false, "{document:#}");
    assert_eq!(document["chains"][0]["chain"].as_array().map(Vec::len), Some(1), "it alone: {document:#}");
}
