//! macOS itself, which lies on a sealed volume and is changed as a whole ("About the read-only system volume").
//!
//! `/System/Library/CoreServices/SystemVersion.plist` has its version and build. All that lies in `/System`, `/bin`,
//! `/sbin` and, but for `/usr/local`, in `/usr` is its own.
//!
//! Traps: below `/System/Volumes` the other volumes are mounted, the users' data among them.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, SimpleInstallation};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Profile, Reason, Scope};
use crate::version::Scheme;
use whodunit_formats::plist::Value;

const ID: ManagerId = ManagerId("macos");
const DIR: &[u8] = b"/System/Library/CoreServices";
const TOPS: [&[u8]; 4] = [b"/bin", b"/sbin", b"/System", b"/usr"];
/// What lies in those and is not its own.
const OTHERS: [&[u8]; 2] = [b"/System/Volumes", b"/usr/local"];

/// The system.
#[derive(Debug)]
pub struct MacOs;

struct Sealed;

impl Manager for MacOs {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::System)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let opened = host.is_macos().then(|| SimpleInstallation::boxed(host, ID, Scope::System, DIR.into(), Sealed));
        opened.into_iter().collect()
    }
}

impl SimpleBackend for Sealed {
    fn is_of_distribution(&self) -> bool {
        true
    }

    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let mut item = InstalledPackage::new("system", "macOS");
        let file = path::join(&at.dir, b"SystemVersion.plist");
        let content = host.root.read(&file, Limit::SMALL).map_err(|error| error.to_string());
        let info = content.and_then(|content| Value::parse(&content).map_err(|what| format!("{file}: {what}")));
        match info {
            Ok(info) => {
                item.version = info.text_at("ProductVersion").map(ByteString::from);
                item.revision = info.text_at("ProductBuildVersion").map(ByteString::from);
                let line = info.entry("ProductVersion").map_or(0, |entry| entry.line);
                item.evidence.push(Evidence::line(file, line.max(1), item.with_version()));
            }
            Err(what) => {
                record.notes.push(Loss::because(what, "the version of macOS is unknown"));
                item.evidence.push(Evidence::whole(file, "this is macOS"));
            }
        }
        for top in TOPS {
            if !OTHERS.iter().any(|other| path::parent(other) == top) {
                item.trees.push(top.into());
                continue;
            }
            let names = host.root.names_in(top).into_iter().filter(|(_, kind)| *kind != Kind::Link);
            let own = names.map(|(name, _)| path::join(top, &name)).filter(|tree| !OTHERS.contains(&&**tree));
            item.trees.extend(own);
        }
        item.reason = Reason::Explicit;
        record.items.push(item);
        record
    }

    fn domain(&self, _: &Host, _: &Location) -> Vec<ByteString> {
        TOPS.iter().map(|top| ByteString::from(*top)).collect()
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}
