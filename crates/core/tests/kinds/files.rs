//! Versions, files against their records, environments, links and launchers.

use super::Case;
use whodunit_core::model::FindingKind::{
    BrokenAssociation, BrokenInterpreter, BrokenJob, BrokenLauncher, BypassedProtection, DanglingLink, DoomedLink,
    DuplicateTitle, HeldBack, InvisibleLauncher, MissingFile, OverwrittenFile, StaleBase, TwoOwners, UnmetRequirement,
    UnownedInManagedDirectory, VersionSplit,
};

/// What a snap says of itself, with the address of its makers.
const WITH_ADDRESS: &str = "name: gaugeline\nversion: 4.4.0\nwebsite: https://gaugeline.example\napps:\n  gaugeline:\n    command: bin/gaugeline\n";

pub const CASES: &[Case] = &[
    Case {
        kind: VersionSplit,
        planted: |machine| {
            machine.deb("gaugeline", "4.2-1", "Homepage: https://gaugeline.example/\n", &["usr/bin/gaugeline"]).snap(
                "gaugeline",
                &["7"],
                WITH_ADDRESS,
            )
        },
        found: &["warning version-split gaugeline"],
        righted: |machine| {
            machine.deb("gaugeline", "4.2-1", "Homepage: https://gaugeline.example/\n", &["usr/bin/gaugeline"])
        },
        remains: &[],
    },
    Case {
        kind: DuplicateTitle,
        planted: |machine| {
            machine.deb("gaugeline", "4.4.0-1", "Homepage: https://gaugeline.example/\n", &["usr/bin/gaugeline"]).snap(
                "gaugeline",
                &["7"],
                WITH_ADDRESS,
            )
        },
        found: &["note duplicate-title gaugeline"],
        // What comes from one place in two packages is not installed twice.
        righted: |machine| {
            machine.deb("gaugeline", "4.4.0-1", "Homepage: https://gaugeline.example/\n", &["usr/bin/gaugeline"]).deb(
                "gaugeline-data",
                "4.4.0-1",
                "Homepage: https://gaugeline.example/\n",
                &[],
            )
        },
        remains: &[],
    },
    Case {
        kind: HeldBack,
        planted: |machine| {
            machine
                .offered("pegel", "4.3-1")
                .local_deb("lamp", "1", "Status: hold ok installed\n", &[])
                .offered("lamp", "1")
                .offered("lamp", "2")
        },
        found: &["note held-back lamp", "note nobody-updates lamp"],
        // Nothing newer is there: the hold keeps nothing back.
        righted: |machine| machine.local_deb("lamp", "1", "Status: hold ok installed\n", &[]).offered("lamp", "1"),
        remains: &["note nobody-updates lamp"],
    },
    Case {
        kind: MissingFile,
        planted: |machine| machine.without("usr/bin/pegel"),
        found: &["warning missing-file pegel"],
        // The machine was told not to unpack it.
        righted: |machine| {
            machine
                .owned("pegel", "usr/share/doc/pegel/changelog.gz", "")
                .without("usr/share/doc/pegel/changelog.gz")
                .file("etc/dpkg/dpkg.cfg.d/no-docs", "path-exclude=/usr/share/doc/*\n")
        },
        remains: &[],
    },
    Case {
        kind: TwoOwners,
        planted: |machine| machine.deb("lamp", "1", "", &["bin/pegel"]),
        found: &["warning two-owners pegel"],
        // A directory belongs to all who use it.
        righted: |machine| machine.deb("lamp", "1", "", &["usr/bin/lamp"]),
        remains: &[],
    },
    Case {
        kind: OverwrittenFile,
        planted: |machine| {
            machine
                .python()
                .deb("python3-knots", "1.2-1", "", &[])
                .owned("python3-knots", "usr/lib/python3/dist-packages/knots/__init__.py", "")
                .file(
                    "var/lib/dpkg/info/python3-knots.md5sums",
                    "00000000000000000000000000000000  usr/lib/python3/dist-packages/knots/__init__.py\n",
                )
                .pip("usr/lib/python3/dist-packages", "knots", "1.4", "")
        },
        found: &[
            "warning bypassed-protection knots",
            "warning overwritten-file python3-knots",
            "warning two-owners python3-knots",
            "note version-split knots",
        ],
        righted: |machine| {
            machine.python().deb("python3-knots", "1.2-1", "", &[]).owned(
                "python3-knots",
                "usr/lib/python3/dist-packages/knots/__init__.py",
                "",
            )
        },
        remains: &[],
    },
    Case {
        kind: UnownedInManagedDirectory,
        planted: |machine| machine.programs(&["usr/bin/lampwick"]),
        found: &["warning unowned-in-managed-directory lampwick"],
        righted: |machine| machine.programs(&["usr/local/bin/lampwick", "opt/lampwick/bin/lampwick"]),
        remains: &[],
    },
    Case {
        kind: BypassedProtection,
        planted: |machine| machine.python().pip("usr/local/lib/python3.11/dist-packages", "knots", "1.4", ""),
        found: &["warning bypassed-protection knots"],
        // An environment of its own is what the marker asks for.
        righted: |machine| {
            machine
                .python()
                .file("srv/tides/pyvenv.cfg", "home = /usr/bin\nversion = 3.11.2\n")
                .file("srv/tides/bin/python", "-> /usr/bin/python3.11")
                .pip("srv/tides/lib/python3.11/site-packages", "knots", "1.4", "")
        },
        remains: &[],
    },
    Case {
        kind: UnmetRequirement,
        planted: |machine| {
            machine.python().deb("python3-knots", "1.2-1", "", &[]).owned(
                "python3-knots",
                "usr/lib/python3/dist-packages/knots-1.2.egg-info",
                "Metadata-Version: 2.1\nName: knots\nVersion: 1.2\nRequires-Dist: mooring<0.8\n\n",
            )
        },
        found: &["note unmet-requirement knots"],
        // What is only wanted on another system, or for an extra, is not wanted.
        righted: |machine| {
            machine
                .python()
                .deb("python3-knots", "1.2-1", "", &[])
                .owned("python3-knots", "usr/lib/python3/dist-packages/knots-1.2.dist-info/METADATA", "Metadata-Version: 2.1\nName: knots\nVersion: 1.2\nRequires-Dist: mooring<0.8; sys_platform == \"win32\"\nProvides-Extra: plot\nRequires-Dist: chartlib; extra == \"plot\"\n\n")
        },
        remains: &[],
    },
    Case {
        kind: UnmetRequirement,
        planted: |machine| {
            machine
                .deb("quay", "1.0", "Depends: lamp (>= 2) | lantern, pegel\n", &[])
                .deb("lamp", "1.9", "", &[])
                // A package of which only its settings remain meets nothing.
                .local_deb("lantern", "3", "Status: deinstall ok config-files\n", &[])
        },
        found: &["error unmet-requirement quay", "note settings-left lantern"],
        righted: |machine| {
            machine.deb("quay", "1.0", "Depends: lamp (>= 2) | lantern, pegel\n", &[]).deb("lamp", "1.9", "", &[]).deb(
                "pier",
                "1",
                "Provides: lantern\n",
                &[],
            )
        },
        remains: &[],
    },
    Case {
        kind: BrokenInterpreter,
        planted: |machine| machine.file("usr/local/bin/tides", "#!/opt/tides/bin/python3\n"),
        found: &["error broken-interpreter /usr/local/bin/tides"],
        righted: |machine| machine.file("usr/local/bin/tides", "#!/usr/bin/env pegel\n"),
        remains: &[],
    },
    Case {
        kind: StaleBase,
        planted: |machine| {
            machine
                .python()
                .file("home/maren/tides/pyvenv.cfg", "home = /usr/bin\nversion = 3.9.1\n")
                .file("home/maren/tides/bin/python", "-> python3.9")
                .file("home/maren/tides/bin/python3.9", "-> /usr/bin/python3.9")
                .pip("home/maren/tides/lib/python3.9/site-packages", "knots", "1.4", "")
                .file("home/maren/.profile", "PATH=$PATH:/home/maren/tides/bin\n")
        },
        found: &["error stale-base /home/maren/tides"],
        righted: |machine| {
            machine
                .python()
                .file("home/maren/tides/pyvenv.cfg", "home = /usr/bin\nversion = 3.11.2\n")
                .file("home/maren/tides/bin/python", "-> /usr/bin/python3.11")
                .file("home/maren/tides/lib/python3.11/site-packages/", "")
                .file("home/maren/.profile", "PATH=$PATH:/home/maren/tides/bin\n")
        },
        remains: &[],
    },
    Case {
        kind: DanglingLink,
        planted: |machine| machine.file("usr/local/bin/tides", "-> /opt/tides/tides"),
        found: &["warning dangling-link /usr/local/bin/tides"],
        righted: |machine| machine.programs(&["opt/tides/tides"]).file("usr/local/bin/tides", "-> /opt/tides/tides"),
        remains: &[],
    },
    Case {
        kind: DoomedLink,
        planted: |machine| {
            machine
                .snap(
                    "gaugeline",
                    &["7"],
                    "name: gaugeline\nversion: 4.4.0\napps:\n  gaugeline:\n    command: bin/gaugeline\n",
                )
                .programs(&["snap/gaugeline/7/bin/gaugeline"])
                .file("usr/local/bin/depth", "-> /snap/gaugeline/7/bin/gaugeline")
        },
        found: &["warning doomed-link /usr/local/bin/depth"],
        righted: |machine| {
            machine
                .snap(
                    "gaugeline",
                    &["7"],
                    "name: gaugeline\nversion: 4.4.0\napps:\n  gaugeline:\n    command: bin/gaugeline\n",
                )
                .programs(&["snap/gaugeline/7/bin/gaugeline"])
                .file("usr/local/bin/depth", "-> /snap/gaugeline/current/bin/gaugeline")
        },
        remains: &[],
    },
    Case {
        kind: BrokenLauncher,
        planted: |machine| {
            machine.file(
                "home/maren/.local/share/applications/tides.desktop",
                "[Desktop Entry]\nType=Application\nName=Tides\nExec=tides\n",
            )
        },
        found: &["warning broken-launcher tides.desktop"],
        // Deleted on purpose: a launcher that hides another.
        righted: |machine| {
            machine.file(
                "home/maren/.local/share/applications/tides.desktop",
                "[Desktop Entry]\nType=Application\nName=Tides\nExec=pegel\n",
            )
        },
        remains: &[],
    },
    Case {
        kind: InvisibleLauncher,
        planted: |machine| {
            machine
                .deb("snapd", "2.57", "", &["usr/bin/snap"])
                .snap("gaugeline", &["7"], "name: gaugeline\nversion: 4.4.0\napps:\n  gaugeline:\n    command: bin/gaugeline\n    desktop: gaugeline.desktop\n")
                .file("var/lib/snapd/desktop/applications/gaugeline_gaugeline.desktop", "[Desktop Entry]\nType=Application\nName=Gauge Line\nX-SnapInstanceName=gaugeline\nExec=/snap/bin/gaugeline\n")
        },
        found: &["warning invisible-launcher gaugeline_gaugeline.desktop"],
        righted: |machine| {
            machine
                .snap("gaugeline", &["7"], "name: gaugeline\nversion: 4.4.0\napps:\n  gaugeline:\n    command: bin/gaugeline\n    desktop: gaugeline.desktop\n")
                .file("var/lib/snapd/desktop/applications/gaugeline_gaugeline.desktop", "[Desktop Entry]\nType=Application\nName=Gauge Line\nX-SnapInstanceName=gaugeline\nExec=/snap/bin/gaugeline\n")
                .deb("snapd", "2.57", "", &["usr/bin/snap"])
                .file("etc/environment", "XDG_DATA_DIRS=/usr/local/share:/usr/share:/var/lib/snapd/desktop\n")
        },
        remains: &[],
    },
    Case {
        kind: BrokenJob,
        planted: |machine| machine.file("etc/cron.d/tides", "7 4 * * * root /opt/tides/publish --all\n"),
        found: &["warning broken-job publish"],
        // The line asks first.
        righted: |machine| {
            machine.file(
                "etc/cron.d/tides",
                "7 4 * * * root [ -x /opt/tides/publish ] && /opt/tides/publish --all\n8 4 * * * root pegel\n",
            )
        },
        remains: &[],
    },
    Case {
        kind: BrokenAssociation,
        planted: |machine| {
            machine.file("home/maren/.config/mimeapps.list", "[Default Applications]\ntext/x-tides=tides.desktop\n")
        },
        found: &["note broken-association tides.desktop"],
        righted: |machine| {
            machine
                .owned(
                    "pegel",
                    "usr/share/applications/pegel.desktop",
                    "[Desktop Entry]\nType=Application\nName=Pegel\nExec=pegel\n",
                )
                .file("home/maren/.config/mimeapps.list", "[Default Applications]\ntext/x-tides=pegel.desktop\n")
        },
        remains: &[],
    },
];
