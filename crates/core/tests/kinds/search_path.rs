//! Directories of search paths.

use super::{CRATES, Case};
use whodunit_core::model::FindingKind::{
    DuplicateDirectory, MissingDirectory, NotExecutable, RelativeDirectory, UncertainPath, UnreachableProgram,
    WritableDirectory,
};

pub const CASES: &[Case] = &[
    Case {
        kind: MissingDirectory,
        planted: |machine| machine.file("home/maren/.profile", "PATH=$PATH:/opt/tides/bin\n"),
        found: &["note missing-directory /opt/tides/bin"],
        righted: |machine| machine.file("home/maren/.profile", "[ -d /opt/tides/bin ] && PATH=$PATH:/opt/tides/bin\n"),
        remains: &[],
    },
    Case {
        kind: DuplicateDirectory,
        planted: |machine| machine.file("home/maren/.profile", "PATH=$PATH:/usr/local/bin\n"),
        found: &["note duplicate-directory /usr/local/bin"],
        // `/bin` is a link to `/usr/bin` on every such machine, and nobody's mistake.
        righted: |machine| machine.file("home/maren/.profile", "PATH=/usr/local/bin:/usr/bin:/bin\n"),
        remains: &[],
    },
    Case {
        kind: RelativeDirectory,
        planted: |machine| machine.file("home/maren/.profile", "PATH=$PATH:\n"),
        found: &["error relative-directory "],
        righted: |machine| machine.file("home/maren/.profile", "PATH=$PATH${GAUGE:+:$GAUGE}\n"),
        remains: &[],
    },
    Case {
        kind: WritableDirectory,
        planted: |machine| {
            machine
                .file("opt/tides/bin/", "")
                .mode("opt/tides/bin", 0o777)
                .file("etc/environment", "PATH=/usr/bin:/bin:/opt/tides/bin\n")
        },
        found: &["warning writable-directory /opt/tides/bin"],
        righted: |machine| {
            machine
                .file("opt/tides/bin/", "")
                .mode("opt/tides/bin", 0o755)
                .file("etc/environment", "PATH=/usr/bin:/bin:/opt/tides/bin\n")
        },
        remains: &[],
    },
    Case {
        kind: UncertainPath,
        planted: |machine| {
            machine
                .file("home/maren/.profile", "eval \"$(lampwick --settings)\"\n")
                .programs(&["usr/local/bin/lampwick"])
        },
        found: &["note uncertain-path /home/maren/.profile"],
        // What it prints goes nowhere.
        righted: |machine| machine.file("home/maren/.profile", "pegel --settings >/dev/null\n"),
        remains: &[],
    },
    Case {
        kind: NotExecutable,
        planted: |machine| machine.file("usr/local/bin/tides", "#!/bin/sh\n").mode("usr/local/bin/tides", 0o644),
        found: &["warning not-executable tides"],
        righted: |machine| machine.file("usr/local/bin/tides", "#!/bin/sh\n"),
        remains: &[],
    },
    Case {
        kind: UnreachableProgram,
        planted: |machine| {
            machine.file("home/maren/.cargo/.crates.toml", CRATES).programs(&["home/maren/.cargo/bin/gaugeline"])
        },
        found: &["warning unreachable-program gaugeline"],
        righted: |machine| {
            machine
                .file("home/maren/.cargo/.crates.toml", CRATES)
                .programs(&["home/maren/.cargo/bin/gaugeline"])
                .file("home/maren/.profile", "PATH=$PATH:$HOME/.cargo/bin\n")
        },
        remains: &[],
    },
];
