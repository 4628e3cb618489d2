//! Components of the Google Cloud SDK (its documentation, "Managing gcloud CLI components").
//!
//! `.install/` in the SDK's directory has two documents for each component: `ID.snapshot.json` with its version, and
//! `ID.manifest` with its files, one to a line and relative to that directory.
//!
//! Traps: where a package of the distribution brought the SDK, its own updater is switched off, in
//! `lib/googlecloudsdk/core/config.json`, and the distribution's manager owns all of it; the directory can be anywhere, and
//! only the usual places are looked at.

use serde::Deserialize;

use crate::backend::simple::{
    FileLists, InstalledPackage, Record, SimpleBackend, at_each, cut, each_list, is_dir, of, parsed, scope_of,
};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, NameFilter, Profile, Reason};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("gcloud");
/// Where the SDK is unpacked for all users.
const PLACES: [&str; 2] = ["/opt/google-cloud-sdk", "/usr/local/google-cloud-sdk"];

/// The manager.
#[derive(Debug)]
pub struct Gcloud;

struct Sdk {
    /// The SDK's directory.
    root: ByteString,
}

#[derive(Deserialize)]
struct Snapshot {
    components: Vec<Component>,
}

#[derive(Deserialize)]
struct Component {
    id: String,
    #[serde(default)]
    dependencies: Vec<String>,
    #[serde(default)]
    details: Details,
    version: Version,
}

#[derive(Deserialize, Default)]
struct Details {
    display_name: Option<String>,
}

#[derive(Deserialize)]
struct Version {
    version_string: String,
}

impl Manager for Gcloud {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Prefix)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let of_user = |user| (of(user), host.user_dir(user, "", "google-cloud-sdk"));
        let shared = PLACES.iter().map(|place| host.root.canonicalize_dir(place.as_bytes()));
        let shared = shared.map(|place| (scope_of(host, &place), place));
        let is_one = |dir: &ByteString| is_dir(host, &path::join(dir, STATE)) && !is_anothers(host, dir);
        let places = shared.chain(host.users.iter().map(of_user));
        at_each(host, ID, places, is_one, |dir| Sdk { root: dir.clone() })
    }
}

/// Whether another manager keeps this SDK: its own updater is switched off then.
fn is_anothers(host: &Host, dir: &[u8]) -> bool {
    #[derive(Deserialize)]
    struct Config {
        #[serde(default)]
        disable_updater: bool,
    }
    let file = path::join(dir, b"lib/googlecloudsdk/core/config.json");
    let read = parsed(host, &file, Limit::SMALL, |content| serde_json::from_slice::<Config>(content));
    read.is_ok_and(|config| config.disable_updater)
}

const STATE: &[u8] = b".install";
const SNAPSHOT: &[u8] = b".snapshot.json";

impl SimpleBackend for Sdk {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let state = path::join(&at.dir, STATE);
        for (name, _) in host.root.names_in(&state) {
            let Some(id) = name.strip_suffix(SNAPSHOT).filter(|id| !id.is_empty()) else { continue };
            let file = path::join(&state, &name);
            let mut item = InstalledPackage::new("component", id);
            // What was asked for, and what came along, is not recorded.
            item.reason = Reason::Unknown;
            item.entry = path::join(&state, &[id, b".manifest"].concat());
            item.installed_at = host.root.modified(&item.entry);
            let read = parsed(host, &file, Limit::LIST, |content| {
                let snapshot = serde_json::from_slice::<Snapshot>(content).map_err(|error| error.to_string())?;
                let own = snapshot.components.into_iter().find(|one| one.id.as_bytes() == id);
                own.ok_or_else(|| "does not describe its component".to_owned())
            });
            match read {
                Ok(component) => {
                    item.version = ByteString::unless_empty(&component.version.version_string);
                    item.also.extend(component.details.display_name.map(ByteString::from));
                    let others = component.dependencies.iter().filter(|other| other.as_bytes() != id);
                    others.for_each(|other| item.need(other.as_bytes()));
                    item.evidence.push(Evidence::at(file, "components", item.with_version()));
                }
                Err(problem) => {
                    item.evidence.push(Evidence::whole(file, "a component"));
                    record.notes.push(Loss::because(problem, format!("the version of {} is unknown", item.name)));
                }
            }
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.dir.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![path::join(&at.dir, b"bin")]
    }
}

impl FileLists for Sdk {
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<Loss>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        let find = |content: &[u8]| {
            let lines = (1..).zip(content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii));
            // A list names what lies in the SDK's own directory, and nothing else.
            let own = |file: &[u8]| !file.is_empty() && !file.split(|&b| b == b'/').any(|part| part == b"..");
            let files = lines.filter(|(_, file)| own(file) && wanted.has(path::name(file)));
            (files.map(|(line, file)| (path::join(&self.root, file), line)).collect(), cut(content))
        };
        each_list(&host.root, items, |item| item.entry.clone(), |_| false, find, notes, take);
    }
}
