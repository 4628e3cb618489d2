//! Where packages came from, the states that managers record, and what is left.

use super::{CRATES, Case};
use whodunit_core::model::FindingKind::{
    AmbiguousIndex, BrokenPackage, ChosenByHand, DataLeft, DisabledRevision, DivertedProgram, DuplicateSource,
    HalfInstalled, NoOrigin, NobodyUpdates, RecordDisagrees, SettingsLeft, Sideloaded, StrayCompanion,
    UnneededDependency, UnreachedEnvironment, UnsignedSource, UnusedInterpreter, UnusedSource,
};

pub const CASES: &[Case] = &[
    Case {
        kind: NoOrigin,
        planted: |machine| machine.local_deb("lamp", "0.8-1", "", &["usr/share/lamp/bin/lamp"]),
        found: &["note no-origin lamp", "note nobody-updates lamp"],
        righted: |machine| machine.deb("lamp", "0.8-1", "", &["usr/share/lamp/bin/lamp"]),
        remains: &[],
    },
    Case {
        kind: Sideloaded,
        planted: |machine| machine.snap("gaugeline", &["x1"], "name: gaugeline\nversion: 4.4.0\n"),
        found: &["note sideloaded gaugeline"],
        righted: |machine| machine.snap("gaugeline", &["7"], "name: gaugeline\nversion: 4.4.0\n"),
        remains: &[],
    },
    Case {
        kind: UnsignedSource,
        planted: |machine| {
            machine.append("etc/apt/sources.list", "deb [trusted=yes] http://quay.example/debian bookworm main\n")
        },
        found: &["warning unsigned-source quay.example bookworm", "note unused-source quay.example bookworm"],
        righted: |machine| {
            machine.append("etc/apt/sources.list", "# deb [trusted=yes] http://quay.example/debian bookworm main\n")
        },
        remains: &[],
    },
    Case {
        kind: DuplicateSource,
        planted: |machine| {
            machine.append("etc/apt/sources.list", "deb https://deb.lantern.example/debian bookworm main\n")
        },
        found: &["note duplicate-source Lantern bookworm"],
        righted: |machine| {
            machine.append("etc/apt/sources.list", "# deb https://deb.lantern.example/debian bookworm main\n")
        },
        remains: &[],
    },
    Case {
        kind: AmbiguousIndex,
        planted: |machine| {
            machine.python().file("etc/pip.conf", "[global]\nextra-index-url = https://pypi.quay.example/simple\n")
        },
        found: &["warning ambiguous-index pip"],
        righted: |machine| {
            machine.python().file("etc/pip.conf", "[global]\nindex-url = https://pypi.quay.example/simple\n")
        },
        remains: &[],
    },
    Case {
        kind: UnusedSource,
        planted: |machine| machine.quay(""),
        found: &["note unused-source quay.example bookworm"],
        righted: |machine| machine.quay("").local_deb("tides", "1", "", &["usr/bin/tides"]),
        remains: &[],
    },
    Case {
        kind: NobodyUpdates,
        planted: |machine| machine.local_deb("lamp", "0.8-1", "", &["usr/bin/lamp"]),
        found: &["warning nobody-updates lamp", "note no-origin lamp"],
        righted: |machine| machine.deb("lamp", "0.8-1", "", &["usr/bin/lamp"]),
        remains: &[],
    },
    Case {
        kind: HalfInstalled,
        planted: |machine| machine.deb("lamp", "1", "Status: install ok half-configured\n", &["usr/bin/lamp"]),
        found: &["error half-installed lamp"],
        righted: |machine| machine.deb("lamp", "1", "Status: install ok installed\n", &["usr/bin/lamp"]),
        remains: &[],
    },
    Case {
        kind: BrokenPackage,
        planted: |machine| {
            machine
                .snap("gaugeline", &["7"], "name: gaugeline\nversion: 4.4.0\n")
                .without("var/lib/snapd/snaps/gaugeline_7.snap")
                .without("snap/gaugeline/7/meta/snap.yaml")
        },
        found: &["error broken-package gaugeline"],
        righted: |machine| machine.snap("gaugeline", &["7"], "name: gaugeline\nversion: 4.4.0\n"),
        remains: &[],
    },
    Case {
        kind: RecordDisagrees,
        planted: |machine| {
            machine
                .file("home/maren/.cargo/.crates.toml", CRATES)
                .file("home/maren/.cargo/bin/", "")
                .file("home/maren/.profile", "PATH=$PATH:$HOME/.cargo/bin\n")
        },
        found: &["warning record-disagrees gaugeline"],
        righted: |machine| {
            machine
                .file("home/maren/.cargo/.crates.toml", CRATES)
                .programs(&["home/maren/.cargo/bin/gaugeline"])
                .file("home/maren/.profile", "PATH=$PATH:$HOME/.cargo/bin\n")
        },
        remains: &[],
    },
    Case {
        kind: DivertedProgram,
        planted: |machine| {
            machine
                .file("var/lib/dpkg/diversions", "/usr/bin/pegel\n/usr/bin/pegel.plain\nlamp\n")
                .programs(&["usr/bin/pegel.plain"])
                .deb("lamp", "1", "", &["usr/bin/pegel"])
        },
        found: &["note diverted-program pegel"],
        righted: |machine| machine.file("var/lib/dpkg/diversions", "/usr/bin/tides\n/usr/bin/tides.plain\n:\n"),
        remains: &[],
    },
    Case {
        kind: ChosenByHand,
        planted: |machine| {
            machine
                .deb("gauge-a", "1", "", &["usr/bin/gauge-a"])
                .deb("gauge-b", "1", "", &["usr/bin/gauge-b"])
                .file(
                    "var/lib/dpkg/alternatives/gauge",
                    "manual\n/usr/bin/gauge\n\n/usr/bin/gauge-a\n10\n/usr/bin/gauge-b\n20\n\n",
                )
                .file("usr/bin/gauge", "-> /etc/alternatives/gauge")
                .file("etc/alternatives/gauge", "-> /usr/bin/gauge-a")
        },
        found: &["note chosen-by-hand gauge"],
        righted: |machine| {
            machine
                .deb("gauge-a", "1", "", &["usr/bin/gauge-a"])
                .deb("gauge-b", "1", "", &["usr/bin/gauge-b"])
                .file(
                    "var/lib/dpkg/alternatives/gauge",
                    "manual\n/usr/bin/gauge\n\n/usr/bin/gauge-a\n10\n/usr/bin/gauge-b\n20\n\n",
                )
                .file("usr/bin/gauge", "-> /etc/alternatives/gauge")
                .file("etc/alternatives/gauge", "-> /usr/bin/gauge-b")
        },
        remains: &[],
    },
    Case {
        kind: SettingsLeft,
        planted: |machine| {
            machine
                .local_deb(
                    "tarn",
                    "3",
                    "Status: deinstall ok config-files\nConffiles:\n /etc/tarn.conf 00000000000000000000000000000000\n",
                    &[],
                )
                .file("etc/tarn.conf", "depth = 4\n")
        },
        found: &["note settings-left tarn"],
        righted: |machine| {
            machine.append("var/lib/dpkg/status", "Package: tarn\nStatus: deinstall ok not-installed\n\n")
        },
        remains: &[],
    },
    Case {
        kind: DataLeft,
        planted: |machine| {
            machine
                .local_deb(
                    "tarn",
                    "3",
                    "Status: deinstall ok config-files\nConffiles:\n /etc/tarn.conf 00000000000000000000000000000000\n",
                    &[],
                )
                .file("etc/tarn.conf", "depth = 4\n")
                .file("home/maren/.local/share/tarn/levels", "4\n")
        },
        found: &["note settings-left tarn", "note data-left tarn"],
        righted: |machine| machine.file("home/maren/.local/share/pegel/levels", "4\n"),
        remains: &[],
    },
    Case {
        kind: UnneededDependency,
        planted: |machine| {
            machine
                .deb("wave-tables", "1", "", &[])
                .file("var/lib/apt/extended_states", "Package: wave-tables\nArchitecture: amd64\nAuto-Installed: 1\n\n")
        },
        found: &["note unneeded-dependency wave-tables"],
        righted: |machine| {
            machine
                .deb("wave-tables", "1", "", &[])
                .deb("tides", "1", "Suggests: wave-tables\n", &[])
                .file("var/lib/apt/extended_states", "Package: wave-tables\nArchitecture: amd64\nAuto-Installed: 1\n\n")
        },
        remains: &[],
    },
    Case {
        kind: DisabledRevision,
        planted: |machine| machine.snap("gaugeline", &["6", "7"], "name: gaugeline\nversion: 4.4.0\n"),
        found: &["note disabled-revision gaugeline"],
        righted: |machine| machine.snap("gaugeline", &["7"], "name: gaugeline\nversion: 4.4.0\n"),
        remains: &[],
    },
    Case {
        kind: UnreachedEnvironment,
        planted: |machine| {
            machine
                .python()
                .file("home/maren/trial/pyvenv.cfg", "home = /usr/bin\nversion = 3.11.2\n")
                .file("home/maren/trial/bin/python", "-> /usr/bin/python3.11")
                .pip("home/maren/trial/lib/python3.11/site-packages", "knots", "1.4", "")
        },
        found: &["left unreached-environment trial"],
        righted: |machine| {
            machine
                .python()
                .file("home/maren/tides/pyproject.toml", "")
                .file("home/maren/tides/.venv/pyvenv.cfg", "home = /usr/bin\nversion = 3.11.2\n")
                .file("home/maren/tides/.venv/bin/python", "-> /usr/bin/python3.11")
                .pip("home/maren/tides/.venv/lib/python3.11/site-packages", "knots", "1.4", "")
        },
        remains: &[],
    },
    Case {
        kind: StrayCompanion,
        planted: |machine| machine.file("usr/local/share/man/man1/tides.1", ".TH TIDES 1\n"),
        found: &["left stray-companion tides"],
        righted: |machine| {
            machine.file("usr/local/share/man/man1/tides.1", ".TH TIDES 1\n").programs(&["usr/local/bin/tides"])
        },
        remains: &[],
    },
    Case {
        kind: UnusedInterpreter,
        planted: |machine| {
            machine
                .programs(&[
                    "home/maren/.pyenv/versions/3.12.1/bin/python3.12",
                    "home/maren/.pyenv/versions/3.9.1/bin/python3.9",
                ])
                .file("home/maren/.pyenv/version", "3.12.1\n")
        },
        found: &["left unused-interpreter python"],
        // A project names it.
        righted: |machine| {
            machine
                .programs(&[
                    "home/maren/.pyenv/versions/3.12.1/bin/python3.12",
                    "home/maren/.pyenv/versions/3.9.1/bin/python3.9",
                ])
                .file("home/maren/.pyenv/version", "3.12.1\n")
                .file("home/maren/tides/.python-version", "3.9\n")
        },
        remains: &[],
    },
];
