//! rpm, and what dnf, yum and zypper know beside it.
//!
//! Follows `rpm(8)`, `rpmdb(8)`, the layout of headers in *RPM Package Format*, and the records of dnf 4, dnf 5 and
//! zypper.
//!
//! | what | where | read by |
//! |---|---|---|
//! | packages with all their files | `rpmdb.sqlite`, `Packages.db`, or the `Packages` of old systems | `store.rs`, [`whodunit_formats::rpm_header`] |
//! | asked for or not, from which repository, held | dnf's history or state, yum's notes, zypper's lists and log | `records.rs`, `yum.rs` |
//! | repositories | `*.repo` | `repositories.rs` |
//! | what was put on top of an image | the deployment's `.origin` | `layers.rs` |
//! | what they offered | `primary.xml` in the caches of dnf and zypper | `catalogues.rs` |
//! | which streams of modules count | `modules.yaml` beside it, `/etc/dnf/modules.d` | `modules.rs`, [`whodunit_formats::modulemd`] |
//!
//! Traps: the database can be in three places that are links to each other, and on Debian's family in each
//! user's home; keys are entries too (`gpg-pubkey`); one name can be installed several times, so the entry's own
//! number tells packages apart; a file that was replaced or not installed is in the list, but is not the package's.

mod available;
mod catalogues;
mod closure;
mod contract;
mod dependents;
mod expression;
mod file_records;
mod installation;
mod layers;
mod log;
mod modules;
mod nevra;
mod offers;
mod records;
mod repositories;
mod store;
mod texts;
mod yum;

use crate::backend::{CachePlace, Installation, Manager, Unattended, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Location, ManagerId, ManagerKind, Profile, Scope};
use crate::version::upstream::Notation;

/// The manager.
#[derive(Debug)]
pub struct Rpm;

/// Where distributions keep the database.
const PLACES: [&str; 3] = ["/usr/lib/sysimage/rpm", "/var/lib/rpm", "/usr/share/rpm"];

impl Manager for Rpm {
    fn id(&self) -> ManagerId {
        ManagerId("rpm")
    }

    fn unattended(&self) -> &'static [Unattended] {
        &[("dnf", "dnf --assumeyes"), ("yum", "yum --assumeyes"), ("zypper", "zypper --non-interactive")]
    }

    fn profile(&self) -> Profile {
        let notation = Notation::EpochRevision;
        Profile { has_full_catalogues: true, notation, ..Profile::of(ManagerKind::System) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[
            ("dnf", &["upgrade", "update", "distro-sync"]),
            ("dnf5", &["upgrade", "update", "distro-sync"]),
            ("yum", &["upgrade", "update"]),
            ("zypper", &["up", "update", "dup", "dist-upgrade", "patch"]),
            ("transactional-update", &["up", "dup", "patch"]),
        ]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const {
            &[
                CachePlace::cleared_by("packages and lists that dnf downloaded", "/var/cache/dnf", "dnf clean all"),
                CachePlace::without_command("packages and lists that zypper downloaded", "/var/cache/zypp"),
            ]
        }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut found: Vec<(Scope, ByteString, store::Form)> = Vec::new();
        let of_users =
            host.users.iter().map(|user| (Scope::User(user.name.clone()), path::join(&user.home, b".rpmdb")));
        let places = PLACES.iter().map(|place| (Scope::System, ByteString::from(*place))).chain(of_users);
        for (scope, place) in places {
            let place = host.root.canonicalize_dir(&place);
            let is_known = found.iter().any(|(_, other, _)| *other == place);
            let has = |name: &str| host.root.has_record(&path::join(&place, name.as_bytes()));
            // rpm takes the database that it finds.
            let form = store::Form::ALL.into_iter().find(|form| has(form.file()));
            if let Some(form) = form.filter(|_| !is_known) {
                found.push((scope, place, form));
            }
        }
        let opened = found.into_iter().map(|(scope, location, form)| {
            let at = Location { manager: self.id(), scope, dir: location };
            Box::new(installation::RpmInstallation::new(host, at, form)) as Box<dyn Installation + 'h>
        });
        opened.collect()
    }
}
