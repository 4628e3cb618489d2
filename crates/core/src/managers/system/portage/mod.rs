//! Portage: Gentoo and its family.
//!
//! Follows *Package Manager Specification*, chapter "Installed packages database", and `portage(5)`. Each package has a
//! directory `/var/db/pkg/CATEGORY/NAME-VERSION` with a file for each value; `CONTENTS` lists its files; what was asked
//! for stands in `/var/lib/portage/world`.
//!
//! Traps: a missing file is an empty value; one name in two categories is two packages; names hold dashes and digits,
//! so that a version is cut off only where it reads as one; paths and targets of links can hold blanks; several slots
//! of one package are kept on purpose; `-MERGING-` directories are of interrupted installations.

mod contents;
mod ebuilds;
mod log;
mod repositories;

use hashbrown::HashMap;
use rayon::prelude::*;

use crate::backend::dependency_graph::{Need, Want};
use crate::backend::simple::{
    FileLists, InstalledPackage, Record, SimpleBackend, SimpleCatalogue, SimpleInstallation, dirs_in, is_dir,
};
use crate::backend::{CachePlace, Installation, Manager, Unattended, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::host::Host;
use crate::model::{
    Affix, CommandLine, Event, Evidence, Location, Loss, ManagerId, ManagerKind, Origin, Profile, Reason, Relation,
    RemedyKind, Scope,
};
use crate::version::Scheme;
use crate::version::gentoo;
use crate::version::upstream::Notation;

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

    fn unattended(&self) -> &'static [Unattended] {
        &[("emerge", "emerge --ask=n")]
    }

    fn profile(&self) -> Profile {
        let notation = Notation::NumberedRevision;
        Profile { keeps_versions: true, notation, ..Profile::of(ManagerKind::System).affix(Affix::Scope) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("emerge", &["@world", "world"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const {
            &[
                CachePlace::without_command("sources that Portage downloaded", "/var/cache/distfiles"),
                CachePlace::without_command("binary packages", "/var/cache/binpkgs"),
            ]
        }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let dir = host.root.canonicalize_dir(DATABASE);
        is_dir(host, &dir)
            .then(|| SimpleInstallation::boxed(host, ID, Scope::System, dir, Database))
            .into_iter()
            .collect()
    }
}

/// `NAME-VERSION[-rN]`, cut at the first dash behind which all reads as a version.
fn cut(dir: &[u8]) -> Option<(&[u8], &[u8])> {
    let fits = |&at: &usize| {
        let rest = &dir[at + 1..];
        rest.first().is_some_and(u8::is_ascii_digit) && gentoo::is_version(rest)
    };
    let at = memchr::memchr_iter(b'-', dir).find(fits)?;
    Some((&dir[..at], &dir[at + 1..]))
}

/// Names that were asked for, without versions and repositories, each with the slots that were named and the line.
fn world(content: &[u8]) -> HashMap<ByteString, Vec<(Option<ByteString>, u32)>> {
    let lines = (1..).zip(content.split(|&b| b == b'\n')).map(|(number, line)| (number, line.trim_ascii()));
    let named = lines.filter(|(_, line)| !line.is_empty() && !line.starts_with(b"#") && !line.starts_with(b"@"));
    let mut asked: HashMap<ByteString, Vec<(Option<ByteString>, u32)>> = HashMap::new();
    for (number, line) in named {
        let bare = &line[line.iter().position(|b| !b"<>=~!".contains(b)).unwrap_or(0)..];
        let mut parts = bare.split(|&b| b == b':');
        let name = parts.next().unwrap_or(bare);
        // `NAME:SLOT::REPOSITORY`; an empty part is the sign before the repository.
        let slot = parts.next().filter(|slot| !slot.is_empty()).map(ByteString::from);
        let category = memchr::memchr(b'/', name).map_or(0, |at| at + 1);
        let with_version = line != bare;
        let name = match cut(&name[category..]).filter(|_| with_version) {
            Some((stem, _)) => &name[..category + stem.len()],
            None => name,
        };
        asked.entry(name.into()).or_default().push((slot, number));
    }
    asked
}

fn value(root: &Root, entry: &[u8], name: &str) -> Option<ByteString> {
    let content = root.read(&path::join(entry, name.as_bytes()), Limit::SMALL).ok()?;
    Some(content.trim_ascii().into()).filter(|value: &ByteString| !value.is_empty())
}

fn package(root: &Root, category: &ByteString, dir: &ByteString) -> Result<InstalledPackage, Loss> {
    let entry = path::join(&path::join(DATABASE, category), dir);
    let Some((name, version)) = cut(dir) else {
        return Err(Loss::damaged(entry.clone(), "its name has no version", "a package is unknown"));
    };
    let mut item = InstalledPackage::new("package", path::join(category, name));
    item.version = Some(version.into());
    item.channel = value(root, &entry, "SLOT");
    item.origin = value(root, &entry, "repository").map(|name| {
        let trust = if *name == *b"gentoo" { "distribution" } else { "third-party" };
        Origin { name, kind: "repository".to_owned(), url: None, trust: Some(trust.to_owned()) }
    });
    let number = |name: &str| std::str::from_utf8(&value(root, &entry, name)?).ok()?.parse::<i64>().ok();
    item.size = number("SIZE").and_then(|size| u64::try_from(size).ok());
    item.installed_at = root.modified(&path::join(&entry, b"CONTENTS"));
    item.arch =
        value(root, &entry, "CHOST").and_then(|host| Some(ByteString::from(host.split(|&b| b == b'-').next()?)));
    item.also = vec![name.into(), [&*item.name, b"-", version].concat().into()];
    item.evidence.push(Evidence::directory(entry.clone(), format!("{} {}", item.name, ByteString::from(version))));
    item.tail = Some(path::join(category, dir));
    let atom = [b"=", &*path::join(category, dir)].concat();
    let upgrade = CommandLine::new("emerge --update").operand(item.name.clone());
    let mut item = item
        .remedy(RemedyKind::Remove, CommandLine::new("emerge --depclean").operand(atom))
        .remedy(RemedyKind::Upgrade, upgrade);
    for list in ["RDEPEND", "PDEPEND"] {
        item.needs.extend(value(root, &entry, list).map(|list| needs_of(&list)).unwrap_or_default());
    }
    item.entry = entry;
    Ok(item)
}

/// What an installed package needs (*Package Manager Specification*, "Dependency specifications"). What depends on a
/// use flag is decided already; of `|| ( … )` any one is enough, and blockers are no needs.
fn needs_of(list: &[u8]) -> Vec<Need> {
    let mut needs: Vec<Need> = Vec::new();
    let mut any: Option<Need> = None;
    let mut depth = 0_usize;
    let mut is_any = false;
    for word in list.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()) {
        match word {
            b"||" => is_any = true,
            b"(" => {
                depth += 1;
                if std::mem::take(&mut is_any) && any.is_none() {
                    any = Some(Need { any_of: Vec::new(), says: String::new(), relation: Relation::Requires });
                    depth = 1;
                }
            }
            b")" => {
                depth = depth.saturating_sub(1);
                if depth == 0 {
                    needs.extend(any.take().filter(|need| !need.any_of.is_empty()));
                }
            }
            _ if word.ends_with(b"?") || word.starts_with(b"!") => {}
            _ => {
                let says = ByteString::from(word).to_string();
                let want = Want { name: name_of(word).to_vec(), version: None };
                match &mut any {
                    Some(need) => {
                        let between = if need.says.is_empty() { "" } else { " or " };
                        need.says = format!("{}{between}{says}", need.says);
                        need.any_of.push(want);
                    }
                    None => needs.push(Need { any_of: vec![want], says, relation: Relation::Requires }),
                }
            }
        }
    }
    needs
}

/// `>=category/name-1.2:0=[flag]` → `category/name`.
fn name_of(atom: &[u8]) -> &[u8] {
    let start = atom.iter().position(|b| !b"<>=~".contains(b)).unwrap_or(atom.len());
    let is_versioned = start > 0;
    let atom = &atom[start..];
    let atom = &atom[..atom.iter().position(|b| b":[".contains(b)).unwrap_or(atom.len())];
    if !is_versioned {
        return atom;
    }
    let atom = atom.strip_suffix(b"*").unwrap_or(atom);
    let slash = memchr::memchr(b'/', atom).map_or(0, |at| at + 1);
    cut(&atom[slash..]).map_or(atom, |(name, _)| &atom[..slash + name.len()])
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
        let asked = match host.root.read(WORLD, Limit::SMALL) {
            Ok(content) => Some(world(&content)),
            Err(error) => {
                record.notes.push(Loss::unread(&error, "which packages were requested is unknown"));
                None
            }
        };
        let mut dirs = Vec::new();
        for (category, _) in dirs_in(host, &at.dir, true) {
            let inside = dirs_in(host, &path::join(&at.dir, &category), false);
            let sound = inside.into_iter().filter(|(name, _)| !name.starts_with(b"-MERGING-"));
            dirs.extend(sound.map(|(name, _)| (category.clone(), name)));
        }
        let read: Vec<_> = dirs.par_iter().map(|(category, dir)| package(&host.root, category, dir)).collect();
        for one in read {
            match one {
                Ok(item) => record.items.push(item),
                Err(note) => record.notes.push(note),
            }
        }
        for item in &mut record.items {
            // `3.11/3.11` is the slot and its subslot.
            let own = item.channel.as_ref().and_then(|slot| slot.split(|&b| b == b'/').next());
            let fits = |(slot, _): &&(Option<ByteString>, u32)| slot.as_deref().is_none_or(|slot| Some(slot) == own);
            let lines = asked.as_ref().and_then(|asked| asked.get(&item.name));
            let line = lines.and_then(|lines| lines.iter().find(fits)).map(|(_, line)| line);
            item.reason = match (&asked, line) {
                (None, _) => Reason::Unknown,
                (Some(_), None) => Reason::Dependency,
                (Some(_), Some(_)) => Reason::Explicit,
            };
            item.evidence.extend(line.map(|line| Evidence::line(WORLD, *line, format!("{} was requested", item.name))));
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Gentoo
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }

    fn catalogue(&self) -> Option<&dyn SimpleCatalogue> {
        Some(self)
    }

    fn events(&self, host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Event> {
        log::events(host, at, notes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_cut_off_where_they_read_as_versions() {
        for (dir, expected) in [
            ("tarn-2.3-r1", Some(("tarn", "2.3-r1"))),
            ("gtk-2-utils-1.0_rc1", Some(("gtk-2-utils", "1.0_rc1"))),
            ("font-100dpi-9999", Some(("font-100dpi", "9999"))),
            ("tarn", None),
        ] {
            let found = cut(dir.as_bytes());
            assert_eq!(found, expected.map(|(name, version)| (name.as_bytes(), version.as_bytes())), "{dir}");
        }
        let names = world(b"# no\nnet-misc/tarn\n>=app/buoy-1.2:0\n@set\nnet/chain::quay\n");
        assert_eq!(names.len(), 3);
        assert!(names.contains_key(&b"app/buoy"[..]) && names.contains_key(&b"net/chain"[..]), "{names:?}");
    }
}
