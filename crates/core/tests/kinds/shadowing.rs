//! One copy hides another.

use super::Case;
use whodunit_core::model::FindingKind::{
    AliasHidesCommand, ContextDependentCommand, DuplicateLauncher, FunctionHidesCommand, LauncherRunsOther,
    MaskedLauncher, MaskedModule, MismatchedManual, RunsOtherCode, ShadowedCommand,
};

use crate::machine::PROGRAM;

const LAUNCHER: &str = "[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=/usr/bin/chartdesk\n";
const OWN_LAUNCHER: &str = "[Desktop Entry]\nType=Application\nName=Chart Table\nExec=/usr/bin/chartdesk\n";
const BY_NAME: &str = "[Desktop Entry]\nType=Application\nName=Chart Desk\nExec=chartdesk\n";

pub const CASES: &[Case] = &[
    Case {
        kind: ShadowedCommand,
        planted: |machine| machine.file("usr/local/bin/pegel", "#!/bin/sh\n"),
        found: &["warning shadowed-command pegel", "warning context-dependent-command pegel"],
        // The distribution's own two names of one file hide nothing.
        righted: |machine| machine.file("usr/local/bin/pegel", "-> /usr/bin/pegel"),
        remains: &[],
    },
    Case {
        kind: ContextDependentCommand,
        planted: |machine| {
            machine.append("home/maren/.profile", "PATH=$HOME/bin:$PATH\n").file("home/maren/bin/pegel", "#!/bin/sh\n")
        },
        found: &["warning shadowed-command pegel", "warning context-dependent-command pegel"],
        // Not in the search path of any context.
        righted: |machine| machine.file("home/maren/tools/pegel", "#!/bin/sh\n"),
        remains: &[],
    },
    Case {
        kind: AliasHidesCommand,
        planted: |machine| machine.user_shell("/usr/bin/bash").file("home/maren/.bashrc", "alias pegel='echo 4'\n"),
        found: &["warning alias-hides-command pegel", "note context-dependent-command pegel"],
        righted: |machine| machine.user_shell("/usr/bin/bash").file("home/maren/.bashrc", "alias pegel='pegel --cm'\n"),
        remains: &[],
    },
    Case {
        kind: FunctionHidesCommand,
        planted: |machine| machine.user_shell("/usr/bin/bash").file("home/maren/.bashrc", "pegel() { echo 4; }\n"),
        found: &["warning function-hides-command pegel", "note context-dependent-command pegel"],
        righted: |machine| {
            machine.user_shell("/usr/bin/bash").file("home/maren/.bashrc", "gauge() { echo 4; }\nunset -f gauge\n")
        },
        remains: &[],
    },
    Case {
        kind: MaskedLauncher,
        planted: |machine| {
            machine
                .deb("chartdesk", "3", "", &["usr/bin/chartdesk"])
                .owned("chartdesk", "usr/share/applications/chartdesk.desktop", LAUNCHER)
                .file("home/maren/.local/share/applications/chartdesk.desktop", OWN_LAUNCHER)
        },
        found: &["note masked-launcher chartdesk.desktop"],
        righted: |machine| {
            machine
                .deb("chartdesk", "3", "", &["usr/bin/chartdesk"])
                .owned("chartdesk", "usr/share/applications/chartdesk.desktop", LAUNCHER)
                .file("home/maren/.local/share/applications/charttable.desktop", OWN_LAUNCHER)
        },
        remains: &[],
    },
    Case {
        kind: DuplicateLauncher,
        planted: |machine| {
            machine
                .deb("chartdesk", "3", "", &["usr/bin/chartdesk"])
                .owned("chartdesk", "usr/share/applications/chartdesk.desktop", LAUNCHER)
                .file("home/maren/.local/share/applications/copy.desktop", LAUNCHER)
        },
        found: &["warning duplicate-launcher chartdesk.desktop", "warning duplicate-launcher copy.desktop"],
        // What the menu does not show is no second entry.
        righted: |machine| {
            machine
                .deb("chartdesk", "3", "", &["usr/bin/chartdesk"])
                .owned("chartdesk", "usr/share/applications/chartdesk.desktop", LAUNCHER)
                .file("home/maren/.local/share/applications/copy.desktop", &format!("{LAUNCHER}NoDisplay=true\n"))
        },
        remains: &[],
    },
    Case {
        kind: LauncherRunsOther,
        planted: |machine| {
            machine
                .deb("chartdesk", "3", "", &["usr/bin/chartdesk"])
                .owned("chartdesk", "usr/share/applications/chartdesk.desktop", BY_NAME)
                .file("usr/local/bin/chartdesk", PROGRAM)
        },
        found: &[
            "warning shadowed-command chartdesk",
            "warning context-dependent-command chartdesk",
            "warning launcher-runs-other chartdesk.desktop",
        ],
        righted: |machine| {
            machine.deb("chartdesk", "3", "", &["usr/bin/chartdesk"]).owned(
                "chartdesk",
                "usr/share/applications/chartdesk.desktop",
                BY_NAME,
            )
        },
        remains: &[],
    },
    Case {
        kind: MaskedModule,
        planted: |machine| {
            machine
                .python()
                .deb("berthplan", "1.4", "Depends: python3\n", &[])
                .owned("berthplan", "usr/bin/berthplan", "#!/usr/bin/python3\nimport mooring\n")
                .deb("python3-mooring", "0.6-1", "", &[])
                .owned("python3-mooring", "usr/lib/python3/dist-packages/mooring/__init__.py", "depth = 4\n")
                .pip("home/maren/.local/lib/python3.11/site-packages", "mooring", "0.9", "")
        },
        found: &["warning masked-module mooring", "warning bypassed-protection mooring", "note version-split mooring"],
        // Another version of the interpreter looks there, and no program of the distribution is one of its own.
        righted: |machine| {
            machine
                .python()
                .deb("python3-mooring", "0.6-1", "", &[])
                .owned("python3-mooring", "usr/lib/python3/dist-packages/mooring/__init__.py", "depth = 4\n")
                .pip("home/maren/.local/lib/python3.9/site-packages", "mooring", "0.9", "")
        },
        remains: &["note version-split mooring"],
    },
    Case {
        kind: RunsOtherCode,
        planted: |machine| {
            machine
                .python()
                .deb("mooring", "0.6-1", "Depends: python3\n", &[])
                .owned("mooring", "usr/bin/mooring", "#!/usr/bin/python3\nfrom mooring import main\nmain()\n")
                .owned("mooring", "usr/lib/python3/dist-packages/mooring/__init__.py", "def main(): pass\n")
                .pip("usr/local/lib/python3.11/dist-packages", "mooring", "0.9", "")
        },
        found: &[
            "warning masked-module mooring",
            "warning runs-other-code mooring",
            "warning bypassed-protection mooring",
        ],
        righted: |machine| {
            machine
                .python()
                .deb("mooring", "0.6-1", "Depends: python3\n", &[])
                .owned("mooring", "usr/bin/mooring", "#!/usr/bin/python3 -I\nfrom mooring import main\nmain()\n")
                .owned("mooring", "usr/lib/python3/dist-packages/mooring/__init__.py", "def main(): pass\n")
                .pip("home/maren/.local/lib/python3.11/site-packages", "mooring", "0.9", "")
        },
        remains: &["warning bypassed-protection mooring"],
    },
    Case {
        kind: MismatchedManual,
        planted: |machine| {
            machine
                .owned("pegel", "usr/share/man/man1/pegel.1", ".TH PEGEL 1\n")
                .file("usr/local/bin/pegel", "#!/bin/sh\n")
        },
        found: &[
            "warning shadowed-command pegel",
            "warning context-dependent-command pegel",
            "note mismatched-manual pegel",
        ],
        righted: |machine| machine.owned("pegel", "usr/share/man/man1/pegel.1", ".TH PEGEL 1\n"),
        remains: &[],
    },
];
