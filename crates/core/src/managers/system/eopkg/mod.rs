//! eopkg: Solus.
//!
//! Follows the documents that it writes (the PISI format): `/var/lib/eopkg/package/NAME-VERSION-RELEASE/` with
//! `metadata.xml`, whose first `Update` is what is installed, and `files.xml`; what came along is named in
//! `/var/lib/eopkg/info/automatic`.
//!
//! Traps: paths have no `/` in front; versions are text, and the release's number alone says what is newer.

mod index;

use hashbrown::HashMap;
use quick_xml::events::Event;
use rayon::prelude::*;
use whodunit_formats::primary::plain;

use crate::backend::simple::{
    FileLists, InstalledPackage, Record, SimpleBackend, SimpleCatalogue, SimpleInstallation, dirs_in, each_list,
    each_record, is_dir,
};
use crate::backend::{CachePlace, Installation, Manager, Unattended, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::host::Host;
use crate::model::{
    Algorithm, CommandLine, Digest, Evidence, FileRecord, Location, Loss, ManagerId, ManagerKind, NameFilter, Profile,
    Reason, RemedyKind, Scope,
};
use crate::version::Scheme;

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

    fn unattended(&self) -> &'static [Unattended] {
        &[("eopkg", "eopkg --yes-all")]
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::System)
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("eopkg", &["upgrade", "up"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const { &[CachePlace::without_command("packages that eopkg downloaded", "/var/cache/eopkg/packages")] }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let dir = host.root.canonicalize_dir(DATABASE);
        is_dir(host, &dir)
            .then(|| SimpleInstallation::boxed(host, ID, Scope::System, dir, Database))
            .into_iter()
            .collect()
    }
}

/// Calls `take` with each text of a document: the elements around it, outermost first, the line on which it begins, and
/// the text itself, trimmed and with its entities replaced. Damage ends the walk, and is returned.
fn each_text(content: &[u8], mut take: impl FnMut(&[String], u32, String)) -> Option<Damage> {
    let mut reader = quick_xml::Reader::from_reader(content);
    reader.config_mut().check_end_names = false;
    let (mut open, mut text): (Vec<String>, String) = (Vec::new(), String::new());
    let (mut line, mut counted) = (1, 0);
    loop {
        let start = usize::try_from(reader.buffer_position()).unwrap_or(content.len()).min(content.len());
        let event = reader.read_event();
        match event {
            Ok(Event::Start(_)) if open.len() == MAX_DEPTH => {
                return Some(Damage(format!("line {line}: nested too deeply")));
            }
            Ok(Event::Start(element)) => {
                open.push(element.name().as_ref().to_owned());
                text.clear();
                line += u32::try_from(memchr::memchr_iter(b'\n', &content[counted..start]).count()).unwrap_or(0);
                counted = start;
            }
            Ok(Event::Text(part)) => text.push_str(&part),
            Ok(Event::GeneralRef(entity)) => text.push_str(plain(&entity)),
            Ok(Event::End(_)) => {
                if !text.trim().is_empty() {
                    take(&open, line, text.trim().to_owned());
                }
                text.clear();
                open.pop();
            }
            Ok(Event::Eof) if open.is_empty() => return None,
            Ok(Event::Eof) => return Some(Damage("truncated".to_owned())),
            Err(error) => return Some(Damage(format!("behind line {line}: {error}"))),
            Ok(_) => {}
        }
    }
}

/// What is wrong with a document.
struct Damage(String);

/// The deepest level of elements that is followed.
const MAX_DEPTH: usize = 32;

/// Whether the innermost elements are these.
fn ends_with(open: &[String], elements: &[&str]) -> bool {
    open.len() >= elements.len()
        && open[open.len() - elements.len()..].iter().zip(elements).all(|(one, name)| one == name)
}

fn package(root: &Root, entry: &ByteString) -> (InstalledPackage, Option<Loss>) {
    let file = path::join(entry, b"metadata.xml");
    // `NAME-VERSION-RELEASE`, from the right.
    let dir = path::name(entry);
    let release = memchr::memrchr(b'-', dir).unwrap_or(dir.len());
    let version = memchr::memrchr(b'-', &dir[..release]).unwrap_or(release);
    let mut item = InstalledPackage::new("package", &dir[..version]);
    item.version = dir.get(version + 1..release).map(ByteString::from);
    item.revision = dir.get(release + 1..).map(ByteString::from);
    item.installed_at = root.modified(entry);
    let note = match root.read(&file, Limit::SMALL) {
        Ok(content) => {
            let (mut name, mut newest) = (None, None);
            let damage = each_text(&content, |open, _, text| {
                if ends_with(open, &["Package", "Name"]) {
                    name.get_or_insert(text);
                } else if ends_with(open, &["Update", "Version"]) {
                    newest.get_or_insert(text);
                } else if ends_with(open, &["RuntimeDependencies", "Dependency"]) {
                    item.need(text.as_bytes());
                } else if ends_with(open, &["Package", "Architecture"]) {
                    item.arch.get_or_insert(text.into());
                } else if ends_with(open, &["Package", "InstalledSize"]) {
                    item.size = item.size.or(text.parse().ok());
                }
            });
            item.version = newest.map(ByteString::from).or(item.version);
            let lost = match damage {
                Some(Damage(what)) => Some(Loss::damaged(file.clone(), what, "name and version may be incomplete")),
                None if name.is_none() => {
                    Some(Loss::damaged(file.clone(), "has no name", "taken from the directory's name"))
                }
                None => None,
            };
            item.name = name.map_or(item.name.clone(), ByteString::from);
            lost
        }
        Err(error) => Some(Loss::unread(&error, "name and version are taken from the directory's name")),
    };
    item.purl = None;
    item.entry = entry.clone();
    let says = format!("{} {}", item.name, item.version.clone().unwrap_or_default());
    item.evidence.push(Evidence::at(file, "Package", says));
    let of_it = |verb: &str| CommandLine::new("eopkg").words(verb).operand(item.name.clone());
    let (remove, upgrade) = (of_it("remove"), of_it("upgrade"));
    (item.remedy(RemedyKind::Remove, remove).remedy(RemedyKind::Upgrade, upgrade), note)
}

impl SimpleBackend for Database {
    fn is_of_distribution(&self) -> bool {
        true
    }

    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let automatic = match host.root.read(AUTOMATIC, Limit::SMALL) {
            Ok(content) => Some(content),
            Err(error) if error.is_missing() => None,
            Err(error) => {
                record.notes.push(Loss::unread(&error, "which packages were requested is unknown"));
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

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }

    fn catalogue(&self) -> Option<&dyn SimpleCatalogue> {
        Some(self)
    }
}

/// The files of a list: path, sort, owner, permissions, and the digest of a file's content (SHA-1).
fn file_records(list: &[u8], package: u32) -> (Vec<FileRecord>, Option<Damage>) {
    let mut files: Vec<FileRecord> = Vec::new();
    let damage = each_text(list, |open, _, text| {
        let Some(element) = open.last().filter(|_| ends_with(&open[..open.len() - 1], &["File"])) else { return };
        // Every entry begins with its path.
        if element == "Path" {
            files.push(FileRecord { package, path: absolute(&text), ..FileRecord::default() });
        }
        let Some(file) = files.last_mut() else { return };
        match element.as_str() {
            "Hash" if text.len() == 40 => file.digest = Some(Digest::from_hexadecimal(Algorithm::Sha1, &text)),
            "Uid" => file.owner = text.parse().ok(),
            "Gid" => file.group = text.parse().ok(),
            "Mode" => file.mode = u32::from_str_radix(&text, 8).ok().map(|mode| mode & 0o7777),
            "Type" => file.is_settings = text == "config",
            _ => {}
        }
    });
    (files, damage)
}

/// The path of a list, which is written without the first slash.
fn absolute(path: &str) -> ByteString {
    path::join(b"/", path.trim_start_matches('/').as_bytes())
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
            let mut found = Vec::new();
            let damage = each_text(content, |open, line, text| {
                if ends_with(open, &["File", "Path"]) {
                    let file = absolute(&text);
                    found.extend(wanted.has(path::name(&file)).then_some((file, line)));
                }
            });
            (found, damage.map(|Damage(what)| what))
        };
        each_list(&host.root, items, |item| self.file(item), |_| false, find, notes, take);
    }

    fn file(&self, item: &InstalledPackage) -> ByteString {
        path::join(&item.entry, b"files.xml")
    }

    fn file_records(&self, host: &Host, items: &[(u32, &InstalledPackage)], notes: &mut Vec<Loss>) -> Vec<FileRecord> {
        let read = |number: u32, item: &InstalledPackage| match host.root.read(&self.file(item), Limit::LIST) {
            Ok(list) => {
                let (files, damage) = file_records(&list, number);
                (files, damage.map(|Damage(what)| format!("{}: {what}", self.file(item))))
            }
            Err(error) => (Vec::new(), Some(error.to_string())),
        };
        each_record(items, read, notes)
    }

    fn restore(&self, item: &InstalledPackage) -> Option<CommandLine> {
        Some(CommandLine::new("eopkg install --reinstall").operand(item.name.clone()))
    }
}
