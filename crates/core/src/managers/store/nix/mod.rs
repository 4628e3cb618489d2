//! Nix, on a distribution or as the system itself.
//!
//! Follows the Nix manual (chapters "Profiles", "Garbage Collection", `nix-env`, `nix profile`), and the
//! database's schema 10.
//!
//! | what | where | read by |
//! |---|---|---|
//! | profiles and their numbered generations | `/nix/var/nix/profiles`, `per-user/NAME` there, `~/.local/state/nix/profiles`, `/etc/profiles/per-user/NAME` | `profiles.rs` |
//! | what a generation holds | `manifest.nix` or `manifest.json` in it; `sw` of a NixOS system, `home-path` of a home configuration | `manifest.rs`, `elements.rs` |
//! | store paths, sizes, dates, references | `/nix/var/nix/db/db.sqlite` with its log | `store.rs` |
//! | what keeps a path alive | links below `/nix/var/nix/gcroots` and the profiles | `roots.rs` |
//! | which programs a channel has | `programs.sqlite` in a channel | `channels.rs` |
//!
//! Each profile is an installation, and so is the store. A store path that a profile has belongs to that
//! profile's package; any other, to the store.
//!
//! Traps: the current generation is where the profile's link leads, which after a rollback is not the
//! largest number; a directory in the store without a row in the database is not installed; all files in the
//! store are dated 1970, so dates come from the database and from the links themselves.

mod channels;
mod elements;
mod generations;
mod guix;
mod installation;
mod layout;
mod manifest;
mod profiles;
mod roots;
mod sources;
mod store;
mod store_installation;

use std::sync::Arc;

use crate::backend::{Installation, Manager, UpgradeCall};
use crate::fs::Kind;
use crate::host::Host;
use crate::model::{Affix, CommandLine, Loss, ManagerId, ManagerKind, Profile, Remedy, RemedyKind, Source};

pub use guix::Guix;
use layout::{Layout, NIX};

const ID: ManagerId = NIX.id;

/// Deletes what no root leads to.
fn collect_garbage() -> Remedy {
    let remedy = Remedy::new(RemedyKind::Remove, CommandLine::new("nix-store --gc"));
    remedy.to("collect the garbage").losing("what only they hold")
}

/// The manager.
#[derive(Debug)]
pub struct Nix;

impl Manager for Nix {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Store).affix(Affix::Build)
    }

    fn indexes(&self, host: &Host, notes: &mut Vec<Loss>) -> Vec<Source> {
        sources::configured(host, notes)
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("nixos-rebuild", &["switch", "boot"]), ("nix-env", &["-u", "--upgrade"]), ("nix", &["upgrade"])]
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        open(host, &NIX)
    }
}

/// The profiles and the store of one layout.
fn open<'h>(host: &'h Host, layout: &'static Layout) -> Vec<Box<dyn Installation + 'h>> {
    let root = &host.root;
    let is_here = |path: &[u8]| root.target(path).is_ok_and(|meta| matches!(meta.kind, Kind::File | Kind::Dir));
    if !is_here(layout.database) && !is_here(layout.profiles) {
        return Vec::new();
    }
    let profiles = profiles::find(host, layout);
    // The package is installed, and nobody has used it yet.
    let is_empty = root.dir(layout.store).and_then(|dir| dir.list()).map_or(true, |paths| paths.is_empty());
    if !is_here(layout.database) && profiles.is_empty() && is_empty {
        return Vec::new();
    }
    let store = Arc::new(store::Store::new(host, layout));
    let mut held: Vec<Box<dyn Installation + 'h>> = Vec::new();
    let mut of_profiles = Vec::new();
    for profile in profiles {
        let opened = installation::ProfileInstallation::read(host, Arc::clone(&store), profile);
        of_profiles.extend(opened.store_paths());
        held.push(Box::new(opened));
    }
    held.push(Box::new(store_installation::StoreInstallation::new(host, store, of_profiles)));
    held
}
