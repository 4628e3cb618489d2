//! Lists of the files of packages, and what is recorded of each file.

use rayon::prelude::*;

use super::{InstalledPackage, SimpleInstallation};
use crate::backend::{BATCH, FileRecords, wanted};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::host::Host;
use crate::model::{CommandLine, Depth, Digest, FileRecord, Loss, NameFilter, Remedy, RemedyKind};

/// Lists that stand each in a file of its package's own: reads and looks through them in parallel, and hands what
/// `find` found in each (paths with the lines that name them) to `take`; what it lost is added to `notes`. A package that `may_lack` one need have none.
pub fn each_list(
    root: &Root,
    items: &[InstalledPackage],
    file: impl Fn(&InstalledPackage) -> ByteString + Sync,
    may_lack: impl Fn(&InstalledPackage) -> bool,
    find: impl Fn(&[u8]) -> (Vec<(ByteString, u32)>, Option<String>) + Sync,
    notes: &mut Vec<Loss>,
    take: &mut dyn FnMut(u32, &[u8], u32),
) {
    let read = |item: &InstalledPackage| root.read(&file(item), Limit::LIST).map(|content| find(&content));
    let read: Vec<_> = items.par_iter().map(read).collect();
    for ((number, item), read) in (0..).zip(items).zip(read) {
        match read {
            Ok((files, damage)) => {
                files.iter().for_each(|(path, line)| take(number, path, *line));
                notes.extend(
                    damage.map(|what| Loss::damaged(file(item), what, format!("files of {} are unknown", item.name))),
                );
            }
            Err(error) if error.is_missing() && may_lack(item) => {}
            Err(error) => notes.push(Loss::unread(&error, format!("the files of {} are unknown", item.name))),
        }
    }
}

/// Lists that have a path to a line, each in the file that is its package's own entry. `path_of` takes the path out of a
/// line; see [`each_list`].
pub fn each_line(
    root: &Root,
    items: &[InstalledPackage],
    path_of: impl Fn(&[u8]) -> Option<&[u8]> + Sync,
    wanted: &NameFilter,
    notes: &mut Vec<Loss>,
    take: &mut dyn FnMut(u32, &[u8], u32),
) {
    let find = |content: &[u8]| {
        let lines = (1..).zip(content.split(|&b| b == b'\n'));
        let files = lines.filter_map(|(number, line)| Some((path_of(line)?, number)));
        let files = files.filter(|(file, _)| wanted.has(path::name(file)));
        (files.map(|(file, line)| (file.into(), line)).collect(), cut(content))
    };
    each_list(root, items, |item| item.entry.clone(), |_| false, find, notes, take);
}

/// What is wrong with a list that was cut off: every line of a whole one ends.
#[must_use]
pub fn cut(list: &[u8]) -> Option<String> {
    (!list.is_empty() && !list.ends_with(b"\n")).then(|| "ends in the middle of a line".to_owned())
}

/// What is recorded of files where each package has a record of its own: reads them in parallel. What `of_item`
/// could not read is its second value, and is added to `notes`.
pub fn each_record(
    items: &[(u32, &InstalledPackage)],
    of_item: impl Fn(u32, &InstalledPackage) -> (Vec<FileRecord>, Option<String>) + Sync,
    notes: &mut Vec<Loss>,
) -> Vec<FileRecord> {
    let read: Vec<_> = items.par_iter().map(|(number, item)| of_item(*number, item)).collect();
    let mut found = Vec::new();
    for ((files, lost), (_, item)) in read.into_iter().zip(items) {
        found.extend(files);
        let hides = || format!("whether files of {} are altered is unknown", item.name);
        notes.extend(lost.map(|cause| Loss::because(cause, hides())));
    }
    found
}

/// The outcome of reading a record that is either read as a whole or not at all.
pub fn whole(read: Result<Vec<FileRecord>, String>) -> (Vec<FileRecord>, Option<String>) {
    read.map_or_else(|lost| (Vec::new(), Some(lost)), |files| (files, None))
}

/// Lists of files, package by package, of a manager whose files lie among those of others.
pub trait FileLists {
    /// Hands every wanted path to `take`, with the number of its package and the line that names it; what
    /// could not be read is added to `notes`.
    fn each(
        &self,
        host: &Host,
        items: &[InstalledPackage],
        wanted: &NameFilter,
        notes: &mut Vec<Loss>,
        take: &mut dyn FnMut(u32, &[u8], u32),
    );

    /// Whether all lists stand in one file, which is then read once.
    fn is_one_file(&self) -> bool {
        false
    }

    /// The list of a package: its own entry, if nothing else is said.
    fn file(&self, item: &InstalledPackage) -> ByteString {
        item.entry.clone()
    }

    /// The file and the line that a line handed out by [`FileLists::each`] means, where a package has several lists.
    fn place(&self, item: &InstalledPackage, line: u32) -> (ByteString, u32) {
        (self.file(item), line)
    }

    /// Whether the lists have no lines, so that the number of an entry is told in their place.
    fn has_entries(&self) -> bool {
        false
    }

    /// The digest that is recorded for a canonical path.
    fn digest(&self, host: &Host, item: &InstalledPackage, path: &[u8]) -> Option<Digest> {
        let _ = (host, item, path);
        None
    }

    /// The record of every file of these items, each with its number; losses are added to
    /// `notes`.
    fn file_records(&self, host: &Host, items: &[(u32, &InstalledPackage)], notes: &mut Vec<Loss>) -> Vec<FileRecord> {
        let _ = (host, items, notes);
        Vec::new()
    }

    /// The command that puts a package's own files back.
    fn restore(&self, item: &InstalledPackage) -> Option<CommandLine> {
        let _ = item;
        None
    }
}

impl FileRecords for SimpleInstallation<'_> {
    fn each_batch(&self, packages: Option<&[u32]>, _: Depth, take: &mut dyn FnMut(Vec<FileRecord>)) {
        let items = self.items();
        let wanted = wanted(items.len(), packages).into_iter().map(|number| (number, &items[number as usize]));
        let wanted: Vec<(u32, &InstalledPackage)> = wanted.collect();
        let in_one_file = self.backend.lists().is_some_and(FileLists::is_one_file);
        for some in wanted.chunks(if in_one_file { wanted.len().max(1) } else { BATCH }) {
            let mut lost = Vec::new();
            let files = self.backend.file_records(self.host, some, &mut lost);
            self.note(lost);
            take(files);
        }
    }

    fn restore(&self, package: u32) -> Option<Remedy> {
        let command = self.backend.lists().filter(|_| !self.is_sealed())?.restore(self.item(package))?;
        Some(Remedy::new(RemedyKind::Restore, command))
    }
}
