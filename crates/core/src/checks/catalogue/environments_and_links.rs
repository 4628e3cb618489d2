//! Kinds of findings: environments, links and launchers.

use super::{Example, Explanation, Family};
use crate::model::FindingKind;

/// The explanations.
pub const EXPLANATIONS: &[Explanation] = &[
    Explanation {
        kind: FindingKind::BypassedProtection,
        family: Family::Environments,
        means: "Packages were installed into an interpreter that is managed by the distribution.",
        cause: "The installer was told to ignore the `EXTERNALLY-MANAGED` marker, or the marker was deleted.",
        matters: "Programs of the distribution also import these packages instead of the distribution's own modules.",
        detected: "The marker `EXTERNALLY-MANAGED` in the interpreter's library directory is compared with what installers have recorded in its module directories. A marker that a package contains and that does not exist is reported as well.",
        remedy: "Install the application in a virtual environment, then uninstall it here. To restore a deleted marker, reinstall the package that contains it.",
        example: Some(Example {
            subject: "knots",
            summary: "knots was installed into /usr/lib/python3/dist-packages, past /usr/lib/python3.11/EXTERNALLY-MANAGED",
        }),
    },
    Explanation {
        kind: FindingKind::UnmetRequirement,
        family: Family::Environments,
        means: "A package requires something that cannot be imported, or only at an unsuitable version.",
        cause: "A package was removed, or another package manager's copy comes first.",
        matters: "The package fails when it first uses the missing part, which may be much later.",
        detected: "The requirements that each Python distribution declares are compared with what its interpreter would import, for each environment on its own, and for each user whose module directory comes before the system's.",
        remedy: "Install what is required, or remove the copy that comes first.",
        example: Some(Example {
            subject: "berthplan",
            summary: "dpkg · berthplan 1.4 requires mooring<0.8, and when maren starts /usr/bin/python3.11 pip · mooring 0.9.0 is imported, which hides mooring 0.6",
        }),
    },
    Explanation {
        kind: FindingKind::BrokenInterpreter,
        family: Family::Environments,
        means: "A script names an interpreter that does not exist.",
        cause: "The interpreter was removed or upgraded.",
        matters: "The script fails to start although the file exists and is executable.",
        detected: "The first line of every script in a program directory is read. An interpreter that is looked up by name is reported only if no context finds it.",
        remedy: "Reinstall the interpreter, or recreate the environment that the script belongs to.",
        example: None,
    },
    Explanation {
        kind: FindingKind::StaleBase,
        family: Family::Environments,
        means: "The base interpreter of a virtual environment is missing, or has a different version.",
        cause: "The system's interpreter was upgraded or removed.",
        matters: "Programs of the environment do not start, or do not find their modules.",
        detected: "The environment's `pyvenv.cfg`, the link to its interpreter and its module directory are compared.",
        remedy: "Recreate the environment. The tool that made it has a command for that.",
        example: None,
    },
    Explanation {
        kind: FindingKind::MissingLibrary,
        family: Family::Environments,
        means: "A program needs a shared library that the dynamic loader does not find.",
        cause: "The package of the library was removed, or an upgrade changed the name of the library.",
        matters: "The program fails to start.",
        detected: "The libraries that each program in the search path needs are looked up in the loader's search order, without running anything.",
        remedy: "Install the package that contains the library, or reinstall the package of the program.",
        example: None,
    },
    Explanation {
        kind: FindingKind::DanglingLink,
        family: Family::LinksAndLaunchers,
        means: "A symbolic link in a program directory points to a file that does not exist.",
        cause: "The target was removed, and the link was created by hand.",
        matters: "The shell lists the name but cannot run it.",
        detected: "Every link in a program directory is followed.",
        remedy: "Remove the link.",
        example: Some(Example {
            subject: "/home/maren/.local/bin/pilotbook",
            summary: "/home/maren/.local/bin/pilotbook points to /usr/bin/pilotbook, which does not exist",
        }),
    },
    Explanation {
        kind: FindingKind::BrokenLauncher,
        family: Family::LinksAndLaunchers,
        means: "A launcher cannot be used.",
        cause: "The program that it starts was removed, or the launcher file is damaged.",
        matters: "The menu does not show the launcher, and ignores every other file with the same id.",
        detected: "Each launcher is evaluated by the rules that menus use.",
        remedy: "Delete the launcher file, or reinstall the program.",
        example: Some(Example {
            subject: "pilotbook.desktop",
            summary: "/home/maren/.local/share/applications/pilotbook.desktop cannot be used: Exec starts pilotbook, and there is no such program",
        }),
    },
    Explanation {
        kind: FindingKind::InvisibleLauncher,
        family: Family::LinksAndLaunchers,
        means: "The launcher of an installed application is in a directory that no session searches.",
        cause: "The package manager keeps launchers in a directory of its own, and the session is not configured to search it.",
        matters: "The menu does not show the application.",
        detected: "The directories where package managers put launchers are compared with the data directories of the sessions.",
        remedy: "Add the directory to `XDG_DATA_DIRS` in the file that the evidence names, then log in again.",
        example: Some(Example {
            subject: "semaphore.desktop",
            summary: "semaphore.desktop is installed, but its launcher is in no directory that is searched",
        }),
    },
    Explanation {
        kind: FindingKind::NotExecutable,
        family: Family::LinksAndLaunchers,
        means: "A program file is not executable.",
        cause: "A bundle was downloaded and not made executable, or a copy lost its permissions.",
        matters: "It cannot be started, and the shell skips it.",
        detected: "Bundles, and files in users' program directories that begin like programs, are examined.",
        remedy: "Make it executable with `chmod +x`.",
        example: Some(Example {
            subject: "Foghorn",
            summary: "/home/maren/Downloads/Foghorn-1.5.0-x86_64.AppImage (Foghorn 1.5.0) is not executable",
        }),
    },
];
