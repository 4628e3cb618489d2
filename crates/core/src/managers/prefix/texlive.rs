//! TeX Live, installed by its own manager (*The TeX Live Guide*, `tlmgr(1)`; documentation of `texlive.tlpdb`).
//!
//! `tlpkg/texlive.tlpdb` below an installation, such as `/usr/local/texlive/2026`, has a stanza for each package: `name`,
//! `revision`, `catalogue-version`, `depend`, and behind `runfiles`, `binfiles`, `docfiles` and `srcfiles` a path to each
//! line that begins with a blank. A user's own tree is `~/texmf`.
//!
//! Traps: the version of the catalogue is the author's text and can be missing, the revision never is; packages whose
//! name begins with `00texlive` are settings; programs lie in `bin/PLATFORM`, and a package for each platform brings
//! them; a path that begins with `RELOC/` is below `texmf-dist`.

use std::cmp::Ordering;

use crate::backend::simple::{FileLists, InstalledPackage, Record, SimpleBackend, at_each, dirs_in};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, NameFilter, Profile, Reason};
use crate::version::tokens;
use whodunit_formats::stanza::stanzas;

const ID: ManagerId = ManagerId("tlmgr");
const DATABASE: &[u8] = b"tlpkg/texlive.tlpdb";

/// The manager.
#[derive(Debug)]
pub struct TexLive;

struct Tree {
    /// The database.
    file: ByteString,
    dir: ByteString,
}

impl Manager for TexLive {
    fn id(&self) -> ManagerId {
        ID
    }

    fn profile(&self) -> Profile {
        Profile::of(ManagerKind::Prefix)
    }

    fn discover<'h>(&self, host: &'h Host) -> Vec<Box<dyn Installation + 'h>> {
        let mut trees: Vec<ByteString> = Vec::new();
        let mut years = |all: ByteString| {
            let dirs = dirs_in(host, &all, false);
            trees.extend(dirs.iter().map(|(year, _)| path::join(&all, year)));
        };
        for dir in [&b"/usr/local/texlive"[..], b"/opt/texlive"] {
            years(host.root.canonicalize_dir(dir));
        }
        host.users.iter().for_each(|user| years(host.user_dir(user, "", "texlive")));
        trees.extend(host.users.iter().map(|user| host.user_dir(user, "", "texmf")));
        let has_database = |dir: &ByteString| host.root.entry(&path::join(dir, DATABASE)).is_ok();
        let tree = |dir: &ByteString| Tree { file: path::join(dir, DATABASE), dir: dir.clone() };
        at_each(host, ID, trees.into_iter().filter(has_database), tree)
    }
}

/// A line of the database: its key and value.
fn field(line: &[u8]) -> Option<(&[u8], &[u8])> {
    let blank = line.iter().position(|&b| b == b' ').filter(|at| *at > 0)?;
    Some((&line[..blank], line[blank + 1..].trim_ascii()))
}

/// The path of a file as a line has it, below the installation.
fn file_of(line: &[u8]) -> Option<Vec<u8>> {
    let text = line.strip_prefix(b" ")?;
    let path = text.split(|&b| b == b' ').next().filter(|path| !path.is_empty())?;
    // What leads out of the installation is no file of it.
    if path.starts_with(b"/") || path.split(|&b| b == b'/').any(|part| part == b"..") {
        return None;
    }
    Some(match path.strip_prefix(b"RELOC/") {
        Some(below) => [b"texmf-dist/", below].concat(),
        None => path.to_vec(),
    })
}

fn package(file: &ByteString, lines: &[(u32, &[u8])]) -> Option<InstalledPackage> {
    let values = |key: &'static [u8]| {
        let fields = lines.iter().filter_map(|(number, line)| Some((*number, field(line)?)));
        fields.filter(move |(_, (name, _))| *name == key).map(|(number, (_, value))| (number, value))
    };
    let (line, name) = values(b"name").next()?;
    let mut item = InstalledPackage::new("package", name);
    let revision = values(b"revision").next().map(|(_, value)| ByteString::from(value));
    item.version = values(b"catalogue-version").next().map(|(_, value)| value.into()).or_else(|| revision.clone());
    item.revision = revision;
    // What was asked for is recorded nowhere: a scheme and what it brings look alike.
    item.reason = Reason::Unknown;
    for (_, need) in values(b"depend") {
        // `ARCH` stands for the platforms that are installed, whose packages have their own stanzas.
        if !need.ends_with(b".ARCH") && !need.contains(&b'/') {
            item.need(need);
        }
    }
    let says = format!("{} {}", item.name, item.version.as_deref().map(ByteString::from).unwrap_or_default());
    item.evidence.push(Evidence::line(file.clone(), line, says));
    Some(item)
}

/// The stanzas of the database, each as its lines with their numbers.
fn packages(content: &[u8]) -> impl Iterator<Item = Vec<(u32, &[u8])>> {
    stanzas(content).map(|stanza| (stanza.line..).zip(stanza.text().split(|&b| b == b'\n')).collect())
}

/// Whether a stanza is settings, and no package.
fn is_settings(lines: &[(u32, &[u8])]) -> bool {
    lines.first().is_some_and(|(_, line)| line.starts_with(b"name 00texlive"))
}

impl SimpleBackend for Tree {
    fn reads_needs(&self) -> bool {
        true
    }

    fn read(&self, host: &Host, at: &Location) -> Record {
        let mut record = Record::default();
        let content = match host.root.read(&self.file, Limit::RECORD) {
            Ok(content) => content,
            Err(error) => {
                record.notes.push(Loss::unread(&error, "the packages of TeX Live are unknown"));
                return record;
            }
        };
        let installed_at = host.root.entry(&at.dir).ok().map(|meta| meta.modified);
        for lines in packages(&content).filter(|lines| !is_settings(lines)) {
            match package(&self.file, &lines) {
                Some(mut item) => {
                    item.installed_at = installed_at;
                    let programs = lines.iter().filter_map(|(_, line)| file_of(line));
                    let programs = programs.filter(|file| file.starts_with(b"bin/"));
                    item.commands = programs.map(|file| path::join(&self.dir, &file)).collect();
                    record.items.push(item);
                }
                None => {
                    let line = lines.first().map_or(1, |(line, _)| *line);
                    let what = format!("has a stanza without a name in line {line}");
                    record.notes.push(Loss::damaged(self.file.clone(), what, "a package is unknown"));
                }
            }
        }
        record
    }

    fn order(&self, a: &[u8], b: &[u8]) -> Ordering {
        tokens::compare(a, b)
    }

    fn program_dirs(&self, host: &Host, at: &Location) -> Vec<ByteString> {
        let bin = path::join(&at.dir, b"bin");
        dirs_in(host, &bin, false).into_iter().map(|(name, _)| path::join(&bin, &name)).collect()
    }

    fn lists(&self) -> Option<&dyn FileLists> {
        Some(self)
    }

    fn domain(&self, _: &Host, at: &Location) -> Vec<ByteString> {
        vec![at.dir.clone()]
    }
}

impl FileLists for Tree {
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<Loss>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    ) {
        let content = match host.root.read(&self.file, Limit::RECORD) {
            Ok(content) => content,
            Err(error) => {
                notes.push(Loss::unread(&error, "the files of TeX Live are unknown"));
                return;
            }
        };
        let named = packages(&content).filter(|lines| !is_settings(lines));
        let named = named.filter(|lines| lines.iter().any(|(_, line)| line.starts_with(b"name ")));
        for ((number, _), lines) in (0..).zip(items).zip(named) {
            for (line, file) in lines.iter().filter_map(|(line, text)| Some((*line, file_of(text)?))) {
                let file = path::join(&self.dir, &file);
                if wanted.has(path::name(&file)) {
                    take(number, &file, line);
                }
            }
        }
    }

    fn is_one_file(&self) -> bool {
        true
    }

    fn file(&self, _: &InstalledPackage) -> ByteString {
        self.file.clone()
    }
}
