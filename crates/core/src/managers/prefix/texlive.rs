//! TeX Live, installed by its own manager (*The TeX Live Guide*, `tlmgr(1)`; documentation of `texlive.tlpdb`).
//!
//! `tlpkg/texlive.tlpdb` below an installation, such as `/usr/local/texlive/2026`, has a stanza for each package: `name`,
//! `revision`, `catalogue-version`, `depend`, and behind `runfiles`, `binfiles`, `docfiles` and `srcfiles` a path to each
//! line that begins with a blank. A user's own tree is `~/texmf`.
//!
//! Traps: the version of the catalogue is the author's text and can be missing, the revision never is; packages whose
//! name begins with `00texlive` are settings; programs lie in `bin/PLATFORM`, and a package for each platform brings
//! them; a path that begins with `RELOC/` is below `texmf-dist`.

use crate::backend::simple::{FileLists, InstalledPackage, Record, SimpleBackend, at_each, cut, dirs_in, of};
use crate::backend::{Installation, Manager};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Evidence, Location, Loss, ManagerId, ManagerKind, NameFilter, Profile, Reason, Scope};
use crate::version::Scheme;
use whodunit_formats::stanza::{Stanza, stanzas};

const ID: ManagerId = ManagerId("tlmgr");
const DATABASE: &[u8] = b"tlpkg/texlive.tlpdb";
/// What the names of stanzas begin with that are settings.
const SETTINGS: &[u8] = b"00texlive";

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
        let mut trees: Vec<(Scope, ByteString)> = Vec::new();
        let mut years = |scope: &Scope, all: &ByteString| {
            let dirs = dirs_in(host, all, false);
            trees.extend(dirs.iter().map(|(year, _)| (scope.clone(), path::join(all, year))));
        };
        for all in ["/usr/local/texlive", "/opt/texlive"] {
            years(&Scope::System, &all.into());
        }
        host.users.iter().for_each(|user| years(&of(user), &host.user_dir(user, "", "texlive")));
        trees.extend(host.users.iter().map(|user| (of(user), host.user_dir(user, "", "texmf"))));
        let has_database = |dir: &ByteString| host.root.entry(&path::join(dir, DATABASE)).is_ok();
        let tree = |dir: &ByteString| Tree { file: path::join(dir, DATABASE), dir: dir.clone() };
        at_each(host, ID, trees, has_database, tree)
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

/// The lines of a stanza, each with its number.
fn lines(stanza: Stanza<'_>) -> impl Iterator<Item = (u32, &[u8])> {
    (stanza.line..).zip(stanza.text().split(|&b| b == b'\n'))
}

/// The package that each stanza describes, but for settings; a stanza without a name gives its line.
fn packages(content: &[u8]) -> impl Iterator<Item = Result<(&[u8], Stanza<'_>), u32>> {
    let named = stanzas(content).map(|stanza| {
        let mut fields = lines(stanza).filter_map(|(_, line)| field(line));
        fields.find(|(key, _)| *key == b"name").map(|(_, name)| (name, stanza)).ok_or(stanza.line)
    });
    named.filter(|one| !one.is_ok_and(|(name, _)| name.starts_with(SETTINGS)))
}

impl Tree {
    fn package(&self, name: &[u8], stanza: Stanza<'_>) -> InstalledPackage {
        let mut item = InstalledPackage::new("package", name);
        // What was asked for is recorded nowhere: a scheme and what it brings look alike.
        item.reason = Reason::Unknown;
        let mut described = stanza.line;
        for (number, line) in lines(stanza) {
            match field(line) {
                Some((b"name", _)) => described = number,
                Some((b"revision", value)) => item.revision = Some(value.into()),
                Some((b"catalogue-version", value)) => item.version = Some(value.into()),
                // `ARCH` stands for the platforms that are installed, whose packages have their own stanzas.
                Some((b"depend", need)) if !need.ends_with(b".ARCH") && !need.contains(&b'/') => item.need(need),
                Some(_) => {}
                None => {
                    let program = file_of(line).filter(|file| file.starts_with(b"bin/"));
                    item.commands.extend(program.map(|file| path::join(&self.dir, &file)));
                }
            }
        }
        item.version = item.version.or_else(|| item.revision.clone());
        item.evidence.push(Evidence::line(self.file.clone(), described, item.with_version()));
        item
    }
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
        let hides = "what stands behind this place is unknown";
        record.notes.extend(cut(&content).map(|what| Loss::damaged(self.file.clone(), what, hides)));
        let installed_at = host.root.modified(&at.dir);
        for read in packages(&content) {
            match read {
                Ok((name, stanza)) => {
                    let mut item = self.package(name, stanza);
                    item.installed_at = installed_at;
                    record.items.push(item);
                }
                Err(line) => {
                    let what = format!("has a stanza without a name in line {line}");
                    record.notes.push(Loss::damaged(self.file.clone(), what, "a package is unknown"));
                }
            }
        }
        record
    }

    fn scheme(&self) -> Scheme {
        Scheme::Tokens
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
        let found = packages(&content).filter_map(Result::ok);
        for ((number, _), (_, stanza)) in (0..).zip(items).zip(found) {
            for (line, file) in lines(stanza).filter_map(|(line, text)| Some((line, file_of(text)?))) {
                if wanted.has(path::name(&file)) {
                    take(number, &path::join(&self.dir, &file), line);
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
