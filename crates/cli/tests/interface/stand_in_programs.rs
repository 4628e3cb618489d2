//! Stack, Coursier, Lutris and fwupd as trees written by hand from their public formats. The rows of fwupd's history were
//! read back by its own `fwupdtool get-history`; of the others no judge has seen more than the documentation.

use std::fs;

use tempfile::TempDir;
use whodunit_demo::archive;

use super::stand_in_records::{Case, Damaged, ask, damage_is_said, is_read};
use super::support::{text, tree};

const PASSWD: (&str, &[u8]) = ("etc/passwd", b"maren:x:1000:1000::/home/maren:/bin/sh\n");
const BIN: &str = "home/maren/.local/share/coursier/bin";
const ARCHIVES: &str = "home/maren/.cache/coursier/arc/https/quay.example/java";

fn haskell_and_scala() -> TempDir {
    let stack = "home/maren/.stack";
    let info = r#"{"repositories":["central"],"dependencies":["org.harbour::tide-cli:latest.release"]}"#;
    let lock = "https://quay.example/maven2/org/harbour/tide-cli_3/2.4.1/tide-cli_3-2.4.1.jar#SHA-1:00\n";
    let told = archive(&[("META-INF/coursier/info.json", info), ("META-INF/coursier/lock-file", lock)]).unwrap();
    let launcher = [&b"#!/usr/bin/env sh\nexec java -jar \"$0\" \"$@\"\n"[..], &told].concat();
    let other = archive(&[("a", "b")]).unwrap();
    tree(&[
        PASSWD,
        (&format!("{stack}/programs/x86_64-linux/ghc-tinfo6-9.4.7/bin/ghc"), b"x"),
        (&format!("{stack}/programs/x86_64-linux/ghc-tinfo6-9.4.7.installed"), b""),
        (&format!("{stack}/programs/x86_64-linux/ghc-9.8.1/bin/ghc"), b"x"),
        (&format!("{stack}/snapshots/x86_64-linux/00aa/9.4.7/bin/knots"), b"x"),
        (&format!("{BIN}/tide"), &launcher),
        (&format!("{BIN}/gauge"), b"\x7fELF"),
        (&format!("{BIN}/.gauge.aux"), &told),
        (&format!("{BIN}/own"), b"#!/bin/sh\n"),
        (&format!("{BIN}/other.jar"), &other),
        ("home/maren/.cache/coursier/jvm/temurin@1.17.0.9/bin/java", b"x"),
        (&format!("{ARCHIVES}/quay-21.tar.gz/jdk-21.0.2/bin/java"), b"x"),
        (&format!("{ARCHIVES}/quay-21.tar.gz/jdk-21.0.2/release"), b"IMPLEMENTOR=\"Quay\"\nJAVA_VERSION=\"21.0.2\"\n"),
        (&format!("{ARCHIVES}/tide.zip/bin/tide"), b"x"),
    ])
}

fn games_and_firmware() -> TempDir {
    let made = tree(&[
        PASSWD,
        ("home/maren/.local/share/lutris/runners/wine/quay-9-2/bin/wine", b"x"),
        ("home/maren/.local/share/lutris/runners/boat/boat", b"x"),
        ("home/maren/Games/regatta/regatta", b"x"),
        ("srv/games/ferry/ferry", b"x"),
        ("var/lib/fwupd/", b""),
    ]);
    let open = |file: &str| rusqlite::Connection::open(made.path().join(file)).unwrap();
    open("home/maren/.local/share/lutris/pga.db")
        .execute_batch(
            "CREATE TABLE games (id INTEGER PRIMARY KEY, name TEXT, slug TEXT, runner TEXT, directory TEXT, installed INTEGER, installed_at INTEGER);
             INSERT INTO games VALUES
                (1, 'Regatta', 'regatta', 'wine', '/home/maren/Games/regatta', 1, 1767225600),
                (2, 'Ferry', 'ferry', 'linux', '/srv/games/ferry', 1, NULL),
                (3, 'Sunken', 'sunken', 'linux', '/home/maren/Games/sunken', 1, NULL),
                (4, 'Unplayed', 'unplayed', NULL, NULL, 0, NULL);",
        )
        .unwrap();
    open("var/lib/fwupd/pending.db")
        .execute_batch(
            "CREATE TABLE history (device_id TEXT, update_state INTEGER DEFAULT 0, update_error TEXT, display_name TEXT, plugin TEXT, device_modified INTEGER DEFAULT 0, version_old TEXT, version_new TEXT);
             INSERT INTO history VALUES
                ('a0', 2, NULL, 'Harbour Dock', 'dock', 1767312000, '1.0', '1.2'),
                ('b0', 3, 'the battery is too low', 'Tide Sensor', 'sensor', 1767312000, '3.0', '3.1'),
                ('c0', 1, NULL, 'Quay Lamp', 'lamp', 1767312000, '0.1', '0.2'),
                ('d0', 4, NULL, NULL, 'hub', 1767312000, '0.1', '0.2');",
        )
        .unwrap();
    made
}

#[test]
fn programs_games_and_firmware_are_read() {
    let cases: [Case<'_>; 2] = [
        (
            haskell_and_scala(),
            &[
                "stack/user:maren/00aa/9.4.7 9.4.7 explicit",
                "coursier/user:maren/gauge 2.4.1 explicit from central",
                "stack/user:maren/ghc/9.8.1 9.8.1 explicit",
                "stack/user:maren/ghc/tinfo6-9.4.7 9.4.7 explicit",
                "coursier/user:maren/java/quay-21.tar.gz 21.0.2 explicit",
                "coursier/user:maren/temurin/1.17.0.9 1.17.0.9 explicit",
                "coursier/user:maren/tide 2.4.1 explicit from central",
            ],
            &[
                (
                    "/home/maren/.stack/programs/x86_64-linux/ghc-tinfo6-9.4.7/bin/ghc",
                    "stack/user:maren/ghc/tinfo6-9.4.7",
                ),
                ("/home/maren/.stack/snapshots/x86_64-linux/00aa/9.4.7/bin/knots", "stack/user:maren/00aa/9.4.7"),
                ("/home/maren/.local/share/coursier/bin/tide", "coursier/user:maren/tide"),
                ("/home/maren/.local/share/coursier/bin/gauge", "coursier/user:maren/gauge"),
                ("/home/maren/.local/share/coursier/bin/own", ""),
                ("/home/maren/.local/share/coursier/bin/other.jar", ""),
                ("/home/maren/.cache/coursier/jvm/temurin@1.17.0.9/bin/java", "coursier/user:maren/temurin/1.17.0.9"),
                (
                    "/home/maren/.cache/coursier/arc/https/quay.example/java/quay-21.tar.gz/jdk-21.0.2/bin/java",
                    "coursier/user:maren/java/quay-21.tar.gz",
                ),
            ],
        ),
        (
            games_and_firmware(),
            &[
                "lutris/user:maren/ferry/2  explicit",
                "fwupd/system/Harbour Dock/a0 1.2 explicit",
                "fwupd/system/Quay Lamp/c0 0.1 explicit",
                "lutris/user:maren/regatta/1  explicit",
                "lutris/user:maren/sunken/3  explicit",
                "fwupd/system/Tide Sensor/b0 3.0 explicit",
                "lutris/user:maren/boat  explicit",
                "fwupd/system/d0/d0 0.1 explicit",
                "lutris/user:maren/wine/quay-9-2 quay-9-2 explicit",
            ],
            &[
                ("/home/maren/Games/regatta/regatta", "lutris/user:maren/regatta/1"),
                // A record of a user's claims nothing outside the home.
                ("/srv/games/ferry/ferry", ""),
                ("/home/maren/.local/share/lutris/runners/wine/quay-9-2/bin/wine", "lutris/user:maren/wine/quay-9-2"),
                ("/home/maren/.local/share/lutris/runners/boat/boat", "lutris/user:maren/boat"),
            ],
        ),
    ];
    cases.iter().for_each(is_read);
    let found = ask(&cases[0].0, &["inventory", "--all"]).to_string();
    assert!(found.contains("ghc-9.8.1.installed") && found.contains("it was not installed to the end"), "{found}");
    let found = ask(&cases[1].0, &["inventory", "--all"]);
    let of = |name: &str| {
        let packages = found["packages"].as_array().unwrap();
        packages.iter().find(|one| one["name"] == name).unwrap().clone()
    };
    assert_eq!(text(&of("Sunken")["status"]), "broken");
    for (name, says) in [
        ("Harbour Dock", "Harbour Dock 1.2 was written"),
        ("Tide Sensor", "Tide Sensor 3.1 could not be written: the battery is too low"),
        ("Quay Lamp", "Quay Lamp 0.2 is to be written at the next start of the machine"),
    ] {
        assert!(of(name)["evidence"].to_string().contains(says), "{name}: {}", of(name)["evidence"]);
    }
}

/// Records cut anywhere, with bytes turned over, and of the wrong kind: an answer each time, and what is lost is said.
#[test]
fn damage_to_records_of_programs_and_games_is_said() {
    let cases: [Damaged<'_>; 3] = [
        (haskell_and_scala, "home/maren/.local/share/coursier/bin/.gauge.aux"),
        (games_and_firmware, "home/maren/.local/share/lutris/pga.db"),
        (games_and_firmware, "var/lib/fwupd/pending.db"),
    ];
    let targets =
        ["/home/maren/.local/share/coursier/bin/gauge", "/home/maren/Games/regatta/regatta", "package:Quay Lamp"];
    damage_is_said(&cases, &targets.map(str::to_owned));
    // A launcher that is cut is no archive, and so nobody's.
    let root = haskell_and_scala();
    let launcher = root.path().join(BIN).join("tide");
    let whole = fs::read(&launcher).unwrap();
    fs::write(&launcher, &whole[..whole.len() - 30]).unwrap();
    let answer = ask(&root, &["owner", "/home/maren/.local/share/coursier/bin/tide"]).to_string();
    assert!(answer.contains("coursier puts programs there, and has no record of this one"), "{answer}");
}
