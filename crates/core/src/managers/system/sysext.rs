//! System extensions, which lie over `/usr` while they are merged (`systemd-sysext(8)`), and portable services
//! (`portablectl(1)`).
//!
//! An extension is a directory or an image `NAME.raw` in `/etc/extensions`, `/run/extensions` or `/var/lib/extensions`.
//! In it, `usr/lib/extension-release.d/extension-release.NAME` says for which system it is. Portable services are the
//! same in `/etc/portables`, `/run/portables` and `/var/lib/portables`.
//!
//! Traps: of one name the first place counts; a link to `/dev/null` switches an extension off; what is in an image is
//! not looked at; while it is merged its files seem to lie in `/usr`.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, SimpleInstallation};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Profile, Scope};
use crate::version::Scheme;
use whodunit_formats::settings;

const ID: ManagerId = ManagerId("sysext");
/// What lies where, the place that counts most first.
const PLACES: [(&str, &str); 6] = [
    ("/etc/extensions", "extension"),
    ("/run/extensions", "extension"),
    ("/var/lib/extensions", "extension"),
    ("/etc/portables", "portable-service"),
    ("/run/portables", "portable-service"),
    ("/var/lib/portables", "portable-service"),
];

/// The manager.
#[derive(Debug)]
pub struct Sysext;

struct Extensions;

impl Manager for Sysext {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Sandbox)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let holds_any = |place: &ByteString| host.root.names_in(place).iter().any(|(name, kind)| is_image(name, *kind));
        let mut dirs = PLACES.iter().map(|(place, _)| host.root.canonicalize_dir(place.as_bytes()));
        let found = dirs.find(holds_any);
        found.into_iter().map(|dir| SimpleInstallation::boxed(host, ID, Scope::System, dir, Extensions)).collect()
    }
}

/// Whether an entry of such a place can be an extension.
fn is_image(name: &[u8], kind: Kind) -> bool {
    !name.starts_with(b".") && (kind != Kind::File || name.ends_with(b".raw"))
}

impl SimpleBackend for Extensions {
    // Extensions do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, _: &Location) -> Record {
        let mut record = Record::default();
        let mut seen: Vec<(ByteString, &str)> = Vec::new();
        for (place, kind) in PLACES {
            let dir = host.root.canonicalize_dir(place.as_bytes());
            for (entry, entry_kind) in host.root.names_in(&dir) {
                if !is_image(&entry, entry_kind) {
                    continue;
                }
                let tree = path::join(&dir, &entry);
                let name = ByteString::from(entry.strip_suffix(b".raw").unwrap_or(&entry));
                if seen.contains(&(name.clone(), kind)) {
                    continue;
                }
                seen.push((name.clone(), kind));
                if host.root.read_link(&tree).is_ok_and(|target| *target == *b"/dev/null") {
                    continue;
                }
                let mut item = InstalledPackage::new(kind, name.clone());
                item.installed_at = host.root.modified(&tree);
                item.evidence.push(Evidence::directory(tree.clone(), format!("{kind} {name}")));
                if entry_kind != Kind::File {
                    release(host, &tree, &mut item, &mut record.notes);
                }
                item.trees.push(host.root.canonicalize(&tree));
                record.items.push(item);
            }
        }
        record
    }

    fn domain(&self, host: &Host, _: &Location) -> Vec<ByteString> {
        PLACES.iter().map(|(place, _)| host.root.canonicalize_dir(place.as_bytes())).collect()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}

/// What an extension says of itself: its version, and the system that it is for.
fn release(host: &Host, tree: &ByteString, item: &mut InstalledPackage, notes: &mut Vec<Loss>) {
    let below = [b"usr/lib/extension-release.d/extension-release.", &*item.name].concat();
    let file = path::join(tree, &below);
    let content = match host.root.read(&file, Limit::SMALL) {
        Ok(content) => content,
        Err(error) if error.is_missing() => return,
        Err(error) => {
            notes.push(Loss::unread(&error, format!("for which system {} is meant is unknown", item.name)));
            return;
        }
    };
    for set in settings::assignments(&content) {
        let value = ByteString::from(set.value);
        match set.name {
            b"SYSEXT_VERSION_ID" | b"IMAGE_VERSION" => item.version = Some(value),
            b"ID" => {
                item.evidence.push(Evidence::line(file.clone(), set.line, format!("made for {value}")));
                item.channel = Some(value);
            }
            b"ARCHITECTURE" => item.arch = Some(value),
            _ => {}
        }
    }
}
