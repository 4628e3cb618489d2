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

use super::roster::{Item, Keeper, Lists, Record, Roster, each_list, each_record, folders_in, is_folder};
use super::{Holdings, Manager};
use crate::model::{Algorithm, Digest, Evidence, Installation, ManagerId, Reason, Recorded, Scope, Wanted};
use crate::root::{Limit, Root};
use crate::scene::Scene;
use crate::text::{Text, path, shell_word};
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

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let folder = scene.root.settle_folder(DATABASE);
        is_folder(scene, &folder)
            .then(|| Roster::boxed(scene, ID, Scope::System, folder, Database))
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

fn package(root: &Root, entry: &Text) -> (Item, Option<String>) {
    let file = path::join(entry, b"metadata.xml");
    // `NAME-VERSION-RELEASE`, from the right.
    let folder = path::name(entry);
    let release = memchr::memrchr(b'-', folder).unwrap_or(folder.len());
    let version = memchr::memrchr(b'-', &folder[..release]).unwrap_or(release);
    let mut item = Item::new("package", &folder[..version]);
    item.version = folder.get(version + 1..release).map(Text::from);
    item.revision = folder.get(release + 1..).map(Text::from);
    item.installed_at = root.entry(entry).ok().map(|meta| meta.modified);
    let note = match root.read(&file, Limit::SMALL) {
        Ok(content) => {
            let xml = String::from_utf8_lossy(&content);
            let body = element(&xml, "Package").unwrap_or(&xml);
            let name = element(body, "Name").map(plain);
            let update = body.find("<Update").map(|at| &body[at..]).unwrap_or_default();
            item.version = element(update, "Version").map(|text| Text::from(plain(text))).or(item.version);
            item.arch = element(body, "Architecture").map(Text::from);
            item.size = element(body, "InstalledSize").and_then(|size| size.parse().ok());
            let lost = name.is_none().then(|| format!("{file}: says no name: taken from the folder's name"));
            item.name = name.map_or(item.name.clone(), Text::from);
            lost
        }
        Err(error) => Some(format!("{error}: name and version are taken from the folder's name")),
    };
    item.purl = None;
    item.entry = entry.clone();
    let says = format!("{} {}", item.name, item.version.clone().unwrap_or_default());
    item.evidence.push(Evidence::at(file, "Package", says));
    let word = shell_word(&item.name);
    let item = item.remedy("remove", format!("sudo eopkg remove {word}"));
    (item.remedy("upgrade", format!("sudo eopkg upgrade {word}")), note)
}

impl Keeper for Database {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let automatic = match scene.root.read(AUTOMATIC, Limit::SMALL) {
            Ok(content) => Some(content),
            Err(error) if error.is_missing() => None,
            Err(error) => {
                record.notes.push(format!("{error}: which packages were asked for is not known"));
                None
            }
        };
        let came: HashMap<&[u8], u32> = automatic
            .iter()
            .flat_map(|content| content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii).zip(1..))
            .collect();
        let folders: Vec<Text> = folders_in(scene, &at.location, false)
            .into_iter()
            .map(|(name, _)| path::join(&at.location, &name))
            .collect();
        let read: Vec<_> = folders.par_iter().map(|entry| package(&scene.root, entry)).collect();
        for (mut item, note) in read {
            let line = came.get(&*item.name);
            item.reason = match (&automatic, line) {
                (None, _) => Reason::Unknown,
                (_, Some(_)) => Reason::Dependency,
                (_, None) => Reason::Explicit,
            };
            item.evidence
                .extend(line.map(|line| Evidence::line(AUTOMATIC, *line, format!("{} came along", item.name))));
            record.items.push(item);
            record.notes.extend(note);
        }
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        tokens::compare(a, b)
    }

    fn lists(&self) -> Option<&dyn Lists> {
        Some(self)
    }
}

/// The files of a list: path, sort, owner, permissions, and the digest of a file's content (SHA-1).
fn recorded(xml: &str, package: u32) -> Vec<Recorded> {
    let files = xml.split("<File>").skip(1).filter_map(|file| {
        let path = element(file, "Path")?;
        let number =
            |name: &str, base| element(file, name).and_then(|text| u32::from_str_radix(text.trim(), base).ok());
        let digest = element(file, "Hash").map(str::trim).filter(|hash| hash.len() == 40);
        Some(Recorded {
            package,
            path: path::join(b"/", plain(path).trim_start_matches('/').as_bytes()),
            digest: digest.map(|hash| Digest::from_hexadecimal(Algorithm::Sha1, hash)),
            owner: number("Uid", 10),
            group: number("Gid", 10),
            mode: number("Mode", 8).map(|mode| mode & 0o7777),
            is_settings: element(file, "Type") == Some("config"),
            ..Recorded::default()
        })
    });
    files.collect()
}

impl Lists for Database {
    fn each(
        &self,
        scene: &Scene,
        items: &[Item],
        wanted: &Wanted,
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
        each_list(&scene.root, items, |item| self.file(item), |_| false, find, notes, take);
    }

    fn file(&self, item: &Item) -> Text {
        path::join(&item.entry, b"files.xml")
    }

    fn recorded(&self, scene: &Scene, items: &[(u32, &Item)], notes: &mut Vec<String>) -> Vec<Recorded> {
        let read = |number: u32, item: &Item| {
            let list = scene.root.read(&self.file(item), Limit::LIST).map_err(|error| error.to_string())?;
            Ok(recorded(&String::from_utf8_lossy(&list), number))
        };
        each_record(items, read, notes)
    }

    fn restore(&self, item: &Item) -> Option<String> {
        Some(format!("sudo eopkg install --reinstall {}", shell_word(&item.name)))
    }
}
