//! Portage: Gentoo and its family.
//!
//! Follows *Package Manager Specification*, chapter "Installed packages database", and `portage(5)`. Each package has a
//! folder `/var/db/pkg/CATEGORY/NAME-VERSION` with a file for each value; `CONTENTS` lists its files; what was asked for
//! stands in `/var/lib/portage/world`.
//!
//! Traps: a missing file is an empty value; one name in two categories is two packages; names hold dashes and digits, so
//! that a version is cut off only where it reads as one; paths and targets of links can hold blanks; several slots of one
//! package are kept on purpose; `-MERGING-` folders are of interrupted installations.

use std::cmp::Ordering;

use hashbrown::HashMap;
use rayon::prelude::*;

use super::roster::{Item, Keeper, Lists, Record, Roster, each_list, each_record, folders_in, is_folder};
use super::{Holdings, Manager};
use crate::model::{Algorithm, Digest, Evidence, Installation, ManagerId, Origin, Reason, Recorded, Scope, Wanted};
use crate::root::{Kind, Limit, Root};
use crate::scene::Scene;
use crate::text::{Text, path, shell_word};
use crate::version::gentoo;

const ID: ManagerId = ManagerId("portage");
const DATABASE: &[u8] = b"/var/db/pkg";
const WORLD: &[u8] = b"/var/lib/portage/world";

/// The manager.
#[derive(Debug)]
pub struct Portage;

struct Database;

impl Manager for Portage {
    fn id(&self) -> ManagerId {
        ID
    }

    fn keeps_versions(&self) -> bool {
        true // Slots.
    }

    fn open<'s>(&self, scene: &'s Scene) -> Vec<Box<dyn Holdings + 's>> {
        let folder = scene.root.settle_folder(DATABASE);
        is_folder(scene, &folder)
            .then(|| Roster::boxed(scene, ID, Scope::System, folder, Database))
            .into_iter()
            .collect()
    }
}

/// `NAME-VERSION[-rN]`, cut at the first dash behind which all reads as a version.
fn cut(folder: &[u8]) -> Option<(&[u8], &[u8])> {
    let fits = |&at: &usize| {
        let rest = &folder[at + 1..];
        rest.first().is_some_and(u8::is_ascii_digit) && gentoo::is_version(rest)
    };
    let at = memchr::memchr_iter(b'-', folder).find(fits)?;
    Some((&folder[..at], &folder[at + 1..]))
}

/// Names that were asked for, with the line: without versions, slots and repositories.
fn world(content: &[u8]) -> HashMap<Text, u32> {
    let lines = (1..).zip(content.split(|&b| b == b'\n')).map(|(number, line)| (number, line.trim_ascii()));
    let named = lines.filter(|(_, line)| !line.is_empty() && !line.starts_with(b"#") && !line.starts_with(b"@"));
    named
        .map(|(number, line)| {
            let bare = &line[line.iter().position(|b| !b"<>=~!".contains(b)).unwrap_or(0)..];
            let name = bare.split(|&b| b == b':').next().unwrap_or(bare);
            let category = memchr::memchr(b'/', name).map_or(0, |at| at + 1);
            let with_version = line != bare;
            let name = match cut(&name[category..]).filter(|_| with_version) {
                Some((stem, _)) => &name[..category + stem.len()],
                None => name,
            };
            (name.into(), number)
        })
        .collect()
}

fn value(root: &Root, entry: &[u8], name: &str) -> Option<Text> {
    let content = root.read(&path::join(entry, name.as_bytes()), Limit::SMALL).ok()?;
    Some(content.trim_ascii().into()).filter(|value: &Text| !value.is_empty())
}

fn package(root: &Root, category: &Text, folder: &Text) -> Result<Item, String> {
    let entry = path::join(&path::join(DATABASE, category), folder);
    let Some((name, version)) = cut(folder) else {
        return Err(format!("{entry}: its name has no version: a package is not known"));
    };
    let mut item = Item::new("package", path::join(category, name));
    item.version = Some(version.into());
    item.channel = value(root, &entry, "SLOT");
    item.origin = value(root, &entry, "repository").map(|name| {
        let trust = if *name == *b"gentoo" { "distribution" } else { "third-party" };
        Origin { name, kind: "repository".to_owned(), url: None, trust: Some(trust.to_owned()) }
    });
    let number = |name: &str| std::str::from_utf8(&value(root, &entry, name)?).ok()?.parse::<i64>().ok();
    item.size = number("SIZE").and_then(|size| u64::try_from(size).ok());
    item.installed_at = root.entry(&path::join(&entry, b"CONTENTS")).ok().map(|meta| meta.modified);
    item.arch = value(root, &entry, "CHOST").and_then(|host| Some(Text::from(host.split(|&b| b == b'-').next()?)));
    item.also = vec![name.into(), [&*item.name, b"-", version].concat().into()];
    item.evidence.push(Evidence::at(entry.clone(), "folder", format!("{} {}", item.name, Text::from(version))));
    item.tail = Some(path::join(category, folder));
    let atom = shell_word(&[b"=", &*path::join(category, folder)].concat());
    let item = item.remedy("remove", format!("sudo emerge --depclean {atom}"));
    let name = shell_word(&item.name);
    let mut item = item.remedy("upgrade", format!("sudo emerge --update {name}"));
    item.entry = entry;
    Ok(item)
}

impl Keeper for Database {
    fn read(&self, scene: &Scene, at: &Installation) -> Record {
        let mut record = Record::default();
        let asked = match scene.root.read(WORLD, Limit::SMALL) {
            Ok(content) => Some(world(&content)),
            Err(error) => {
                record.notes.push(format!("{error}: which packages were asked for is not known"));
                None
            }
        };
        let mut folders = Vec::new();
        for (category, _) in folders_in(scene, &at.location, true) {
            let inside = folders_in(scene, &path::join(&at.location, &category), false);
            let sound = inside.into_iter().filter(|(name, _)| !name.starts_with(b"-MERGING-"));
            folders.extend(sound.map(|(name, _)| (category.clone(), name)));
        }
        let read: Vec<_> =
            folders.par_iter().map(|(category, folder)| package(&scene.root, category, folder)).collect();
        for one in read {
            match one {
                Ok(item) => record.items.push(item),
                Err(note) => record.notes.push(note),
            }
        }
        for item in &mut record.items {
            let line = asked.as_ref().and_then(|asked| asked.get(&item.name));
            item.reason = match (&asked, line) {
                (None, _) => Reason::Unknown,
                (Some(_), None) => Reason::Dependency,
                (Some(_), Some(_)) => Reason::Explicit,
            };
            item.evidence.extend(line.map(|line| Evidence::line(WORLD, *line, format!("{} was asked for", item.name))));
        }
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        gentoo::compare(a, b)
    }

    fn lists(&self) -> Option<&dyn Lists> {
        Some(self)
    }
}

/// The path of a line of `CONTENTS`, and the digest of a file.
fn content(line: &[u8]) -> Option<(&[u8], Option<&[u8]>)> {
    let (kind, rest) = line.split_at(memchr::memchr(b' ', line)?);
    let rest = &rest[1..];
    match kind {
        // `PATH MD5 SECONDS`, from the right.
        b"obj" => {
            let seconds = memchr::memrchr(b' ', rest)?;
            let digest = memchr::memrchr(b' ', &rest[..seconds])?;
            Some((&rest[..digest], Some(&rest[digest + 1..seconds])))
        }
        b"sym" => Some((&rest[..memchr::memmem::find(rest, b" -> ")?], None)),
        b"dir" | b"fif" | b"dev" => Some((rest, None)),
        _ => None,
    }
}

/// What a line says of a file: `obj PATH MD5 SECONDS`, `sym PATH -> TARGET SECONDS`.
fn recorded(line: &[u8], package: u32) -> Option<Recorded> {
    let (path, digest) = content(line)?;
    let last = memchr::memrchr(b' ', line)?;
    let seconds = || std::str::from_utf8(&line[last + 1..]).ok()?.parse().ok();
    let digest = digest.map(|md5| Digest::from_hexadecimal(Algorithm::Md5, &String::from_utf8_lossy(md5)));
    let arrow = memchr::memmem::find(line, b" -> ").filter(|_| line.starts_with(b"sym "));
    let target = arrow.and_then(|at| line.get(at + 4..last)).map(Text::from);
    let kind = match &line[..4] {
        b"obj " => Some(Kind::File),
        b"sym " => Some(Kind::Link),
        b"dir " => Some(Kind::Folder),
        _ => None,
    };
    let is_dated = matches!(kind, Some(Kind::File | Kind::Link));
    Some(Recorded {
        package,
        path: path.into(),
        kind,
        digest,
        modified: if is_dated { seconds() } else { None },
        target,
        // What CONFIG_PROTECT has as it comes.
        is_settings: path::within(path, b"/etc"),
        ..Recorded::default()
    })
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
        let find = |list: &[u8]| {
            let lines = (1..).zip(list.split(|&b| b == b'\n'));
            let files = lines.filter_map(|(line, text)| Some((content(text)?.0, line)));
            files.filter(|(file, _)| wanted.has(path::name(file))).map(|(file, line)| (file.into(), line)).collect()
        };
        each_list(&scene.root, items, |item| self.file(item), |_| true, find, notes, take);
    }

    fn file(&self, item: &Item) -> Text {
        path::join(&item.entry, b"CONTENTS")
    }

    fn digest(&self, scene: &Scene, item: &Item, settled: &[u8]) -> Option<Digest> {
        let list = scene.root.read(&self.file(item), Limit::LIST).ok()?;
        let name = path::name(settled);
        let mut found = list.split(|&b| b == b'\n').filter_map(content);
        let (_, digest) = found.find(|(file, _)| path::name(file) == name && *scene.root.settle(file) == *settled)?;
        Some(Digest::from_hexadecimal(Algorithm::Md5, &String::from_utf8_lossy(digest?)))
    }

    fn recorded(&self, scene: &Scene, items: &[(u32, &Item)], notes: &mut Vec<String>) -> Vec<Recorded> {
        let read = |number: u32, item: &Item| match scene.root.read(&self.file(item), Limit::LIST) {
            Ok(list) => Ok(list.split(|&b| b == b'\n').filter_map(|line| recorded(line, number)).collect()),
            Err(error) if error.is_missing() => Ok(Vec::new()),
            Err(error) => Err(error.to_string()),
        };
        each_record(items, read, notes)
    }

    fn restore(&self, item: &Item) -> Option<String> {
        Some(format!("sudo emerge --oneshot {}", shell_word(&item.name)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_cut_off_where_they_read_as_versions() {
        for (folder, expected) in [
            ("tarn-2.3-r1", Some(("tarn", "2.3-r1"))),
            ("gtk-2-utils-1.0_rc1", Some(("gtk-2-utils", "1.0_rc1"))),
            ("font-100dpi-9999", Some(("font-100dpi", "9999"))),
            ("tarn", None),
        ] {
            let found = cut(folder.as_bytes());
            assert_eq!(found, expected.map(|(name, version)| (name.as_bytes(), version.as_bytes())), "{folder}");
        }
        assert_eq!(content(b"obj /a b 0cc1 17 0cc2 18"), Some((&b"/a b 0cc1 17"[..], Some(&b"0cc2"[..]))));
        assert_eq!(content(b"sym /a b -> c 17"), Some((&b"/a b"[..], None)));
        let names = world(b"# no\nnet-misc/tarn\n>=app/buoy-1.2:0\n@set\nnet/chain::quay\n");
        assert_eq!(names.len(), 3);
        assert!(names.contains_key(&b"app/buoy"[..]) && names.contains_key(&b"net/chain"[..]), "{names:?}");
    }
}
