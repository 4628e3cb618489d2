//! Sources, and who keeps packages current.

use super::{Example, Explanation, Family};
use crate::model::FindingKind;

/// The explanations.
pub(super) const EXPLANATIONS: &[Explanation] = &[
    Explanation {
        kind: FindingKind::UnsignedSource,
        family: Family::Origin,
        means: "A package manager accepts packages from a source without a signature.",
        cause: "Someone set `trusted=yes`, `gpgcheck=0`, `SigLevel = Never` or `gpg-verify=false`, or the source has no signature.",
        matters: "Whoever controls the server, or the way to it, can install anything with administrator rights.",
        detected: "The setting of each source is read; of apt's repositories also whether a signature was fetched with the lists. No signature is checked: that is what the manager does.",
        remedy: "Get the source's key from its owner, name it where the source is configured, and take the setting back.",
        example: Some(Example {
            subject: "Ferry stable",
            summary: "dpkg accepts packages of Ferry stable (https://apt.ferry.example) without a signature",
        }),
    },
    Explanation {
        kind: FindingKind::ExpiredKey,
        family: Family::Origin,
        means: "Every key that signs a source has expired.",
        cause: "The owner of the source extended the key or took a new one, and this machine still has the old one.",
        matters: "The next refresh fails, and nothing from this source is upgraded any more.",
        detected: "The keys that made the signature of the fetched lists are looked up in the source's keys, and their dates of expiry are compared with today.",
        remedy: "Install the newer key. Many sources bring it with a package; others publish it.",
        example: Some(Example {
            subject: "Quay stable",
            summary: "the key of Quay Packages <packages@quay.example>, which signs Quay stable, expired on 2026-02-01",
        }),
    },
    Explanation {
        kind: FindingKind::DuplicateSource,
        family: Family::Origin,
        means: "One source is configured in two places.",
        cause: "A package or an installer added a file for a source that was there already.",
        matters: "A change in one of the two places has no effect.",
        detected: "Address, suite and component of all sources in use are compared.",
        remedy: "Remove one of the two entries.",
        example: Some(Example {
            subject: "Quay stable",
            summary: "Quay stable is configured twice: in /etc/apt/sources.list.d/quay-stable.list line 1 and in /etc/apt/sources.list.d/quay.list line 1",
        }),
    },
    Explanation {
        kind: FindingKind::StaleCatalogue,
        family: Family::Origin,
        means: "The catalogue of a source was not refreshed for more than a month.",
        cause: "The machine was switched off, the job that refreshes catalogues does not run, or the source has gone.",
        matters: "Newer versions and security fixes are not known here.",
        detected: "The date of each fetched catalogue is compared with today; on a mounted disk with the date of the newest one.",
        remedy: "Refresh the catalogues, and find out why that does not happen by itself.",
        example: Some(Example { subject: "quay", summary: "the catalogue of quay was last refreshed on 2026-01-22" }),
    },
    Explanation {
        kind: FindingKind::AmbiguousIndex,
        family: Family::Origin,
        means: "A package manager takes a package from whichever of several indexes has the highest version.",
        cause: "A second index was added beside the first, usually one of a company's own beside the public one.",
        matters: "Whoever can publish a name on one of the indexes can replace a package that is meant to come from another.",
        detected: "The indexes in the settings of the system, of the user and of the project are counted, for managers that merge them.",
        remedy: "Use one index that passes the other one on, or a manager that binds each package to an index.",
        example: Some(Example {
            subject: "pip",
            summary: "pip takes a package from whichever of 2 indexes has the highest version: python.quay.example, pypi.org",
        }),
    },
    Explanation {
        kind: FindingKind::UnusedSource,
        family: Family::Origin,
        means: "No installed package came from a third-party source that is in use.",
        cause: "What it was added for was removed, or never installed.",
        matters: "It is asked at each refresh, and its owner can offer a newer version of any package.",
        detected: "The origins of all installed packages are compared with the sources that are configured.",
        remedy: "Disable or remove the source if nothing is to be installed from it.",
        example: Some(Example { subject: "Ferry stable", summary: "no installed package came from Ferry stable" }),
    },
    Explanation {
        kind: FindingKind::NobodyUpdates,
        family: Family::Origin,
        means: "Nobody upgrades this package.",
        cause: "No source offers it, its source is disabled or not configured any more, or upgrades of it are held back.",
        matters: "Security holes in it stay open. It is a warning where root or a service starts a program of it by its name.",
        detected: "The package is looked up in the catalogues of its manager's sources; holds are read from the manager's records.",
        remedy: "Install it from a source that offers it, or configure its source again.",
        example: Some(Example {
            subject: "ferryboard",
            summary: "nobody upgrades ferryboard 0.8.2-1: no source offers it",
        }),
    },
];
