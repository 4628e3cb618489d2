//! Installer packages of macOS (`pkgutil(1)`, `installer(8)`).
//!
//! For each package that was installed, `ID.plist` in `/var/db/receipts` says which version, when, and below which place;
//! `ID.bom` is the list of its files ([`whodunit_formats::bill_of_materials`]). Apple's own updates have theirs in
//! `/Library/Apple/System/Library/Receipts`.
//!
//! Traps: the place is told without a slash before it, and can be empty; a list names `._NAME` for what the file system
//! keeps with `NAME` itself; nothing removes a receipt when its files are thrown away.

use hashbrown::HashSet;

use crate::backend::simple::{FileLists, InstalledPackage, Record, SimpleBackend, SimpleInstallation, each_list};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, NameFilter, Profile, Scope};
use crate::version::Scheme;
use whodunit_formats::bill_of_materials::{Entry, EntryType, entries};
use whodunit_formats::plist::Value;

const ID: ManagerId = ManagerId("pkgutil");
const PLACES: [&[u8]; 2] = [b"/var/db/receipts", b"/Library/Apple/System/Library/Receipts"];

/// The manager.
#[derive(Debug)]
pub struct Receipts;

struct Database;

impl Manager for Receipts {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Prefix)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut dirs = PLACES.iter().map(|place| host.root.canonicalize_dir(place));
        let found = dirs.find(|dir| host.is_macos() && !receipts_in(host, dir).is_empty());
        found.into_iter().map(|dir| SimpleInstallation::boxed(host, ID, Scope::System, dir, Database)).collect()
    }
}

/// The ids of the receipts in a directory.
fn receipts_in(host: &Host, dir: &[u8]) -> Vec<ByteString> {
    let names = host.root.names_in(dir).into_iter();
    names.filter_map(|(name, _)| Some(name.strip_suffix(b".plist")?.into())).collect()
}

/// Seconds since 1970 of `2026-02-01T10:30:00Z`.
fn seconds(date: &str) -> Option<i64> {
    Some(date.parse::<jiff::Timestamp>().ok()?.as_second())
}

fn receipt(id: &ByteString, file: &ByteString, info: &Value) -> InstalledPackage {
    let text = |key: &str| info.text_at(key).filter(|text| !text.is_empty());
    let mut item = InstalledPackage::new("installer-package", text("PackageIdentifier").map_or(id.clone(), Into::into));
    item.version = text("PackageVersion").map(ByteString::from);
    item.installed_at = text("InstallDate").and_then(seconds);
    let place = text("InstallPrefixPath").unwrap_or_default().trim_matches('/');
    item.also.extend(text("PackageFileName").map(ByteString::from));
    let says = match text("InstallProcessName") {
        Some(by) => format!("{}, installed by {by}", item.with_version()),
        None => item.with_version(),
    };
    item.evidence.push(match info.entry("PackageVersion").map(|entry| entry.line).filter(|line| *line > 0) {
        Some(line) => Evidence::line(file.clone(), line, says),
        None => Evidence::whole(file.clone(), says),
    });
    item.prefix = path::join(b"/", place.as_bytes());
    item.entry = path::join(path::parent(file), &[id, &b".bom"[..]].concat());
    item
}

impl SimpleBackend for Database {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, _: &Location) -> Record {
        let (mut record, mut seen) = (Record::default(), HashSet::new());
        for place in PLACES {
            let dir = host.root.canonicalize_dir(place);
            for id in receipts_in(host, &dir) {
                if !seen.insert(id.clone()) {
                    continue;
                }
                let file = path::join(&dir, &[&id, &b".plist"[..]].concat());
                let hides = || format!("version and place of {id} are unknown");
                let content = match host.root.read(&file, Limit::SMALL) {
                    Ok(content) => content,
                    Err(error) => {
                        record.notes.push(Loss::unread(&error, hides()));
                        continue;
                    }
                };
                match Value::parse(&content) {
                    Ok(info) => record.items.push(receipt(&id, &file, &info)),
                    Err(what) => record.notes.push(Loss::damaged(file, what, hides())),
                }
            }
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }
}

impl FileLists for Database {
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<Loss>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        let find = |content: &[u8]| {
            let (listed, damage) = entries(content);
            let is_wanted = |entry: &Entry| {
                let name = path::name(&entry.path);
                let is_root = entry.path.is_empty();
                !is_root && !name.starts_with(b"._") && entry.entry_type != EntryType::Device && wanted.has(name)
            };
            let numbered = (1..).zip(listed).filter(|(_, entry)| is_wanted(entry));
            (numbered.map(|(number, entry)| (entry.path.into(), number)).collect(), damage.map(|what| what.to_string()))
        };
        let mut whole = |number: u32, file: &[u8], line: u32| {
            if let Some(item) = items.get(number as usize) {
                take(number, &path::join(&item.prefix, file), line);
            }
        };
        each_list(&host.root, items, |item| item.entry.clone(), |_| false, find, notes, &mut whole);
    }

    fn has_entries(&self) -> bool {
        true
    }
}
