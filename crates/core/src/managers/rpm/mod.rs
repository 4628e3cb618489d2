//! rpm, and what dnf, yum and zypper know beside it.
//!
//! Follows `rpm(8)`, `rpmdb(8)`, the layout of headers in *RPM Package Format*, and the records of dnf 4, dnf 5 and
//! zypper.
//!
//! | what | where | read by |
//! |---|---|---|
//! | packages with all their files | `rpmdb.sqlite` or `Packages.db` | `store.rs`, [`crate::formats::rpm_header`] |
//! | asked for or not, from which repository, held | dnf's history or state, zypper's lists and log | `records.rs` |
//! | repositories | `*.repo` | `repositories.rs` |
//! | what they offered | `primary.xml` in the caches of dnf and zypper | `catalogues.rs` |
//!
//! Traps: the database can be in three places that are links to each other, and on Debian's family in each
//! person's home; keys are entries too (`gpg-pubkey`); one name can be installed several times, so the entry's own
//! number tells packages apart; a file that was replaced or not installed is in the list, but is not the package's.

mod catalogues;
mod dependents;
mod holdings;
mod offers;
mod recorded;
mod records;
mod repositories;
mod store;

use crate::managers::{Holdings, Manager};
use crate::model::{Installation, ManagerId, Scope};
use crate::root::Kind;
use crate::scene::Scene;
use crate::text::{Text, path};

/// The manager.
#[derive(Debug)]
pub struct Rpm;

/// Where distributions keep the database.
const PLACES: [&str; 3] = ["/usr/lib/sysimage/rpm", "/var/lib/rpm", "/usr/share/rpm"];

impl Manager for Rpm {
    fn id(&self) -> ManagerId {
        ManagerId("rpm")
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let mut found: Vec<(Scope, Text, store::Form)> = Vec::new();
        let of_people =
            scene.people.iter().map(|person| (Scope::User(person.name.clone()), path::join(&person.home, b".rpmdb")));
        let places = PLACES.iter().map(|place| (Scope::System, Text::from(*place))).chain(of_people);
        for (scope, place) in places {
            let place = scene.root.settle_folder(&place);
            let is_known = found.iter().any(|(_, other, _)| *other == place);
            let has = |name: &str| {
                scene.root.target(&path::join(&place, name.as_bytes())).is_ok_and(|meta| meta.kind == Kind::File)
            };
            // rpm takes the database that it finds.
            let form = store::Form::ALL.into_iter().find(|form| has(form.file()));
            if let Some(form) = form.filter(|_| !is_known) {
                found.push((scope, place, form));
            }
        }
        let opened = found.into_iter().map(|(scope, location, form)| {
            let at = Installation { manager: self.id(), scope, location };
            Box::new(holdings::RpmHoldings::new(scene, at, form)) as Box<dyn Holdings + 's>
        });
        opened.collect()
    }
}
