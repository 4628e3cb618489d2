//! Flatpak: apps, runtimes and extensions, deployed side by side.
//!
//! Follows the Flatpak documentation ("Under the hood", `flatpak-location(5)`, `flatpak-metadata(5)`,
//! `flatpak-remote(5)`) and the layout of release 1.14.
//!
//! | what | where |
//! |---|---|
//! | installations | `/var/lib/flatpak`, `~/.local/share/flatpak`, and those of `/etc/flatpak/installations.d/*.conf` |
//! | what is deployed | `KIND/ID/ARCH/BRANCH/active`, a link to the commit's directory, with a file `deploy` in it |
//! | origin, commit, size, version | `deploy`, a GVariant of type `(ssasta{sv})` |
//! | runtime, command, permissions | `metadata` beside it |
//! | remotes, pins, masks | `repo/config` |
//! | files, under the names of what they hold | `repo/objects` |
//! | commands and launchers | `exports/`, of the branch that `app/ID/current` names |
//!
//! Traps: the size in `deploy` is in big-endian order and all else in the host's; a directory without `active`
//! is not installed; the commit of a partial deployment is not the directory's whole name; files are dated
//! 1970, so the day of installation is that of the link `active`; there is no version but the one in the
//! app's own metadata, noted when it was deployed.

mod commits;
mod contract;
mod deploy;
mod diagnostics;
mod installation;
mod installations;
mod objects;
mod offers;
mod origin;
mod remotes;
mod summary;

use crate::backend::{Installation, Manager, Unattended, UpgradeCall};
use crate::host::Host;
use crate::model::{ManagerId, ManagerKind, Profile};

const ID: ManagerId = ManagerId("flatpak");

/// The manager.
#[derive(Debug)]
pub struct Flatpak;

impl Manager for Flatpak {
    fn id(&self) -> ManagerId {
        ID
    }

    fn unattended(&self) -> &'static [Unattended] {
        &[
            ("flatpak install", "flatpak install --noninteractive"),
            ("flatpak update", "flatpak update --noninteractive"),
        ]
    }

    fn profile(&self) -> Profile {
        let data_dirs = ["config", "data", ".local/state"];
        Profile { keeps_data_in: Some(".var/app"), data_dirs, ..Profile::of(ManagerKind::Sandbox) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("flatpak", &["update", "upgrade"])]
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let found = installations::find(host);
        let mut opened: Vec<_> =
            found.into_iter().map(|base| installation::FlatpakInstallation::read(host, base)).collect();
        // A runtime may be in another installation than the app that needs it.
        let runtimes: Vec<_> = opened.iter().flat_map(installation::FlatpakInstallation::runtimes).collect();
        for installation in &mut opened {
            installation.note_missing_runtimes(&runtimes);
        }
        opened.into_iter().map(|installation| Box::new(installation) as Box<dyn Installation + 'h>).collect()
    }
}
