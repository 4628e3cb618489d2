//! apk: Alpine Linux and its family.
//!
//! Follows *Apk specification* (installed database, world). `lib/apk/db/installed` has a stanza for each package, of
//! fields with one letter: `P` name, `V` version, `A` architecture, `I` size, `s` the repository's tag; then `F` a
//! directory and below it `R` its files, each with `Z`, a digest. `/etc/apk/world` names what was asked for.
//!
//! Traps: a directory without a name is the root; names in `world` carry versions, tags and `!`; a package that
//! `apk add -t` made has no files; links of multi-call programs are in no list.

mod closure;
mod repositories;

use base64::Engine as _;
use hashbrown::HashMap;

use crate::backend::simple::{FileLists, InstalledPackage, Record, SimpleBackend, SimpleCatalogue, SimpleInstallation};
use crate::backend::{CachePlace, Installation, Manager, UpgradeCall};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{
    Algorithm, CommandLine, Digest, Evidence, FileRecord, Location, Loss, ManagerId, ManagerKind, NameFilter, Origin,
    Profile, Reason, RemedyKind, Scope,
};
use crate::version::Scheme;
use crate::version::upstream::Notation;
use whodunit_formats::stanza::{Field, stanzas};

const ID: ManagerId = ManagerId("apk");
const PLACES: [&[u8]; 2] = [b"/lib/apk/db", b"/usr/lib/apk/db"];
const WORLD: &[u8] = b"/etc/apk/world";

/// The manager.
#[derive(Debug)]
pub struct Apk;

/// The database in its directory.
struct Database(ByteString);

impl Manager for Apk {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile { notation: Notation::NumberedRevision, ..Profile::of(ManagerKind::System) }
    }

    fn upgrade_calls(&self) -> &'static [UpgradeCall] {
        &[("apk", &["upgrade"])]
    }

    fn caches(&self) -> &'static [CachePlace] {
        const {
            &[
                CachePlace::without_command("packages and indexes that apk downloaded", "/var/cache/apk"),
                CachePlace::without_command("packages that apk downloaded", "/etc/apk/cache"),
            ]
        }
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let dir = PLACES
            .iter()
            .map(|place| host.root.canonicalize_dir(place))
            .find(|dir| host.root.has_record(&path::join(dir, b"installed")));
        let opened = dir.map(|dir| {
            let file = path::join(&dir, b"installed");
            SimpleInstallation::boxed(host, ID, Scope::System, dir, Database(file))
        });
        opened.into_iter().collect()
    }
}

/// What `world` says of a name.
struct OfferQuery {
    line: u32,
    /// A version or a digest is fixed.
    held: bool,
    tag: Option<ByteString>,
}

fn world(content: &[u8]) -> HashMap<ByteString, OfferQuery> {
    let mut asked = HashMap::new();
    for (number, line) in (1..).zip(content.split(|&b| b == b'\n')) {
        for word in line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty() && !word.starts_with(b"!")) {
            let end = word.iter().position(|b| b"=<>~@".contains(b)).unwrap_or(word.len());
            let tag = memchr::memchr(b'@', word).map(|at| ByteString::from(&word[at + 1..]));
            let held = word[end..].iter().any(|b| b"=<>~".contains(b));
            asked.insert(word[..end].into(), OfferQuery { line: number, held, tag });
        }
    }
    asked
}

/// The names in a list of what a package needs or provides (`apk-package(5)`), without versions and conflicts.
fn needs_of(list: &[u8]) -> impl Iterator<Item = &[u8]> {
    let words = list.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty() && !word.starts_with(b"!"));
    words.map(|word| &word[..word.iter().position(|b| b"=<>~@".contains(b)).unwrap_or(word.len())])
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
        let content = match host.root.read(&self.0, Limit::RECORD) {
            Ok(content) => content,
            Err(error) => {
                record.notes.push(Loss::unread(&error, "the packages of apk are unknown"));
                return record;
            }
        };
        let asked = match host.root.read(WORLD, Limit::SMALL) {
            Ok(content) => Some(world(&content)),
            Err(error) => {
                record.notes.push(Loss::unread(&error, "which packages were requested is unknown"));
                None
            }
        };
        for stanza in stanzas(&content) {
            let mut item = InstalledPackage::new("package", ByteString::default());
            for field in stanza.fields().flatten() {
                match field.name {
                    b"P" => {
                        item.name = field.value.into();
                        item.evidence.push(Evidence::line(
                            self.0.clone(),
                            field.line,
                            format!("package {}", item.name),
                        ));
                    }
                    b"V" => item.version = Some(field.value.into()),
                    b"A" => item.arch = Some(field.value.into()),
                    b"I" => item.size = std::str::from_utf8(field.value).ok().and_then(|size| size.parse().ok()),
                    b"D" => needs_of(field.value).for_each(|name| item.need(name)),
                    b"p" => item.provides.extend(needs_of(field.value).map(ByteString::from)),
                    b"s" => item.channel = Some(field.value.into()),
                    _ => {}
                }
            }
            if item.name.is_empty() {
                record
                    .notes
                    .push(Loss::note(format!("{} line {}: names no package: it is unknown", self.0, stanza.line)));
                continue;
            }
            item.purl = Some("apk");
            item.reason = if asked.is_some() { Reason::Dependency } else { Reason::Unknown };
            if let Some(asked) = asked.as_ref().and_then(|asked| asked.get(&item.name)) {
                item.reason = Reason::Explicit;
                item.held = asked.held;
                item.channel = item.channel.or_else(|| asked.tag.clone());
                item.evidence.push(Evidence::line(WORLD, asked.line, format!("{} was requested", item.name)));
            }
            let of_it = |verb: &str| CommandLine::new("apk").words(verb).operand(item.name.clone());
            let (remove, upgrade) = (of_it("del"), of_it("upgrade"));
            let item = item.remedy(RemedyKind::Remove, remove).remedy(RemedyKind::Upgrade, upgrade);
            record.items.push(item);
        }
        if whodunit_formats::stanza::is_cut(&content) {
            record.notes.push(Loss::note(format!("{}: cut off: what followed is unknown", self.0)));
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Gentoo
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }

    fn origins(
        &self,
        host: &Host,
        _: &Location,
        items: &[InstalledPackage],
        notes: &mut Vec<Loss>,
    ) -> Option<Vec<Option<Origin>>> {
        // apk records no repository, but the tag of one; the rest is told by what the indexes have.
        let found = repositories::origins(host, &self.0, items, notes);
        let of = |(number, item): (usize, &InstalledPackage)| {
            let listed = found.as_ref().and_then(|found| found[number].clone());
            let tagged =
                || Some(Origin { name: item.channel.clone()?, kind: "repository".to_owned(), url: None, trust: None });
            listed.or_else(tagged)
        };
        let is_known = found.is_some() || items.iter().any(|item| item.channel.is_some());
        is_known.then(|| items.iter().enumerate().map(of).collect())
    }

    fn catalogue(&self) -> Option<&dyn SimpleCatalogue> {
        Some(self)
    }
}

/// What a line says of the file before it.
fn say(one: &mut FileRecord, name: &[u8], value: &[u8]) {
    if name == b"Z" {
        let bytes =
            value.strip_prefix(b"Q1").and_then(|text| base64::engine::general_purpose::STANDARD.decode(text).ok());
        one.digest = bytes.filter(|bytes| bytes.len() == 20).map(|bytes| Digest::of(Algorithm::Sha1, &bytes));
        return;
    }
    let mut parts = value.split(|&b| b == b':').map(|part| std::str::from_utf8(part).unwrap_or_default());
    let mut number = |base| parts.next().and_then(|part| u32::from_str_radix(part, base).ok());
    (one.owner, one.group, one.mode) = (number(10), number(10), number(8));
}

/// Every field of the packages of interest, with the package's number and the directory in which its files stand there.
fn each_field(content: &[u8], numbers: &HashMap<&[u8], u32>, mut take: impl FnMut(u32, &ByteString, &Field<'_>)) {
    for stanza in stanzas(content) {
        let (mut number, mut dir) = (None, ByteString::from("/"));
        for field in stanza.fields().flatten() {
            match field.name {
                b"P" => number = numbers.get(field.value).copied(),
                b"F" => dir = path::join(b"/", field.value),
                _ => number.into_iter().for_each(|number| take(number, &dir, &field)),
            }
        }
    }
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
        let content = match host.root.read(&self.0, Limit::RECORD) {
            Ok(content) => content,
            Err(error) => return notes.push(Loss::unread(&error, "files of packages are unknown")),
        };
        let numbers: HashMap<&[u8], u32> = items.iter().map(|item| &*item.name).zip(0..).collect();
        each_field(&content, &numbers, |number, dir, field| {
            if field.name == b"R" && wanted.has(field.value) {
                take(number, &path::join(dir, field.value), field.line);
            }
        });
    }

    fn is_one_file(&self) -> bool {
        true
    }

    fn file(&self, _: &InstalledPackage) -> ByteString {
        self.0.clone()
    }

    /// `a:` has owner, group and permissions, `Z:` the digest: `Q1` and SHA-1 in base64. Of a link it is that of its
    /// target's text.
    fn file_records(&self, host: &Host, items: &[(u32, &InstalledPackage)], notes: &mut Vec<Loss>) -> Vec<FileRecord> {
        let content = match host.root.read(&self.0, Limit::RECORD) {
            Ok(content) => content,
            Err(error) => {
                notes.push(Loss::unread(&error, "whether files of packages are altered is unknown"));
                return Vec::new();
            }
        };
        let numbers: HashMap<&[u8], u32> = items.iter().map(|(number, item)| (&*item.name, *number)).collect();
        let mut found: Vec<FileRecord> = Vec::new();
        each_field(&content, &numbers, |package, dir, field| match field.name {
            b"R" => {
                let path = path::join(dir, field.value);
                // What lies in /etc is kept when somebody has changed it.
                let is_settings = path::within(&path, b"/etc");
                found.push(FileRecord { package, path, is_settings, ..FileRecord::default() });
            }
            b"a" | b"Z" => {
                if let Some(one) = found.last_mut() {
                    say(one, field.name, field.value);
                }
            }
            _ => {}
        });
        for one in &mut found {
            if host.root.entry(&one.path).is_ok_and(|meta| meta.kind == Kind::Link) {
                one.digest = None;
            }
        }
        found
    }

    fn restore(&self, item: &InstalledPackage) -> Option<CommandLine> {
        Some(CommandLine::new("apk fix").operand(item.name.clone()))
    }
}
