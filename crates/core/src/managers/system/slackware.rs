//! Slackware's package tools (`installpkg(8)`, `removepkg(8)`).
//!
//! A file for each package in `/var/lib/pkgtools/packages` (before 15.0 `/var/log/packages`), called
//! `NAME-VERSION-ARCH-BUILD`: a head of `KEY: value`, a description, and behind `FILE LIST:` a path to a line.
//!
//! Traps: paths have no `/` in front; links are in no list, but are made by the package's script in `scripts/`, a line
//! of a fixed form for each; a file that is called `….new` is moved in place as settings, if none are there; what
//! belongs to `install/` is not installed. Who needs whom is recorded nowhere.

use rayon::prelude::*;

use crate::backend::simple::{
    FileLists, InstalledPackage, Record, SimpleBackend, SimpleInstallation, each_list, is_dir,
};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Root;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, NameFilter, Profile, Reason, Scope};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("pkgtools");
const PLACES: [&[u8]; 2] = [b"/var/lib/pkgtools", b"/var/log"];
/// The keys of a record stand in its first bytes, at most so many.
const HEAD: usize = 4096;

/// The manager.
#[derive(Debug)]
pub struct Slackware;

/// The directory of records, and that of scripts.
struct Records {
    packages: ByteString,
    scripts: ByteString,
}

impl Manager for Slackware {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::System)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let at = |place: &[u8]| {
            let [packages, scripts] = [&b"packages"[..], b"scripts"].map(|dir| path::join(place, dir));
            Records { packages: host.root.canonicalize_dir(&packages), scripts: host.root.canonicalize_dir(&scripts) }
        };
        let found = PLACES
            .iter()
            .map(|place| at(place))
            .find(|records| is_dir(host, &records.packages) && is_dir(host, &records.scripts));
        let opened =
            found.map(|records| SimpleInstallation::boxed(host, ID, Scope::System, records.packages.clone(), records));
        opened.into_iter().collect()
    }
}

/// `tide-gauge-3.1-x86_64-2_harbour` → name, version, architecture, build.
fn parts(file: &[u8]) -> Option<[&[u8]; 4]> {
    let mut parts = file.rsplitn(4, |&b| b == b'-');
    let (build, arch, version, name) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
    (!name.is_empty()).then_some([name, version, arch, build])
}

/// `94K`, `1.2M` → bytes, as far as the record is that exact.
fn bytes(text: &[u8]) -> Option<u64> {
    let text = std::str::from_utf8(text).ok()?.trim();
    let (number, unit) = text.split_at(text.len().checked_sub(1)?);
    let factor = match unit {
        "K" => 1_u64 << 10,
        "M" => 1 << 20,
        "G" => 1 << 30,
        _ => return None,
    };
    let (whole, tenth) = number.split_once('.').unwrap_or((number, "0"));
    let (whole, tenth): (u64, u64) = (whole.parse().ok()?, tenth.parse().ok().filter(|tenth| *tenth < 10)?);
    whole.checked_mul(factor)?.checked_add(tenth * factor / 10)
}

fn package(root: &Root, entry: &ByteString) -> Result<InstalledPackage, Loss> {
    let name = path::name(entry);
    let Some([package, version, arch, build]) = parts(name) else {
        let what = "is not called NAME-VERSION-ARCH-BUILD";
        return Err(Loss::damaged(entry.clone(), what, "a package is unknown"));
    };
    let mut item = InstalledPackage::new("package", package);
    item.version = Some(version.into());
    item.arch = Some(arch.into());
    item.revision = Some(build.into());
    // Nothing tells what was asked for.
    item.reason = Reason::Unknown;
    item.installed_at = root.modified(entry);
    item.entry = entry.clone();
    item.evidence.push(Evidence::whole(entry.clone(), format!("{} {}", item.name, ByteString::from(version))));
    let content = root
        .read_start(entry, HEAD)
        .map_err(|error| Loss::unread(&error, format!("the package {} is unknown", item.name)))?;
    let head = content.split(|&b| b == b'\n').take_while(|line| !line.starts_with(b"FILE LIST:"));
    item.size = head.filter_map(|line| line.strip_prefix(b"UNCOMPRESSED PACKAGE SIZE:")).find_map(bytes);
    Ok(item)
}

/// A line of a script, not of a list.
const OF_SCRIPT: u32 = 1 << 31;

impl Records {
    /// What was run when a package was installed.
    fn script(&self, item: &InstalledPackage) -> ByteString {
        path::join(&self.scripts, path::name(&item.entry))
    }
}

impl SimpleBackend for Records {
    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let names = match host.root.dir(&at.dir).and_then(|dir| dir.list()) {
            Ok(names) => names,
            Err(error) => {
                record.notes.push(Loss::unread(&error, "the packages of Slackware are unknown"));
                return record;
            }
        };
        let files: Vec<ByteString> = names.into_iter().map(|(name, _)| path::join(&at.dir, &name)).collect();
        let read: Vec<_> = files.par_iter().map(|file| package(&host.root, file)).collect();
        for one in read {
            match one {
                Ok(item) => record.items.push(item),
                Err(loss) => record.notes.push(loss),
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

/// The files of a record, each with its line.
fn files(content: &[u8]) -> Option<impl Iterator<Item = (ByteString, u32)>> {
    let mut lines = (1..).zip(content.split(|&b| b == b'\n'));
    lines.by_ref().find(|(_, line)| line.starts_with(b"FILE LIST:"))?;
    let files = lines.filter(|(_, line)| !line.is_empty() && !line.ends_with(b"/") && !line.starts_with(b"install/"));
    Some(files.map(|(number, line)| {
        let line = line.strip_prefix(b"./").unwrap_or(line);
        (path::join(b"/", line.strip_suffix(b".new").unwrap_or(line)), number)
    }))
}

/// `( cd usr/lib ; ln -sf libtide.so.1.2 libtide.so )` → the link.
fn link_made_by(line: &[u8]) -> Option<ByteString> {
    let words: Vec<&[u8]> = line.split(|&b| b == b' ').filter(|word| !word.is_empty()).collect();
    match words[..] {
        [b"(", b"cd", dir, b";", b"ln", b"-sf", _, name, b")"] if !name.contains(&b'/') => {
            Some(path::join(&path::join(b"/", dir), name))
        }
        _ => None,
    }
}

impl FileLists for Records {
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<Loss>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        let find = |content: &[u8]| match files(content) {
            Some(files) => (files.filter(|(file, _)| wanted.has(path::name(file))).collect(), None),
            None => (Vec::new(), Some("has no list of files".to_owned())),
        };
        each_list(&host.root, items, |item| item.entry.clone(), |_| false, find, notes, take);
        let find = |content: &[u8]| {
            let lines = (1..).zip(content.split(|&b| b == b'\n'));
            let links = lines.filter_map(|(number, line)| link_made_by(line).map(|link| (link, OF_SCRIPT | number)));
            (links.filter(|(link, _)| wanted.has(path::name(link))).collect(), None)
        };
        each_list(&host.root, items, |item| self.script(item), |_| true, find, notes, take);
    }

    fn place(&self, item: &InstalledPackage, line: u32) -> (ByteString, u32) {
        match line & OF_SCRIPT {
            0 => (self.file(item), line),
            _ => (self.script(item), line & !OF_SCRIPT),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_are_taken_apart() {
        let [name, version, arch, build] = parts(b"tide-gauge-3.1-x86_64-2_harbour").unwrap();
        assert_eq!((name, version, arch, build), (&b"tide-gauge"[..], &b"3.1"[..], &b"x86_64"[..], &b"2_harbour"[..]));
        assert_eq!(parts(b"tide-3.1-x86_64"), None);
        for (text, expected) in
            [("94K", Some(96_256)), (" 1.5M", Some(1_572_864)), ("x", None), ("", None), ("9", None)]
        {
            assert_eq!(bytes(text.as_bytes()), expected, "{text}");
        }
        for (line, link) in [
            ("( cd usr/lib ; ln -sf libtide.so.1.2 libtide.so )", Some("/usr/lib/libtide.so")),
            ("( cd usr/lib ; rm -rf libtide.so )", None),
            ("( cd / ; ln -sf x ../../etc/passwd )", None),
        ] {
            assert_eq!(link_made_by(line.as_bytes()), link.map(ByteString::from), "{line}");
        }
    }
}
