//! Snap, read from disk without its daemon.
//!
//! Follows the Snapcraft documentation ("Snap format", "Revisions", "Channels", "Parallel installs",
//! "Data locations") and the state of snapd 2.57 on disk.
//!
//! | what | where | who may read it |
//! |---|---|---|
//! | revisions, the active one, channel, flags, aliases | `/var/lib/snapd/state.json` | root |
//! | the same in part: names, revisions, the active one | `/snap/NAME/REVISION`, `/snap/NAME/current` | every user |
//! | version, base, confinement, apps | `meta/snap.yaml` of a revision: mounted, else in its image `/var/lib/snapd/snaps/NAME_REV.snap` | mounted: every user; image: root |
//! | publisher | `/var/lib/snapd/assertions/asserts-v0` | every user |
//! | commands, aliases | links in `/snap/bin` | every user |
//! | launchers | `/var/lib/snapd/desktop/applications` | every user |
//! | what the store has | `/var/cache/snapd/commands.db`, `names` | every user |
//!
//! Traps: `active` is left out where it is false; nothing is mounted in an offline tree, which is no damage,
//! while a missing image is; every command is a link to `/usr/bin/snap`, so the link's own name tells the
//! snap; `version: 4.0` is a text; `sequence/NAME.json` names revisions that are gone. The state holds
//! secrets: only what is listed above is taken from it.

mod contract;
mod installation;
mod offers;
mod refresh;
mod revision;
mod state;
mod states;

use crate::backend::{CachePlace, Installation, Manager, UpgradeCall};
use crate::host::Host;
use crate::model::{Affix, ManagerId, ManagerKind, Profile};

const ID: ManagerId = ManagerId("snap");
const SNAPD: &[u8] = b"/var/lib/snapd";
const MOUNTS: &[u8] = b"/snap";

/// The manager.
#[derive(Debug)]
pub struct Snap;

impl Manager for Snap {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        let data_dirs = ["current/.config", "current/.local/share", "current/.local/state"];
        Profile {
            keeps_data_in: Some("snap"),
            data_dirs,
            deletes_data: true,
            ..Profile::of(ManagerKind::Sandbox).affix(Affix::Instance)
        }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("snap", &["refresh"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("snaps that the daemon downloaded", "/var/lib/snapd/cache")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        if host.root.target(SNAPD).is_err() {
            return Vec::new();
        }
        vec![Box::new(installation::SnapInstallation::read(host))]
    }
}
