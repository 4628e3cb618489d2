//! Application bundles of macOS, which no manager records: the bundles themselves are the record
//! ([`crate::backend::app_bundles`]).
//!
//! They are looked for in `/Applications` and in each user's `Applications`, and in the directories of those.
//!
//! Traps: what an installer package or a cask put there is theirs; the name of the directory is the user's, that in the
//! bundle the publisher's; one can lie there without its program.

use crate::backend::app_bundles::{below, info_file, read, store_mark};
use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, at_each, is_dir, of};
use crate::backend::{Installation, Manager};
use crate::bytes::path;
use crate::host::Host;
use crate::model::{Evidence, Location, ManagerId, ManagerKind, Origin, Profile, Scope, Status};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("app-bundle");
const SHARED: &[u8] = b"/Applications";

/// The manager.
#[derive(Debug)]
pub struct AppBundles;

struct Bundles;

impl Manager for AppBundles {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Sandbox)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        if !host.is_macos() {
            return Vec::new();
        }
        let own = host.users.iter().map(|user| (of(user), path::join(&user.home, b"Applications")));
        let places = std::iter::once((Scope::System, SHARED.into())).chain(own);
        at_each(host, ID, places, |dir| is_dir(host, dir), |_| Bundles)
    }
}

impl SimpleBackend for Bundles {
    // Bundles bring what they need.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        for bundle in below(host, &at.dir) {
            let called = path::name(&bundle);
            let mut item = InstalledPackage::new("bundle", called.strip_suffix(b".app").unwrap_or(called));
            let file = info_file(&bundle);
            let info = read(host, &bundle).unwrap_or_else(|lost| {
                record.notes.push(lost);
                item.status = Status::Broken;
                Default::default()
            });
            item.revision =
                info.build.clone().filter(|build| info.version.as_ref().is_some_and(|version| version != build));
            item.version = info.version.or(info.build);
            let says = match &info.identifier {
                Some(identifier) => format!("{}, {identifier}", item.with_version()),
                None => item.with_version(),
            };
            item.evidence.push(Evidence::at(file.clone(), "bundle", says));
            item.also.extend(info.identifier.into_iter().chain(info.name));
            item.also.retain(|name| *name != item.name);
            if let Some(program) = info.program.filter(|program| host.root.target(program).is_err()) {
                item.status = Status::Broken;
                item.evidence.push(Evidence::at(
                    file.clone(),
                    "CFBundleExecutable",
                    format!("{program} does not exist"),
                ));
            }
            let mark = store_mark(&bundle);
            item.installed_at = host.root.modified(&mark).or_else(|| host.root.modified(&bundle));
            if host.root.entry(&mark).is_ok() {
                item.origin = Some(Origin::third_party("store", "App Store", None));
                item.evidence.push(Evidence::whole(mark, "came from the App Store"));
            }
            item.record = Some(file);
            item.trees.push(bundle);
            record.items.push(item);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}
