//! dpkg and the tools around it: Debian and its family.
//!
//! Follows `dpkg(1)`, `dpkg-query(1)`, `dpkg-divert(1)`, `update-alternatives(1)`, `deb-control(5)`
//! and the layout of `/var/lib/dpkg` as dpkg 1.21 writes it.
//!
//! | what | where | read by |
//! |---|---|---|
//! | packages and their state | `status`, `updates/NNNN` over it, `status.d/*` | `status.rs` |
//! | files of each package | `info/PACKAGE[:ARCH].list` | `lists.rs` |
//! | files that give way to others | `diversions` | `diversions.rs` |
//! | groups of links | `alternatives/GROUP` | `alternatives.rs` |
//! | asked for or pulled in | `/var/lib/apt/extended_states` | `marks.rs` |
//! | repositories, and what they offer | `/etc/apt`, `/var/lib/apt/lists` | `apt/` |
//!
//! Traps, each handled where its file is read: a list may spell a path through `/bin` that is found
//! as `/usr/bin` and the other way round (so claims are compared with the links in directories followed);
//! a package in state `config-files` keeps a list of its settings and their parent directories; a list
//! without a package in `status` means that the record was lost, for dpkg itself removes both.

mod alternatives;
mod apt;
mod by_name;
mod closure;
mod contract;
mod dependents;
mod diagnostics;
mod diversions;
mod file_records;
mod installation;
mod lists;
mod log;
mod marks;
mod offers;
mod pairing;
mod removal;
mod status;

use crate::backend::{CachePlace, Installation, Manager, Unattended, UpgradeCall};
use crate::fs::Kind;
use crate::host::Host;
use crate::model::{Location, ManagerId, ManagerKind, Profile, Scope};
use crate::version::upstream::Notation;

/// Where dpkg keeps its state.
const ADMIN: &[u8] = b"/var/lib/dpkg";

/// The manager.
#[derive(Debug)]
pub struct Dpkg;

impl Manager for Dpkg {
    fn id(&self) -> ManagerId {
        ManagerId("dpkg")
    }

    fn unattended(&self) -> &'static [Unattended] {
        &[("apt", "apt-get --yes")]
    }

    fn profile(&self) -> Profile {
        let notation = Notation::EpochRevision;
        Profile { has_full_catalogues: true, notation, ..Profile::of(ManagerKind::System) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[
            ("apt-get", &["upgrade", "dist-upgrade", "full-upgrade"]),
            ("apt", &["upgrade", "full-upgrade"]),
            ("aptitude", &["upgrade", "safe-upgrade", "full-upgrade"]),
            ("unattended-upgrade", &[]),
        ]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::cleared_by("packages that apt downloaded", "/var/cache/apt/archives", "apt-get clean")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let is = |path: &[u8], kind| host.root.target(path).is_ok_and(|meta| meta.kind == kind);
        let found = is(b"/var/lib/dpkg/status", Kind::File)
            || is(b"/var/lib/dpkg/status.d", Kind::Dir)
            || is(b"/var/lib/dpkg/info", Kind::Dir)
            // A directory that may not be looked into is an installation that cannot be read.
            || (is(ADMIN, Kind::Dir) && host.root.dir(ADMIN).is_err());
        let location = Location { manager: self.id(), scope: Scope::System, dir: ADMIN.into() };
        if !found {
            return Vec::new();
        }
        vec![Box::new(installation::DpkgInstallation::read(host, location))]
    }
}
