//! Kinds of findings: environments, links and launchers.

use super::{Example, Explanation, Family};
use crate::model::FindingKind;

/// The explanations.
pub const EXPLANATIONS: &[Explanation] = &[
    Explanation {
        kind: FindingKind::BypassedProtection,
        family: Family::Environments,
        means: "Packages of a language were installed into an interpreter that the distribution keeps for itself.",
        comes_about: "The installer was told to go past the marker, or the marker was deleted.",
        matters: "They come before the distribution's own modules, for its own programs too.",
        detected: "The marker `EXTERNALLY-MANAGED` beside the interpreter's library, and what installers have noted in its folders. A marker that a package brings and that is gone is told as well.",
        way_out: "Install the application in an environment of its own, then uninstall it here; put a deleted marker back by installing its package again.",
        example: Some(Example {
            subject: "knots",
            summary: "knots was installed into /usr/lib/python3/dist-packages, past /usr/lib/python3.11/EXTERNALLY-MANAGED",
        }),
    },
    Explanation {
        kind: FindingKind::UnmetRequirement,
        family: Family::Environments,
        means: "A package requires something that would not be imported, or only at another version.",
        comes_about: "Something was removed, or another manager's copy comes first.",
        matters: "It fails when the part that needs it is used, which may be much later.",
        detected: "What each distribution of Python declares is compared with what its interpreter would import: in every environment by itself, and for each person whose own folder comes before the system's.",
        way_out: "Install what is required, or take the copy in front away.",
        example: Some(Example {
            subject: "berthplan",
            summary: "dpkg · berthplan 1.4 requires mooring<0.8, and when maren starts /usr/bin/python3.11 what is imported is pip · mooring 0.9.0, which hides mooring 0.6",
        }),
    },
    Explanation {
        kind: FindingKind::BrokenInterpreter,
        family: Family::Environments,
        means: "A script names an interpreter that is not there.",
        comes_about: "The interpreter was removed or upgraded under it.",
        matters: "Starting it fails, though the file is there and executable.",
        detected: "The first line of every script in a folder of programs is followed. One that is looked up by name counts only where no context finds it.",
        way_out: "Install the interpreter again, or renew the environment that the script belongs to.",
        example: None,
    },
    Explanation {
        kind: FindingKind::StaleBase,
        family: Family::Environments,
        means: "A virtual environment has lost its base interpreter, or was made for another version of it.",
        comes_about: "The system's interpreter was upgraded or removed.",
        matters: "Its programs do not start, or find none of their modules.",
        detected: "The environment's settings, the link to its interpreter and its folder of modules are compared.",
        way_out: "Make the environment anew; its tool has a command for it.",
        example: None,
    },
    Explanation {
        kind: FindingKind::MissingLibrary,
        family: Family::Environments,
        means: "A program needs a shared library that the loader would not find.",
        comes_about: "The library's package was removed, or upgraded to another name.",
        matters: "The program stops at once when it is started.",
        detected: "What every program of the search path needs is looked up as the loader does, without running anything.",
        way_out: "Install the package that brings the library, or the program's package again.",
        example: None,
    },
    Explanation {
        kind: FindingKind::DanglingLink,
        family: Family::LinksAndLaunchers,
        means: "A link in a folder of programs leads to nothing.",
        comes_about: "What it leads to was removed, and the link was placed by hand.",
        matters: "The name is not found, though it is listed.",
        detected: "Every link in a folder of programs is followed.",
        way_out: "Remove the link.",
        example: Some(Example {
            subject: "/home/maren/.local/bin/pilotbook",
            summary: "/home/maren/.local/bin/pilotbook leads to /usr/bin/pilotbook, which is not there",
        }),
    },
    Explanation {
        kind: FindingKind::BrokenLauncher,
        family: Family::LinksAndLaunchers,
        means: "A launcher cannot be used.",
        comes_about: "The program that it starts is gone, or its file is damaged.",
        matters: "The menu leaves it out, and every later file of its id with it.",
        detected: "Each launcher is judged as menus do.",
        way_out: "Delete the file, or install the program again.",
        example: Some(Example {
            subject: "pilotbook.desktop",
            summary: "/home/maren/.local/share/applications/pilotbook.desktop cannot be used: Exec starts pilotbook, and there is no such program",
        }),
    },
    Explanation {
        kind: FindingKind::InvisibleLauncher,
        family: Family::LinksAndLaunchers,
        means: "An installed app's launcher lies in a folder that no session searches.",
        comes_about: "A manager keeps its launchers in a place of its own, and nothing tells the session.",
        matters: "The app is in no menu.",
        detected: "The folders in which managers put launchers are compared with those of the session.",
        way_out: "Add the folder to `XDG_DATA_DIRS` in the file that the evidence names, and log in again.",
        example: Some(Example {
            subject: "semaphore.desktop",
            summary: "semaphore.desktop is installed, and no searched folder has its launcher",
        }),
    },
    Explanation {
        kind: FindingKind::NotExecutable,
        family: Family::LinksAndLaunchers,
        means: "A program may not be executed.",
        comes_about: "A bundle was downloaded and never made a program, or a copy lost its permissions.",
        matters: "It cannot be started, and a name is looked up past it.",
        detected: "Bundles, and the files in folders where people put their own programs, that begin as programs do.",
        way_out: "`chmod +x` makes it a program.",
        example: Some(Example {
            subject: "Foghorn",
            summary: "/home/maren/Downloads/Foghorn-1.5.0-x86_64.AppImage, Foghorn 1.5.0, may not be executed",
        }),
    },
];
