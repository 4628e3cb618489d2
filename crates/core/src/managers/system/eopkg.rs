//! eopkg: Solus.
//!
//! Follows the documents that it writes (the PISI format): `/var/lib/eopkg/package/NAME-VERSION-RELEASE/` with
//! `metadata.xml`, whose first `Update` is what is installed, and `files.xml`; what came along is named in
//! `/var/lib/eopkg/info/automatic`.
//!
//! Traps: paths have no `/` in front; versions are text, and the release's number alone says what is newer.

use std::cmp::Ordering;

use hashbrown::HashMap;
use rayon::prelude::*;

use crate::backend::simple::{
    FileLists, InstalledPackage, Record, SimpleBackend, SimpleInstallation, dirs_in, each_list, each_record, is_dir,
};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path, shell_word};
use crate::fs::{Limit, Root};
use crate::host::Host;
use crate::model::{
    Algorithm, Digest, Evidence, FileRecord, Location, ManagerId, ManagerKind, NameFilter, Profile, Reason, RemedyKind,
    Scope,
};
use crate::version::tokens;

const ID: ManagerId = ManagerId("eopkg");
const DATABASE: &[u8] = b"/var/lib/eopkg/package";
const AUTOMATIC: &[u8] = b"/var/lib/eopkg/info/automatic";

/// The manager.
#[derive(Debug)]
pub struct Eopkg;

struct Database;

impl Manager for Eopkg {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::System)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let dir = host.root.canonicalize_dir(DATABASE);
        is_dir(host, &dir)
            .then(|| SimpleInstallation::boxed(host, ID, Scope::System, dir, Database))
            .into_iter()
            .collect()
    }
}

/// The text inside the first element of this name, with no regard to what is around it.
fn element<'x>(xml: &'x str, name: &str) -> Option<&'x str> {
    let open = format!("<{name}>");
    let start = xml.find(&open)? + open.len();
    let end = xml[start..].find(&format!("</{name}>"))?;
    Some(xml[start..start + end].trim())
}

fn plain(text: &str) -> String {
    text.replace("&lt;", "<").replace("&gt;", ">").replace("&quot;", "\"").replace("&apos;", "'").replace("&amp;", "&")
}

fn package(root: &Root, entry: &ByteString) -> (InstalledPackage, Option<String>) {
    let file = path::join(entry, b"metadata.xml");
    // `NAME-VERSION-RELEASE`, from the right.
    let dir = path::name(entry);
    let release = memchr::memrchr(b'-', dir).unwrap_or(dir.len());
    let version = memchr::memrchr(b'-', &dir[..release]).unwrap_or(release);
    let mut item = InstalledPackage::new("package", &dir[..version]);
    item.version = dir.get(version + 1..release).map(ByteString::from);
    item.revision = dir.get(release + 1..).map(ByteString::from);
    item.installed_at = root.entry(entry).ok().map(|meta| meta.modified);
    let note = match root.read(&file, Limit::SMALL) {
        Ok(content) => {
            let xml = String::from_utf8_lossy(&content);
            let body = element(&xml, "Package").unwrap_or(&xml);
            let name = element(body, "Name").map(plain);
            let update = body.find("<Update").map(|at| &body[at..]).unwrap_or_default();
            item.version = element(update, "Version").map(|text| ByteString::from(plain(text))).or(item.version);
            item.arch = element(body, "Architecture").map(ByteString::from);
            item.size = element(body, "InstalledSize").and_then(|size| size.parse().ok());
            let lost = name.is_none().then(|| format!("{file}: has no name: taken from the directory's name"));
            item.name = name.map_or(item.name.clone(), ByteString::from);
            lost
        }
        Err(error) => Some(format!("{error}: name and version are taken from the directory's name")),
    };
    item.purl = None;
    item.entry = entry.clone();
    let says = format!("{} {}", item.name, item.version.clone().unwrap_or_default());
    item.evidence.push(Evidence::at(file, "Package", says));
    let word = shell_word(&item.name);
    let item = item.remedy(RemedyKind::Remove, format!("sudo eopkg remove {word}"));
    (item.remedy(RemedyKind::Upgrade, format!("sudo eopkg upgrade {word}")), note)
}

impl SimpleBackend for Database {
    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let automatic = match host.root.read(AUTOMATIC, Limit::SMALL) {
            Ok(content) => Some(content),
            Err(error) if error.is_missing() => None,
            Err(error) => {
                record.notes.push(format!("{error}: which packages were requested is unknown"));
                None
            }
        };
        let came: HashMap<&[u8], u32> = automatic
            .iter()
            .flat_map(|content| content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii).zip(1..))
            .collect();
        let dirs: Vec<ByteString> =
            dirs_in(host, &at.dir, false).into_iter().map(|(name, _)| path::join(&at.dir, &name)).collect();
        let read: Vec<_> = dirs.par_iter().map(|entry| package(&host.root, entry)).collect();
        for (mut item, note) in read {
            let line = came.get(&*item.name);
            item.reason = match (&automatic, line) {
                (None, _) => Reason::Unknown,
                (_, Some(_)) => Reason::Dependency,
                (_, None) => Reason::Explicit,
            };
            item.evidence
                .extend(line.map(|line| Evidence::line(AUTOMATIC, *line, format!("{} is a dependency", item.name))));
            record.items.push(item);
            record.notes.extend(note);
        }
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        tokens::compare(a, b)
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }
}

/// The files of a list: path, sort, owner, permissions, and the digest of a file's content (SHA-1).
fn file_records(xml: &str, package: u32) -> Vec<FileRecord> {
    let files = xml.split("<File>").skip(1).filter_map(|file| {
        let path = element(file, "Path")?;
        let number =
            |name: &str, base| element(file, name).and_then(|text| u32::from_str_radix(text.trim(), base).ok());
        let digest = element(file, "Hash").map(str::trim).filter(|hash| hash.len() == 40);
        Some(FileRecord {
            package,
            path: path::join(b"/", plain(path).trim_start_matches('/').as_bytes()),
            digest: digest.map(|hash| Digest::from_hexadecimal(Algorithm::Sha1, hash)),
            owner: number("Uid", 10),
            group: number("Gid", 10),
            mode: number("Mode", 8).map(|mode| mode & 0o7777),
            is_settings: element(file, "Type") == Some("config"),
            ..FileRecord::default()
        })
    });
    files.collect()
}

impl FileLists for Database {
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<String>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        let find = |content: &[u8]| {
            let xml = String::from_utf8_lossy(content);
            let (mut found, mut line) = (Vec::new(), 1);
            for (place, piece) in xml.split("<Path>").enumerate() {
                if place > 0
                    && let Some((file, _)) = piece.split_once("</Path>")
                {
                    let file = path::join(b"/", plain(file).trim_start_matches('/').as_bytes());
                    found.extend(wanted.has(path::name(&file)).then_some((file, line)));
                }
                line += u32::try_from(piece.matches('\n').count()).unwrap_or(u32::MAX);
            }
            found
        };
        each_list(&host.root, items, |item| self.file(item), |_| false, find, notes, take);
    }

    fn file(&self, item: &InstalledPackage) -> ByteString {
        path::join(&item.entry, b"files.xml")
    }

    fn file_records(
        &self,
        host: &Host,
        items: &[(u32, &InstalledPackage)],
        notes: &mut Vec<String>,
    ) -> Vec<FileRecord> {
        let read = |number: u32, item: &InstalledPackage| {
            let list = host.root.read(&self.file(item), Limit::LIST).map_err(|error| error.to_string())?;
            Ok(file_records(&String::from_utf8_lossy(&list), number))
        };
        each_record(items, read, notes)
    }

    fn restore(&self, item: &InstalledPackage) -> Option<String> {
        Some(format!("sudo eopkg install --reinstall {}", shell_word(&item.name)))
    }
}
