//! Extensions of Visual Studio Code and of editors that are built from its sources (documentation of the editor,
//! "Extension Marketplace").
//!
//! `extensions/extensions.json` below the editor's directory in a home is a list: identifier, version, the directory
//! beside it, and where it came from. Some bring programs, such as language servers and debuggers.
//!
//! Traps: `.obsolete` names directories that are still there and count no more; a directory that the list does not have
//! is not loaded; identifiers are compared without regard to case.

use serde::Deserialize;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, at_each, of};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile, Status};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("vscode");
/// Where editors of this family have their directory.
const EDITORS: [&str; 4] = [".vscode", ".vscode-oss", ".vscode-insiders", ".vscode-server"];

/// The manager.
#[derive(Debug)]
pub struct VsCode;

struct Extensions;

impl Manager for VsCode {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let of_user =
            |user| EDITORS.map(|editor| (of(user), path::join(&host.user_dir(user, "", editor), b"extensions")));
        let has_list = |dir: &ByteString| host.root.entry(&path::join(dir, LIST)).is_ok();
        at_each(host, ID, host.users.iter().flat_map(of_user), has_list, |_| Extensions)
    }
}

const LIST: &[u8] = b"extensions.json";

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Extension {
    identifier: Identifier,
    version: String,
    relative_location: Option<String>,
    #[serde(default)]
    metadata: Metadata,
}

#[derive(Deserialize)]
struct Identifier {
    id: String,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "camelCase", default)]
struct Metadata {
    /// Milliseconds since 1970.
    installed_timestamp: Option<i64>,
    pinned: bool,
    source: Option<String>,
}

impl SimpleBackend for Extensions {
    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let file = path::join(&at.dir, LIST);
        let unknown = "the extensions are unknown";
        let content = match host.root.read(&file, Limit::LIST) {
            Ok(content) => content,
            Err(error) => {
                record.notes.push(Loss::unread(&error, unknown));
                return record;
            }
        };
        let listed: Vec<Extension> = serde_json::from_slice(&content).unwrap_or_else(|error| {
            record.notes.push(Loss::damaged(file.clone(), error, unknown));
            Vec::new()
        });
        for one in listed {
            let mut item = InstalledPackage::new("extension", one.identifier.id.to_lowercase());
            item.held = one.metadata.pinned;
            item.installed_at = one.metadata.installed_timestamp.map(|milliseconds| milliseconds / 1000);
            item.origin = one.metadata.source.map(|source| {
                let trust = (source == "vsix").then(|| "local".to_owned());
                Origin { name: source.into(), kind: "index".to_owned(), url: None, trust }
            });
            item.evidence.push(Evidence::at(file.clone(), "version", format!("{} {}", item.name, one.version)));
            item.version = Some(one.version.into());
            // A directory beside the list, and no other.
            let own =
                one.relative_location.filter(|name| !name.is_empty() && !name.contains('/') && !name.starts_with('.'));
            if let Some(tree) = own.map(|name| path::join(&at.dir, name.as_bytes())) {
                if host.root.entry(&tree).is_err() {
                    item.status = Status::Broken;
                }
                item.trees.push(tree);
            }
            record.items.push(item);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }
}
