//! opkg: routers and small devices, and what is built for them.
//!
//! `/usr/lib/opkg/status` (or `/var/lib/opkg/status`) has a stanza for each package in the form of dpkg's, and
//! `info/NAME.list` beside it the files of each.
//!
//! Traps: the second word of `Status` says whether a user asked for it; the lists name paths from the root; settings
//! files are in `Conffiles` with their digests.

use crate::backend::simple::{FileLists, InstalledPackage, Record, SimpleBackend, SimpleInstallation, each_line};
use crate::backend::{CachePlace, Installation, Manager, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, NameFilter, Profile, Reason, Scope, Status};
use crate::version::Scheme;
use crate::version::upstream::Notation;
use whodunit_formats::stanza::{Stanza, stanzas};

const ID: ManagerId = ManagerId("opkg");
const PLACES: [&[u8]; 2] = [b"/usr/lib/opkg", b"/var/lib/opkg"];

/// The manager.
#[derive(Debug)]
pub struct Opkg;

struct Database;

impl Manager for Opkg {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile { notation: Notation::EpochRevision, ..Profile::of(ManagerKind::System) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("opkg", &["upgrade"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("packages that opkg downloaded", "/var/cache/opkg")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let dirs = PLACES.iter().map(|place| host.root.canonicalize_dir(place));
        let mut dirs = dirs.filter(|dir| host.root.entry(&path::join(dir, b"status")).is_ok());
        let opened = dirs.next().map(|dir| SimpleInstallation::boxed(host, ID, Scope::System, dir, Database));
        opened.into_iter().collect()
    }
}

/// The names in a list, versions left out: `a (>= 1), b`.
fn names(list: &[u8], between: u8) -> impl Iterator<Item = &[u8]> {
    let words = list.split(move |b| *b == between).map(<[u8]>::trim_ascii);
    words.map(|word| word.split(|b| b" (".contains(b)).next().unwrap_or_default()).filter(|name| !name.is_empty())
}

/// `None` for what is not installed.
fn package(stanza: &Stanza<'_>, file: &ByteString) -> Option<InstalledPackage> {
    let mut item = InstalledPackage::new("package", ByteString::default());
    item.reason = Reason::Dependency;
    for field in stanza.fields().flatten() {
        match field.name {
            b"Package" => {
                item.name = field.value.into();
                item.evidence.push(Evidence::line(file.clone(), field.line, format!("package {}", item.name)));
            }
            b"Version" => item.version = Some(field.value.into()),
            b"Architecture" => item.arch = Some(field.value.into()),
            b"Depends" => {
                let needs = field.value.split(|&b| b == b',').map(|one| names(one, b'|').collect::<Vec<_>>());
                needs.filter(|any| !any.is_empty()).for_each(|any| item.need_any(&any));
            }
            b"Provides" => item.provides.extend(names(field.value, b',').map(ByteString::from)),
            b"Installed-Time" => {
                item.installed_at = std::str::from_utf8(field.value).ok().and_then(|time| time.parse().ok());
            }
            b"Status" => {
                let mut words = field.value.split(|&b| b == b' ');
                let (want, flags, state) = (words.next()?, words.next()?, words.next()?);
                if want != b"install" && state != b"installed" {
                    return None;
                }
                if state != b"installed" {
                    item.status = Status::Broken;
                }
                let flags: Vec<&[u8]> = flags.split(|&b| b == b',').collect();
                item.held = want == b"hold" || flags.contains(&&b"hold"[..]);
                if flags.contains(&&b"user"[..]) {
                    item.reason = Reason::Explicit;
                }
            }
            _ => {}
        }
    }
    let is_sound = !item.name.is_empty() && !item.name.contains(&b'/') && !item.name.starts_with(b".");
    is_sound.then_some(item)
}

impl SimpleBackend for Database {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let file = path::join(&at.dir, b"status");
        match host.root.read(&file, Limit::RECORD) {
            Ok(content) => {
                record.items.extend(stanzas(&content).filter_map(|stanza| package(&stanza, &file)));
                if whodunit_formats::stanza::is_cut(&content) {
                    record.notes.push(Loss::note(format!("{file}: cut off: what followed is unknown")));
                }
            }
            Err(error) => record.notes.push(Loss::unread(&error, "the packages of opkg are unknown")),
        }
        for item in &mut record.items {
            item.entry = path::join(&path::join(&at.dir, b"info"), &[item.name.as_bytes(), b".list"].concat());
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Debian
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }
}

/// The path that a line of a list names: newer releases write a mode and a link's target behind it.
fn file_of(line: &[u8]) -> Option<&[u8]> {
    line.split(|&b| b == b'\t').next().filter(|file| file.starts_with(b"/"))
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
        each_line(&host.root, items, file_of, wanted, notes, take);
    }
}
