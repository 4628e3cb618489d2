//! Firmware that fwupd wrote to devices (`fwupdmgr(1)`; its source, "src/fu-history.c").
//!
//! `/var/lib/fwupd/pending.db` has a row for each device with what was last done to it: the version before, the version
//! that was to come, and how that ended.
//!
//! Traps: a row stands for an attempt, and the new version is only there when that ended well; one that waits for a start
//! of the machine has not happened yet; firmware that nobody ever upgraded is in no record, and no file of the machine
//! belongs to any.

use rusqlite::Connection;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, SimpleInstallation};
use crate::backend::{Installation, Manager, sqlite};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Profile, Scope};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("fwupd");
const FILE: &[u8] = b"/var/lib/fwupd/pending.db";

/// The manager.
#[derive(Debug)]
pub struct Fwupd;

struct Devices;

impl Manager for Fwupd {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Prefix)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let dir = host.root.canonicalize_dir(path::parent(FILE));
        let is_there = host.root.entry(FILE).is_ok();
        is_there.then(|| SimpleInstallation::boxed(host, ID, Scope::System, dir, Devices)).into_iter().collect()
    }
}

/// How an attempt ended (`FwupdUpdateState`), and whether the new version is in the device.
fn outcome(state: i64) -> (&'static str, bool) {
    match state {
        2 => ("was written", true),
        1 => ("is to be written at the next start of the machine", false),
        3 => ("could not be written", false),
        4 => ("was written and counts from the next start of the machine", false),
        5 => ("could not be written this time", false),
        _ => ("may have been written", false),
    }
}

fn devices(database: &Connection) -> rusqlite::Result<Vec<InstalledPackage>> {
    let mut query = database.prepare(
        "SELECT device_id, display_name, update_state, update_error, version_old, version_new, device_modified, plugin \
         FROM history ORDER BY rowid",
    )?;
    let mut rows = query.query([])?;
    let mut found = Vec::new();
    while let Some(row) = rows.next()? {
        let text = |at: usize| row.get::<_, Option<String>>(at).map(|text| text.filter(|text| !text.is_empty()));
        let id: String = row.get(0)?;
        let mut item = InstalledPackage::new("firmware", text(1)?.unwrap_or_else(|| id.clone()));
        let (old, new) = (text(4)?, text(5)?);
        let (says, is_new) = outcome(row.get(2)?);
        let mut told = match &new {
            Some(new) => format!("{} {new} {says}", item.name),
            None => format!("a version of {} {says}", item.name),
        };
        if let Some(error) = text(3)?.filter(|_| !is_new) {
            told = format!("{told}: {error}");
        }
        item.version = if is_new { new } else { old }.map(ByteString::from);
        item.installed_at = if is_new { row.get::<_, Option<i64>>(6)? } else { None };
        item.channel = text(7)?.map(ByteString::from);
        item.also.push(id.as_str().into());
        // Two devices of one model are told apart by their ids.
        item.tail = Some(path::join(&item.name, id.as_bytes()));
        item.evidence.push(Evidence::at(FILE, format!("history, device {id}"), told));
        found.push(item);
    }
    Ok(found)
}

impl SimpleBackend for Devices {
    // Firmware needs no other.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, _: &Location) -> Record {
        let read = sqlite::open(&host.root, FILE)
            .and_then(|database| devices(&database).map_err(|error| format!("{}: {error}", ByteString::from(FILE))));
        match read {
            Ok(items) => Record { items, ..Record::default() },
            Err(error) => {
                let notes = vec![Loss::because(error, "which firmware was written to devices is unknown")];
                Record { notes, ..Record::default() }
            }
        }
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }
}
