//! Compares a record with the disk.

use hashbrown::HashMap;
use rayon::prelude::*;

use crate::bytes::{ByteString, path};
use crate::digests::{self, Job, Progress};
use crate::fs::{FsError, Kind, Meta, Root};
use crate::model::{Depth, FileRecord, Severity};

/// In what a file can differ from its record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Attribute {
    /// It is something else: a directory, a link.
    Kind,
    /// Its content.
    Digest,
    /// Its length.
    Size,
    /// What a link leads to.
    Target,
    /// Its permissions.
    Mode,
    /// Its owner.
    Owner,
    /// Its group.
    Group,
    /// When it was last written.
    Modified,
}

impl Attribute {
    /// The word used in every output.
    pub fn word(self) -> &'static str {
        match self {
            Attribute::Kind => "kind",
            Attribute::Digest => "digest",
            Attribute::Size => "size",
            Attribute::Target => "target",
            Attribute::Mode => "mode",
            Attribute::Owner => "owner",
            Attribute::Group => "group",
            Attribute::Modified => "modified",
        }
    }

    /// Whether it is the content that differs, and not only what is said of it.
    pub fn is_content(self) -> bool {
        matches!(self, Attribute::Kind | Attribute::Digest | Attribute::Size | Attribute::Target)
    }
}

/// A file that is not as its record has it.
#[derive(Debug, Clone)]
pub struct Difference {
    /// The package whose record it is: its installation's number and its own.
    pub package: (u16, u32),
    /// The file.
    pub path: ByteString,
    /// Whether it holds settings.
    pub is_settings: bool,
    /// In what it differs, each with what is recorded and what is there; nothing where it is missing.
    pub what: Box<[(Attribute, String)]>,
    /// How much it matters.
    pub severity: Severity,
}

impl Difference {
    /// Whether it is not there.
    pub fn is_missing(&self) -> bool {
        self.what.is_empty()
    }

    /// Whether its content differs, and not only what is said of it.
    pub fn is_content(&self) -> bool {
        self.what.iter().any(|(what, _)| what.is_content())
    }
}

/// The result of a comparison.
#[derive(Debug, Default)]
pub struct Compared {
    /// The files that differ, in the order of the records.
    pub differences: Vec<Difference>,
    /// Files that could not be read, and why.
    pub unread: Vec<Unread>,
    /// Files whose content was read.
    pub read: usize,
}

/// So many files of a directory are looked for together; opening it costs as much as two.
const WORTH_OPENING: usize = 4;

/// The largest file whose content is read: 16 GiB. A sparse file of terabytes costs nothing to make.
const MAX_CONTENT: u64 = 16 << 30;

/// Compares the files of some packages of an installation; `expect` is told how many of them, and how many bytes, will
/// be read.
pub fn compare(
    root: &Root,
    holder: u16,
    files: Vec<FileRecord>,
    depth: Depth,
    expect: &mut dyn FnMut(usize, u64),
    progress: &dyn Progress,
) -> Compared {
    let mut looked: Vec<Looked> = match depth {
        Depth::Content => files.par_iter().with_min_len(256).map(|recorded| look(root, recorded)).collect(),
        Depth::Presence => look_for(root, &files),
    };
    let (jobs, of_job) = match depth {
        Depth::Content => jobs(&files, &mut looked),
        Depth::Presence => Default::default(),
    };
    expect(jobs.len(), jobs.iter().map(|job| job.size).sum());
    let mut compared = Compared::default();
    let unknown = |error: FsError| Unread { file: error.path().clone(), reason: error.reason() };
    let digests = if jobs.is_empty() { Vec::new() } else { digests::of_files(root, &jobs, progress) };
    for (place, digest) in of_job.into_iter().zip(digests) {
        let (Some(digest), Some(recorded)) = (digest, &files[place].digest) else { continue };
        compared.read += 1;
        let what = &mut looked[place].what;
        match digest {
            Ok(found) if found != *recorded => {
                let says = format!("recorded {}, is {}", recorded.hexadecimal, found.hexadecimal);
                what.push((Attribute::Digest, says));
            }
            Ok(_) => {}
            Err(FsError::WrongKind { found, .. }) => {
                what.push((Attribute::Kind, format!("recorded a file, is {found}").to_owned()));
            }
            // Gone since it was looked at, or a link that leads nowhere.
            Err(error) if error.is_missing() => what.push((Attribute::Kind, error.to_string())),
            Err(error) => looked[place].unread = Some(error),
        }
    }
    for (recorded, Looked { mut what, is_missing, unread, .. }) in files.into_iter().zip(looked) {
        compared.unread.extend(unread.map(unknown));
        if is_missing || !what.is_empty() {
            what.sort();
            let severity = weigh(&recorded, is_missing, &what);
            let FileRecord { package, path, is_settings, .. } = recorded;
            let what = what.into_boxed_slice();
            compared.differences.push(Difference { package: (holder, package), path, is_settings, what, severity });
        }
    }
    compared
}

/// The files whose content has to be read, and the place of each among the records.
fn jobs(files: &[FileRecord], looked: &mut [Looked]) -> (Vec<Job>, Vec<usize>) {
    let mut jobs = Vec::new();
    let mut of_job = Vec::new();
    for (place, (recorded, Looked { what, meta, unread, .. })) in files.iter().zip(looked).enumerate() {
        // A size that differs has told already; but managers tell of both.
        let is_readable = !what.iter().any(|(what, _)| *what == Attribute::Kind);
        let (Some(digest), Some(meta), true) = (&recorded.digest, meta, is_readable) else { continue };
        if meta.size > MAX_CONTENT {
            match what.iter().any(|(what, _)| *what == Attribute::Size) {
                true => what.push((Attribute::Digest, "not read, since its size differs".to_owned())),
                false => *unread = Some(FsError::TooLarge { path: recorded.path.clone(), limit: MAX_CONTENT }),
            }
            continue;
        }
        jobs.push(Job { file: recorded.path.clone(), algorithm: digest.algorithm, size: meta.size });
        of_job.push(place);
    }
    (jobs, of_job)
}

/// A file that could not be read.
#[derive(Debug, Clone)]
pub struct Unread {
    /// The file.
    pub file: ByteString,
    /// Why.
    pub reason: String,
}

/// The result of a first look at a file.
#[derive(Default)]
struct Looked {
    what: Vec<(Attribute, String)>,
    is_missing: bool,
    meta: Option<Meta>,
    unread: Option<FsError>,
}

impl Looked {
    /// Nothing is there.
    fn missing(recorded: &FileRecord) -> Self {
        Looked { is_missing: !recorded.may_be_absent, ..Looked::default() }
    }
}

/// Whether each file is there: directory by directory, as they lie on the disk.
fn look_for(root: &Root, files: &[FileRecord]) -> Vec<Looked> {
    let mut dirs: HashMap<&[u8], Vec<usize>> = HashMap::new();
    for (place, recorded) in files.iter().enumerate() {
        dirs.entry(path::parent(&recorded.path)).or_default().push(place);
    }
    let dirs: Vec<(&[u8], Vec<usize>)> = dirs.into_iter().collect();
    // Only what is not there, or cannot be said to be, is handed on.
    let in_dir = |(dir, places): &(&[u8], Vec<usize>)| -> Vec<(usize, Looked)> {
        let name = |place: &usize| path::name(&files[*place].path);
        let is_entry = |place: &usize| !matches!(name(place), b"" | b"." | b"..");
        let mut found = Err(());
        if places.len() >= WORTH_OPENING && places.iter().all(is_entry) {
            found = match root.present(dir, &places.iter().map(name).collect::<Vec<_>>()) {
                Ok(found) => Ok(found),
                Err(error) if error.is_missing() => Ok(vec![false; places.len()]),
                Err(_) => Err(()),
            };
        }
        let look = |(number, place): (usize, &usize)| match &found {
            Ok(found) if found[number] => None,
            Ok(_) => Some((*place, Looked::missing(&files[*place]))),
            Err(()) => Some((*place, first_look(root, &files[*place]))),
        };
        let looked = places.iter().enumerate().filter_map(look);
        looked.filter(|(_, looked)| looked.is_missing || looked.unread.is_some()).collect()
    };
    let mut all: Vec<Looked> = std::iter::repeat_with(Looked::default).take(files.len()).collect();
    let found: Vec<(usize, Looked)> = dirs.par_iter().with_min_len(16).flat_map_iter(in_dir).collect();
    found.into_iter().for_each(|(place, looked)| all[place] = looked);
    all
}

/// Whether a file is there.
fn first_look(root: &Root, recorded: &FileRecord) -> Looked {
    match root.entry(&recorded.path) {
        Ok(meta) => Looked { meta: Some(meta), ..Looked::default() },
        Err(error) if error.is_missing() => Looked::missing(recorded),
        Err(error) => Looked { unread: Some(error), ..Looked::default() },
    }
}

/// All but the digest.
fn look(root: &Root, recorded: &FileRecord) -> Looked {
    let mut looked = first_look(root, recorded);
    let Some(mut meta) = looked.meta else { return looked };
    // A link to a directory in a directory's place is how trees are moved.
    if recorded.kind == Some(Kind::Dir)
        && meta.kind == Kind::Link
        && let Ok(behind) = root.target(&recorded.path)
        && behind.kind == Kind::Dir
    {
        meta = behind;
        looked.meta = Some(meta);
    }
    let what = &mut looked.what;
    let mut differs = |attribute, recorded: String, found: String| {
        if recorded != found {
            what.push((attribute, format!("recorded {recorded}, is {found}").to_owned()));
        }
    };
    if let Some(kind) = recorded.kind.filter(|kind| *kind != meta.kind) {
        // What is said of the one says nothing of the other.
        differs(Attribute::Kind, kind.to_string(), meta.kind.to_string());
        return looked;
    }
    let is_file = meta.kind == Kind::File;
    if let Some(size) = recorded.size.filter(|_| is_file) {
        differs(Attribute::Size, size.to_string(), meta.size.to_string());
    }
    if let Some(mode) = recorded.mode.filter(|_| meta.kind != Kind::Link) {
        differs(Attribute::Mode, format!("{mode:04o}"), format!("{:04o}", meta.mode));
    }
    if let Some(owner) = recorded.owner {
        differs(Attribute::Owner, owner.to_string(), meta.owner.to_string());
    }
    if let Some(group) = recorded.group {
        differs(Attribute::Group, group.to_string(), meta.group.to_string());
    }
    if let Some(time) = recorded.modified {
        differs(Attribute::Modified, crate::model::rfc3339(time), crate::model::rfc3339(meta.modified));
    }
    if let Some(target) = recorded.target.as_ref().filter(|_| meta.kind == Kind::Link) {
        let found = root.read_link(&recorded.path).unwrap_or_default();
        differs(Attribute::Target, target.to_string(), found.to_string());
    }
    looked
}

/// Directories whose files only users read.
const DOCUMENTATION: [&[u8]; 8] = [
    b"/usr/share/doc",
    b"/usr/share/man",
    b"/usr/share/info",
    b"/usr/share/locale",
    b"/usr/share/help",
    b"/usr/share/lintian",
    b"/usr/share/doc-base",
    b"/usr/share/gtk-doc",
];

/// What nobody is meant to change, and programs need, matters.
fn weigh(recorded: &FileRecord, is_missing: bool, what: &[(Attribute, String)]) -> Severity {
    let is_read_by_people = DOCUMENTATION.iter().any(|dir| crate::bytes::path::within(&recorded.path, dir));
    let is_serious = is_missing
        || what.iter().any(|(attribute, says)| match attribute {
            // Runs under another's name, or is open to every user: more than was meant.
            Attribute::Mode => opens(says),
            other => other.is_content(),
        });
    if recorded.is_settings || is_read_by_people || !is_serious { Severity::Note } else { Severity::Warning }
}

/// Whether permissions have become wider in a way that others can use: `recorded 0755, is 4755`.
fn opens(says: &str) -> bool {
    let numbers: Vec<u32> = says
        .split(|c: char| !c.is_digit(8))
        .filter(|part| part.len() >= 4)
        .filter_map(|part| u32::from_str_radix(part, 8).ok())
        .collect();
    matches!(numbers[..], [recorded, found] if found & !recorded & 0o6002 != 0)
}
