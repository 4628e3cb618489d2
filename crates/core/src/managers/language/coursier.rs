//! Coursier, which installs programs of Scala and Java and keeps Java itself (Coursier documentation, "install", "java").
//!
//! Launchers lie in `~/.local/share/coursier/bin` (`COURSIER_BIN_DIR`, `COURSIER_INSTALL_DIR`): a script with an archive
//! behind it, in which `META-INF/coursier/info.json` says what was asked for and `META-INF/coursier/lock-file` which
//! archives it came to. Beside a program that is no archive, `.NAME.aux` has the same. Versions of Java are kept in
//! `~/.cache/coursier/jvm/NAME@VERSION`, and by newer releases where the archive was unpacked:
//! `~/.cache/coursier/arc/https/HOST/…/ARCHIVE.tar.gz/`.
//!
//! Traps: what was asked for can be `latest.release`, the version is that of the lock; a program in that directory without
//! this information is someone else's.

use serde::Deserialize;
use whodunit_formats::zipped;

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("coursier");
const INFO: &str = "META-INF/coursier/info.json";
const LOCK: &str = "META-INF/coursier/lock-file";
/// The longest file of the two that is read.
const MOST: u64 = 4 << 20;
/// So many directories above archives are looked at.
const MAX_DIRS: u32 = 10_000;

/// The manager.
#[derive(Debug)]
pub struct Coursier;

struct Programs {
    /// Where it keeps versions of Java by name.
    java: ByteString,
    /// Where it keeps what it unpacked, by the archive's address.
    unpacked: ByteString,
}

#[derive(Deserialize, Default)]
struct Info {
    #[serde(default)]
    dependencies: Vec<String>,
    #[serde(default)]
    repositories: Vec<String>,
}

impl Manager for Coursier {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let named = ["COURSIER_BIN_DIR", "COURSIER_INSTALL_DIR"].iter().find_map(|name| host.named_dir(user, name));
            let data = host.user_dir(user, "XDG_DATA_HOME", ".local/share");
            let dir = named.unwrap_or_else(|| path::join(&data, b"coursier/bin"));
            let cache = path::join(&host.user_dir(user, "XDG_CACHE_HOME", ".cache"), b"coursier");
            let [java, unpacked] = [&b"jvm"[..], b"arc"].map(|name| path::join(&cache, name));
            let is_there = [&dir, &java, &unpacked].iter().any(|dir| is_dir(host, dir));
            is_there.then_some((dir, Programs { java, unpacked }))
        })
    }
}

/// `org.harbour::tide-cli:latest.release` → `org.harbour` and `tide-cli`.
fn coordinates(asked: &str) -> Option<(&str, &str)> {
    let (organization, rest) = asked.split_once(':')?;
    let name = rest.trim_start_matches(':').split([':', ',']).next()?;
    (!organization.is_empty() && !name.is_empty()).then_some((organization, name))
}

/// The version in a lock's line `https://…/org/harbour/tide-cli_3/2.4.1/tide-cli_3-2.4.1.jar#SHA-1:…`.
fn locked<'l>(lock: &'l str, organization: &str, name: &str) -> Option<&'l str> {
    let place = format!("/{}/", organization.replace('.', "/"));
    lock.lines().find_map(|line| {
        let (_, below) = line.split_once(&*place)?;
        let (artifact, rest) = below.split_once('/')?;
        // The version of Scala can stand behind the name.
        let is_it = artifact == name || artifact.strip_prefix(name).is_some_and(|rest| rest.starts_with('_'));
        rest.split('/').next().filter(|version| is_it && !version.is_empty())
    })
}

/// Directories that are called like archives: what was unpacked of each.
fn archives(host: &Host, top: &ByteString, notes: &mut Vec<Loss>) -> Vec<ByteString> {
    const ENDS: [&[u8]; 4] = [b".tar.gz", b".tgz", b".zip", b".tar.xz"];
    let (mut found, mut looked_at) = (Vec::new(), 0);
    let mut waiting = vec![top.clone()];
    while let Some(dir) = waiting.pop() {
        looked_at += 1;
        if looked_at > MAX_DIRS {
            let says = format!("more than {MAX_DIRS} directories");
            notes.push(Loss::damaged(top.clone(), says, "which versions of Java were unpacked is not fully known"));
            break;
        }
        for (name, _) in dirs_in(host, &dir, false) {
            let at = path::join(&dir, &name);
            match ENDS.iter().any(|end| name.ends_with(end)) {
                true => found.push(at),
                false => waiting.push(at),
            }
        }
    }
    found.sort();
    found
}

/// The Java in an unpacked archive, if there is one: in its only directory, or in the archive itself.
fn unpacked_java(host: &Host, archive: &ByteString) -> Option<InstalledPackage> {
    let inner = dirs_in(host, archive, false).into_iter().map(|(name, _)| path::join(archive, &name));
    let mut homes = std::iter::once(archive.clone()).chain(inner);
    let home = homes.find(|home| host.root.target(&path::join(home, b"bin/java")).is_ok())?;
    let release = path::join(&home, b"release");
    let text = host.root.read(&release, Limit::SMALL).unwrap_or_default();
    let mut item = InstalledPackage::new("toolchain", "java");
    item.version = java_version(&text).map(ByteString::from);
    // Several of one version differ by their archives.
    item.tail = Some(path::join(b"java", path::name(archive)));
    item.installed_at = host.root.modified(archive);
    item.evidence.push(Evidence::directory(archive.clone(), "unpacked from an archive of this name"));
    let stated = item.version.as_ref().map(|version| Evidence::at(release, "JAVA_VERSION", version.to_string()));
    item.evidence.extend(stated);
    item.trees.push(archive.clone());
    Some(item)
}

/// `JAVA_VERSION="17.0.9"` in a Java's file `release`.
fn java_version(text: &[u8]) -> Option<&[u8]> {
    let mut lines = text.split(|byte| *byte == b'\n');
    let quoted = lines.find_map(|line| line.trim_ascii().strip_prefix(b"JAVA_VERSION=\""))?;
    quoted.strip_suffix(b"\"").filter(|version| !version.is_empty())
}

impl Programs {
    /// The launcher at a path; `None` for what is no launcher of Coursier's.
    fn launcher(host: &Host, file: &ByteString, notes: &mut Vec<Loss>) -> Option<InstalledPackage> {
        let name = path::name(file);
        let beside = path::join(path::parent(file), &[b".", name, b".aux"].concat());
        let archive = if host.root.entry(&beside).is_ok() { beside } else { file.clone() };
        let read = host.root.open(&archive).map_err(|error| error.to_string());
        let mut parts = match read.and_then(|opened| zipped::files(opened, &[INFO, LOCK], MOST)) {
            Ok(parts) => parts.into_iter().map(Option::unwrap_or_default),
            // What is no archive is someone else's program; what lies beside one is Coursier's.
            Err(error) => {
                let hides = format!("what {} is, and its version, are unknown", ByteString::from(name));
                notes.extend((archive != *file).then(|| Loss::damaged(archive, error, hides)));
                return None;
            }
        };
        let (info, lock) = (parts.next()?, parts.next()?);
        if info.is_empty() {
            return None;
        }
        let info: Info = serde_json::from_slice(&info).unwrap_or_else(|error| {
            let hides = format!("what {} is, and its version, are unknown", ByteString::from(name));
            notes.push(Loss::damaged(archive.clone(), format!("{INFO}: {error}"), hides));
            Info::default()
        });
        let mut item = InstalledPackage::new("program", name);
        let asked = info.dependencies.first();
        let lock = String::from_utf8_lossy(&lock);
        if let Some((organization, artifact)) = asked.and_then(|asked| coordinates(asked)) {
            item.also.push(artifact.into());
            item.version = locked(&lock, organization, artifact).map(ByteString::from);
        }
        item.origin = info.repositories.first().map(|name| Origin::third_party("repository", name.as_str(), None));
        let says = asked.map_or_else(|| "a launcher of Coursier's".to_owned(), |asked| format!("made for {asked}"));
        item.evidence.push(Evidence::at(archive.clone(), INFO, says));
        if let Some(version) = &item.version {
            item.evidence.push(Evidence::at(archive.clone(), LOCK, format!("{} {version}", item.name)));
        }
        item.installed_at = host.root.modified(file);
        item.bring(file.clone(), item.evidence[0].clone());
        if archive != *file {
            item.places.push((archive.clone(), item.evidence[0].clone()));
        }
        Some(item)
    }
}

impl SimpleBackend for Programs {
    // A launcher has all that it needs in it, or in the cache.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        for (name, kind) in host.root.names_in(&at.dir) {
            if kind == Kind::File && !name.starts_with(b".") {
                let file = path::join(&at.dir, &name);
                let found = Self::launcher(host, &file, &mut record.notes);
                record.items.extend(found);
            }
        }
        for (name, _) in dirs_in(host, &self.java, false) {
            let Some(split) = memchr::memchr(b'@', &name) else { continue };
            let tree = path::join(&self.java, &name);
            let mut item = InstalledPackage::kept("toolchain", &name[..split], &name[split + 1..]);
            item.also.push("java".into());
            item.installed_at = host.root.modified(&tree);
            item.evidence.push(Evidence::directory(tree.clone(), item.with_version()));
            item.trees.push(tree);
            record.items.push(item);
        }
        let archives = archives(host, &self.unpacked, &mut record.notes);
        record.items.extend(archives.iter().filter_map(|archive| unpacked_java(host, archive)));
        record
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.dir.clone(), self.java.clone(), self.unpacked.clone()]
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
    }

    fn program_dirs(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.dir.clone()]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_lock_tells_the_version_of_what_was_asked_for() {
        let lock = "https://quay.example/maven2/org/harbour/tide/9.9/tide-9.9.jar#SHA-1:00\n\
                    https://quay.example/maven2/org/harbour/tide-cli_3/2.4.1/tide-cli_3-2.4.1.jar#SHA-1:00\n";
        for (asked, expected) in [
            ("org.harbour::tide-cli:latest.release", Some("2.4.1")),
            ("org.harbour:::tide-cli:2.4.1", Some("2.4.1")),
            ("org.harbour:tide:latest.stable,classifier=x", Some("9.9")),
            ("org.harbour:gauge:1", None),
            ("tide", None),
            (":tide:1", None),
        ] {
            let found = coordinates(asked).and_then(|(organization, name)| locked(lock, organization, name));
            assert_eq!(found, expected, "{asked}");
        }
    }
}
