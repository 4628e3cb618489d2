//! Programs and archives that `mix` of Elixir put into a home (Mix documentation, `mix escript.install` and
//! `mix archive.install`).
//!
//! Below `~/.mix` (`MIX_HOME`): `escripts/NAME`, one file that Erlang runs, and `archives/NAME-VERSION`, a directory or,
//! of old, a file. Newer ones keep both for each Elixir, in `elixir/VERSION/`.
//!
//! Traps: the version of an escript stands in none of these places; `escript` in its second line is not a comment but
//! what Erlang is told; a file in `escripts` that is no escript is nobody's.

use crate::backend::simple::{InstalledPackage, Record, SimpleBackend, dirs_in, is_dir, of_each_user};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::host::Host;
use crate::model::{CommandLine, Evidence, Location, Loss, ManagerId, ManagerKind, Profile, RemedyKind};
use crate::version::Scheme;

const ID: ManagerId = ManagerId("mix");
/// The first line of every escript: what runs it, then the marks of its head.
const HEAD: &[u8] = b"#! /usr/bin/env escript\n%%";

/// The manager.
#[derive(Debug)]
pub struct Mix;

struct MixHome;

impl Manager for Mix {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Language)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        of_each_user(host, ID, |user| {
            let home = host.user_dir(user, "MIX_HOME", ".mix");
            is_dir(host, &home).then_some((home, MixHome))
        })
    }
}

/// The directories that each hold `escripts` and `archives`.
fn places(host: &Host, home: &ByteString) -> Vec<ByteString> {
    let by_version = path::join(home, b"elixir");
    let own = dirs_in(host, &by_version, false).into_iter().map(|(name, _)| path::join(&by_version, &name));
    std::iter::once(home.clone()).chain(own).collect()
}

/// `hex-2.0.6` → its name and version.
fn parts(archive: &[u8]) -> Option<(&[u8], &[u8])> {
    let text = archive.strip_suffix(b".ez").unwrap_or(archive);
    let dash = text.windows(2).position(|two| two[0] == b'-' && two[1].is_ascii_digit())?;
    Some((&text[..dash], &text[dash + 1..]))
}

/// An archive by its name alone, which has all that `mix` itself tells of it.
fn archive(host: &Host, entry: ByteString) -> Option<InstalledPackage> {
    let own = path::name(&entry);
    let (name, version) = parts(own)?;
    let mut item = InstalledPackage::kept("archive", name, version);
    item.installed_at = host.root.modified(&entry);
    item.evidence.push(Evidence::directory(entry.clone(), item.with_version()));
    let line = CommandLine::new("mix archive.uninstall --force").operand(own);
    item.trees.push(entry);
    Some(item.remedy(RemedyKind::Remove, line))
}

impl SimpleBackend for MixHome {
    // An escript has in itself what it needs, and archives do not need one another.
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        for place in places(host, &at.dir) {
            let dir = path::join(&place, b"escripts");
            for (name, _) in host.root.names_in(&dir) {
                let file = path::join(&dir, &name);
                match host.root.read_start(&file, HEAD.len()) {
                    Ok(start) if start == HEAD => {}
                    Ok(_) => continue,
                    Err(error) => {
                        record.notes.push(Loss::unread(&error, format!("whether {name} is an escript is unknown")));
                        continue;
                    }
                }
                let mut item = InstalledPackage::new("program", name.clone());
                item.installed_at = host.root.modified(&file);
                let evidence = Evidence::line(file.clone(), 1, "an escript");
                item.evidence.push(evidence.clone());
                item.bring(file, evidence);
                let line = CommandLine::new("mix escript.uninstall --force").operand(name);
                record.items.push(item.remedy(RemedyKind::Remove, line));
            }
            let dir = path::join(&place, b"archives");
            let archives =
                host.root.names_in(&dir).into_iter().filter_map(|(name, _)| archive(host, path::join(&dir, &name)));
            record.items.extend(archives);
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Semver
    }

    fn program_dirs(&self, host: &Host, at: &Location) -> Vec<ByteString> {
        places(host, &at.dir).iter().map(|place| path::join(place, b"escripts")).collect()
    }
}
