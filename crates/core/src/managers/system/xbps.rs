//! XBPS: Void Linux.
//!
//! Follows the property lists that it writes (`xbps-pkgdb(1)`, "xbps/pkgdb.c"): `/var/db/xbps/pkgdb-0.38.plist` has a
//! dictionary for each package, and `/var/db/xbps/.NAME-files.plist` its files, links and settings files with their
//! digests.
//!
//! Traps: `pkgver` is name and version in one, and both may have hyphens; a key that begins with `_` is no package but
//! what alternatives are chosen; a half-installed package has another state than `installed`.

use crate::backend::simple::{
    FileLists, InstalledPackage, Record, SimpleBackend, SimpleInstallation, each_list, each_record, whole,
};
use crate::backend::{CachePlace, Installation, Manager, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::host::Host;
use crate::model::{
    Algorithm, Digest, Evidence, FileRecord, Location, Loss, ManagerId, ManagerKind, NameFilter, Origin, Profile,
    Reason, Scope, Status,
};
use crate::version::Scheme;
use crate::version::upstream::Notation;
use whodunit_formats::plist::Value;

const ID: ManagerId = ManagerId("xbps");
const PLACE: &[u8] = b"/var/db/xbps";
const FILE: &[u8] = b"pkgdb-0.38.plist";

/// The manager.
#[derive(Debug)]
pub struct Xbps;

/// The database in its directory.
struct Database(ByteString);

impl Manager for Xbps {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile { notation: Notation::NumberedBuild, ..Profile::of(ManagerKind::System) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("xbps-install", &["-u", "-Su", "--update"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("packages that XBPS downloaded", "/var/cache/xbps")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let dir = host.root.canonicalize_dir(PLACE);
        let file = path::join(&dir, FILE);
        let is_there = host.root.entry(&file).is_ok();
        let opened = is_there.then(|| SimpleInstallation::boxed(host, ID, Scope::System, dir.clone(), Database(dir)));
        opened.into_iter().collect()
    }
}

/// `tide-gauge-3.1_2` → `tide-gauge` and `3.1_2`.
fn name_and_version(text: &str) -> Option<(&str, &str)> {
    text.rsplit_once('-').filter(|(name, _)| !name.is_empty())
}

/// The name in what a package needs: `tide>=3.1_1`, `tide-3.1_1`, `tide<4`, or `tide-[0-9]*`.
fn needed(text: &str) -> &str {
    match text.find(['<', '>', '=']) {
        Some(at) => &text[..at],
        None => name_and_version(text).map_or(text, |(name, _)| name),
    }
}

/// Seconds since 1970 of `2026-02-01 10:30 UTC`.
fn seconds(date: &str) -> Option<i64> {
    let date = jiff::civil::DateTime::strptime("%Y-%m-%d %H:%M", date.strip_suffix(" UTC")?).ok()?;
    Some(jiff::tz::TimeZone::UTC.to_timestamp(date).ok()?.as_second())
}

fn package(name: &str, line: u32, entry: &Value, file: &ByteString) -> InstalledPackage {
    let mut item = InstalledPackage::new("package", name);
    let text = |key: &str| entry.text_at(key).filter(|text| !text.is_empty());
    let is_set = |key: &str| entry.get(key) == Some(&Value::Bool(true));
    item.version = text("pkgver").and_then(name_and_version).map(|(_, version)| version.into());
    item.arch = text("architecture").map(ByteString::from);
    item.installed_at = text("install-date").and_then(seconds);
    item.size = match entry.get("installed_size") {
        Some(Value::Number(bytes)) => u64::try_from(*bytes).ok(),
        _ => None,
    };
    item.reason = if is_set("automatic-install") { Reason::Dependency } else { Reason::Explicit };
    item.held = is_set("hold");
    if text("state") != Some("installed") {
        item.status = Status::Broken;
    }
    item.origin = text("repository").map(|url| Origin {
        name: url.into(),
        kind: "repository".to_owned(),
        url: Some(url.into()),
        trust: None,
    });
    for need in entry.get("run_depends").into_iter().flat_map(Value::items).filter_map(Value::text) {
        item.need(needed(need).as_bytes());
    }
    for key in ["shlib-requires", "shlib-provides", "provides"] {
        for text in entry.get(key).into_iter().flat_map(Value::items).filter_map(Value::text) {
            match key {
                "shlib-requires" => item.need(text.as_bytes()),
                "shlib-provides" => item.provides.push(text.into()),
                _ => item.provides.push(needed(text).into()),
            }
        }
    }
    let says = match text("pkgver") {
        Some(pkgver) => ByteString::from(pkgver).to_string(),
        None => "has no version".to_owned(),
    };
    item.evidence.push(Evidence::line(file.clone(), line, says));
    item
}

impl SimpleBackend for Database {
    fn is_of_distribution(&self) -> bool {
        true
    }

    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, _: &Location) -> Record {
        let mut record = Record::default();
        let file = path::join(&self.0, FILE);
        let content = match host.root.read(&file, Limit::RECORD) {
            Ok(content) => content,
            Err(error) => {
                record.notes.push(Loss::unread(&error, "the packages of XBPS are unknown"));
                return record;
            }
        };
        match Value::parse(&content) {
            Ok(read) => {
                let packages = read.entries().iter().filter(|entry| {
                    // A name becomes part of a path.
                    let is_name = !entry.key.starts_with(['_', '.']) && !entry.key.contains('/');
                    is_name && matches!(entry.value, Value::Dict(_))
                });
                record.items.extend(packages.map(|entry| package(&entry.key, entry.line, &entry.value, &file)));
            }
            Err(what) => record.notes.push(Loss::damaged(file, what, "the packages of XBPS are unknown")),
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Dewey
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }
}

/// The lists of a package: what stands in each is a file, a link, or a settings file.
const LISTS: [&str; 3] = ["files", "links", "conf_files"];

/// Each entry of a package's lists, with the list in which it stands.
fn entries(list: &Value) -> impl Iterator<Item = (&'static str, &Value)> {
    LISTS.into_iter().flat_map(|key| list.get(key).into_iter().flat_map(Value::items).map(move |entry| (key, entry)))
}

fn file_records(root: &Root, file: &ByteString, package: u32) -> Result<Vec<FileRecord>, String> {
    let content = root.read(file, Limit::LIST).map_err(|error| error.to_string())?;
    let list = Value::parse(&content).map_err(|what| format!("{file}: {what}"))?;
    let of_entry = |(key, entry): (&'static str, &Value)| {
        let path = ByteString::from(entry.text_at("file").filter(|path| path.starts_with('/'))?);
        let digest = entry.text_at("sha256").filter(|text| text.len() == 64);
        Some(FileRecord {
            package,
            path,
            digest: digest.map(|text| Digest::from_hexadecimal(Algorithm::Sha256, text)),
            is_settings: key == "conf_files",
            ..FileRecord::default()
        })
    };
    Ok(entries(&list).filter_map(of_entry).collect())
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
        let find = |content: &[u8]| match Value::parse(content) {
            Ok(list) => {
                let files = entries(&list).filter_map(|(_, one)| {
                    let entry = one.entry("file")?;
                    let file = entry.value.text().filter(|file| file.starts_with('/'))?;
                    wanted.has(path::name(file.as_bytes())).then(|| (file.into(), entry.line))
                });
                (files.collect(), None)
            }
            Err(what) => (Vec::new(), Some(what)),
        };
        // A package that only brings others has none.
        each_list(&host.root, items, |item| self.file(item), |_| true, find, notes, take);
    }

    fn file(&self, item: &InstalledPackage) -> ByteString {
        path::join(&self.0, &[b".", item.name.as_bytes(), b"-files.plist"].concat())
    }

    fn file_records(&self, host: &Host, items: &[(u32, &InstalledPackage)], notes: &mut Vec<Loss>) -> Vec<FileRecord> {
        let read = |number: u32, item: &InstalledPackage| {
            let file = self.file(item);
            match host.root.entry(&file) {
                Err(error) if error.is_missing() => (Vec::new(), None),
                _ => whole(file_records(&host.root, &file, number)),
            }
        };
        each_record(items, read, notes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_dates_are_taken_apart() {
        assert_eq!(name_and_version("tide-gauge-3.1_2"), Some(("tide-gauge", "3.1_2")));
        for (text, name) in
            [("tide>=3.1_1", "tide"), ("tide-3.1_1", "tide"), ("tide-lamp<4", "tide-lamp"), ("tide", "tide")]
        {
            assert_eq!(needed(text), name);
        }
        assert_eq!(seconds("2026-01-01 00:00 UTC"), Some(1_767_225_600));
        assert_eq!(seconds("yesterday"), None);
    }
}
