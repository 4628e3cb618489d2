//! Plug-ins of Helm (Helm documentation, "The Helm Plugins Guide").
//!
//! `~/.local/share/helm/plugins/NAME/plugin.yaml` (`HELM_PLUGINS`, `HELM_DATA_HOME`, `XDG_DATA_HOME`) names each plug-in and
//! its version.
//!
//! Traps: what was fetched lies in `~/.cache/helm/plugins`, and its entry is a link there; a plug-in can also be a link to
//! a directory of the user's own; Helm starts a plug-in itself, so none is on a search path.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user, parsed};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile};
use crate::version::Scheme;
use whodunit_formats::yaml::Node;

const ID: ManagerId = ManagerId("helm");
const FILE: &[u8] = b"plugin.yaml";

/// The manager.
#[derive(Debug)]
pub struct Helm;

struct Plugins {
    /// Where what was fetched lies.
    fetched: ByteString,
}

impl Manager for Helm {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let of_helm = || path::join(&host.user_dir(user, "XDG_DATA_HOME", ".local/share"), b"helm");
            let data = || host.named_dir(user, "HELM_DATA_HOME").unwrap_or_else(of_helm);
            let dir = host.named_dir(user, "HELM_PLUGINS").unwrap_or_else(|| path::join(&data(), b"plugins"));
            let cache = host.user_dir(user, "XDG_CACHE_HOME", ".cache");
            is_dir(host, &dir).then(|| (dir, Plugins { fetched: path::join(&cache, b"helm/plugins") }))
        })
    }
}

impl SimpleBackend for Plugins {
    // Plug-ins do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        for (entry, kind) in dirs_in(host, &at.dir, true) {
            let place = path::join(&at.dir, &entry);
            let tree = host.root.canonicalize_dir(&place);
            let file = path::join(&tree, FILE);
            if host.root.entry(&file).is_err_and(|error| error.is_missing()) {
                continue;
            }
            let mut item = InstalledPackage::new("plug-in", entry.clone());
            item.tail = Some(entry);
            let read = parsed(host, &file, Limit::SMALL, |content| {
                let document = Node::parse(&String::from_utf8_lossy(content))?;
                let text = |key: &str| document.text_at(key).map(ByteString::from);
                text("name").zip(text("version")).ok_or_else(|| "names no plug-in, or no version".to_owned())
            });
            match read {
                Ok((name, version)) => {
                    item.name = name;
                    item.version = Some(version);
                    item.evidence.push(Evidence::at(file.clone(), "version", item.with_version()));
                }
                Err(problem) => {
                    item.evidence.push(Evidence::whole(file.clone(), "a plug-in"));
                    record.notes.push(Loss::because(problem, format!("the version of {} is unknown", item.name)));
                }
            }
            item.installed_at = host.root.modified(&file);
            if kind == Kind::Link {
                item.places.push((place.clone(), Evidence::at(place, "link", format!("{} is in {tree}", item.name))));
            }
            // What is the user's own stays the user's own.
            if path::within(&tree, &at.dir) || path::within(&tree, &self.fetched) {
                item.trees.push(tree);
            } else {
                item.origin = Some(Origin::local("directory", "local", None));
            }
            record.items.push(item);
        }
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.dir.clone(), self.fetched.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }
}
