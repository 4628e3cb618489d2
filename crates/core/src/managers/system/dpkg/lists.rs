//! `info/PACKAGE.list`: the files of each package, one path a line.
//!
//! `PACKAGE:ARCH.list` for packages that may be installed for several architectures side by side.
//! Reading them is most of the work of any question about files, so they are read in parallel, and
//! only the lines whose last part is wanted are kept.
//!
//! Traps: directories are listed too, and first `/.`; the order is the archive's; a name may hold any byte
//! but a line feed; images without dpkg have `status.d/PACKAGE.md5sums` instead, with paths that lack
//! the leading slash.

use std::ops::Range;

use memchr::memchr_iter;
use rayon::prelude::*;

use crate::bytes::{ByteString, path};
use crate::fs::{Dir, FsError, Limit};
use crate::model::{NameFilter, RecordPosition};

/// A file that lists a package's files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum List {
    /// Below `info/`, by file name.
    Info(ByteString),
    /// Below `status.d/`, by file name.
    Digests(ByteString),
}

/// The rule of a claim that was taken from a package's digests, for want of its list.
pub const FROM_DIGESTS: u16 = u16::MAX;

/// The matching lines of one list.
#[derive(Debug)]
pub struct Lines {
    /// The package's number.
    pub package: u32,
    content: Vec<u8>,
    found: Vec<(Range<u32>, u32)>,
    slash_missing: bool,
    rule: u16,
    /// The first line that is no absolute path.
    pub damaged: Option<u32>,
}

impl Lines {
    /// How many lines matched.
    pub fn len(&self) -> usize {
        self.found.len()
    }

    /// The bytes that they take.
    pub fn size(&self) -> usize {
        self.content.len()
    }

    /// Gives back what was reserved for more.
    pub fn shrink_to_fit(&mut self) {
        self.content.shrink_to_fit();
        self.found.shrink_to_fit();
    }

    /// What a line says, counted from 0 among those that matched; its first slash may be missing.
    pub fn text(&self, line: u32) -> &[u8] {
        let (range, _) = &self.found[line as usize];
        &self.content[range.start as usize..range.end as usize]
    }

    /// The path of a line, as spelled, with its number in the list.
    pub fn one(&self, line: u32, take: &mut dyn FnMut(&[u8], RecordPosition)) {
        let text = self.text(line);
        let position = RecordPosition { line: self.found[line as usize].1, rule: self.rule };
        match self.slash_missing {
            true => take(&[b"/", text].concat(), position),
            false => take(text, position),
        }
    }

    /// The paths, as spelled, each with its line number.
    pub fn each(&self, mut take: impl FnMut(&[u8], RecordPosition)) {
        (0..).take(self.found.len()).for_each(|line| self.one(line, &mut take));
    }
}

/// The number of lists that are read at a time, so that memory stays bounded.
const BATCH: usize = 64;

/// The same limit when only a few lines of each list are kept.
const BATCH_OF_FEW: usize = 1024;

/// The result of reading one list.
#[derive(Debug)]
pub struct ListRead {
    /// The package's number.
    pub package: u32,
    /// Its matching lines; taken from its digests if the list itself cannot be read.
    pub lines: Option<Lines>,
    /// Why the list could not be read.
    pub error: Option<FsError>,
}

/// Reads many lists in parallel; hands what came of each to `take` in the order given.
pub fn read_each(
    info: Option<&Dir<'_>>,
    digests: Option<&Dir<'_>>,
    lists: &[(u32, &List)],
    keep: &Keep<'_>,
    take: &mut dyn FnMut(ListRead),
) {
    let read_one = |&(package, list): &(u32, &List)| {
        let (dir, name) = match list {
            List::Info(name) => (info, name),
            List::Digests(name) => (digests, name),
        };
        let missing = || FsError::Missing { path: name.clone() };
        let read = |name: &[u8]| dir.ok_or_else(missing).and_then(|dir| dir.read(name, Limit::LIST));
        match read(name) {
            Ok((content, _)) => {
                let lines = scan(package, content, list, keep.test);
                ListRead { package, lines: Some(lines), error: None }
            }
            Err(error) => {
                // The digests name every file but links and settings: better than nothing.
                let stem = name.strip_suffix(b".list").unwrap_or_default();
                let digests = List::Digests([stem, b".md5sums"].concat().into());
                let instead = read(&[stem, b".md5sums"].concat()).ok();
                let lines = instead
                    .map(|(content, _)| Lines { rule: FROM_DIGESTS, ..scan(package, content, &digests, keep.test) });
                ListRead { package, lines, error: Some(error) }
            }
        }
    };
    // Few lists are read sooner than threads are started.
    if lists.len() <= BATCH {
        return lists.iter().map(read_one).for_each(take);
    }
    for batch in lists.chunks(if keep.few { BATCH_OF_FEW } else { BATCH }) {
        let read: Vec<_> = batch.par_iter().with_min_len(8).map(read_one).collect();
        read.into_iter().for_each(&mut *take);
    }
}

/// Whether a line of a list is no absolute path.
pub fn is_damaged(line: &[u8]) -> bool {
    line.first().is_some_and(|&first| first != b'/')
}

fn scan(package: u32, content: Vec<u8>, list: &List, keep: &(dyn Fn(&[u8]) -> bool + Sync)) -> Lines {
    let slash_missing = matches!(list, List::Digests(_));
    let (mut found, mut damaged) = (Vec::new(), None);
    let mut start = 0;
    for (number, end) in (1..).zip(memchr_iter(b'\n', &content).chain([content.len()])) {
        let line = &content[start..end];
        // A line of a digest file is the digest, two blanks and the path.
        let offset = if slash_missing { memchr::memmem::find(line, b"  ").map_or(line.len(), |at| at + 2) } else { 0 };
        let text = &line[offset..];
        if !slash_missing && is_damaged(text) {
            damaged = damaged.or(Some(number));
        } else if !text.is_empty() && keep(text) {
            let range = u32::try_from(start + offset).ok().zip(u32::try_from(end).ok());
            found.extend(range.map(|(from, to)| (from..to, number)));
        }
        start = end + 1;
    }
    // dpkg lists at least `/.`, and ends each line: what does not was cut.
    if !slash_missing && content.last() != Some(&b'\n') {
        damaged = damaged.or(Some(u32::try_from(memchr_iter(b'\n', &content).count()).unwrap_or(u32::MAX) + 1));
    }
    // Where little is wanted, the rest of the list need not be held.
    if found.len() * 8 < content.len() / 64 {
        return Lines { damaged, ..shrink(package, &content, found, slash_missing) };
    }
    Lines { package, content, found, slash_missing, rule: 0, damaged }
}

fn shrink(package: u32, content: &[u8], found: Vec<(Range<u32>, u32)>, slash_missing: bool) -> Lines {
    let mut kept = Vec::new();
    let found = found
        .into_iter()
        .map(|(range, line)| {
            let start = u32::try_from(kept.len()).unwrap_or(u32::MAX);
            kept.extend_from_slice(&content[range.start as usize..range.end as usize]);
            (start..start + (range.end - range.start), line)
        })
        .collect();
    Lines { package, content: kept, found, slash_missing, rule: 0, damaged: None }
}

/// Decides which lines are kept.
#[derive(Clone, Copy)]
pub struct Keep<'a> {
    /// Whether a line is kept.
    pub test: &'a (dyn Fn(&[u8]) -> bool + Sync),
    /// Whether that is so for a few lines of each list only.
    pub few: bool,
}

/// A test for lines by the last part of their path.
pub fn by_name(wanted: &NameFilter) -> impl Fn(&[u8]) -> bool + Sync + '_ {
    move |line| wanted.has(path::name(line))
}

/// The digest that a file of digests records for the path that `is_it`: 32 hexadecimal digits, two
/// blanks, and the path without its leading slash.
pub fn digest_in(content: &[u8], is_it: impl Fn(&[u8]) -> bool) -> Option<String> {
    let lines = content.split(|&b| b == b'\n');
    let mut sound = lines.filter(|line| line.get(32..34) == Some(b"  "));
    let line = sound.find(|line| is_it(&[b"/", &line[34..]].concat()))?;
    let digest = std::str::from_utf8(&line[..32]).ok()?;
    digest.bytes().all(|b| b.is_ascii_hexdigit()).then(|| digest.to_ascii_lowercase())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_whole_sound_lines_are_claims() {
        let content =
            b"/.\n/usr\n/usr/bin/pegel\nrelative/pegel\n\n/odd\x1b/\xffpegel\n/usr/bin/[\n/end/pegel".to_vec();
        let wanted = NameFilter::names([&b"pegel"[..], b"["]);
        let lines = scan(7, content, &List::Info("x".into()), &by_name(&wanted));
        let mut found = Vec::new();
        lines.each(|path, position| found.push((ByteString::from(path), position.line)));
        let expected = [("/usr/bin/pegel", 3), ("/usr/bin/[", 7), ("/end/pegel", 8)];
        assert_eq!(found, expected.map(|(path, line)| (ByteString::from(path), line)));
    }

    #[test]
    fn digest_files_list_files_where_there_is_nothing_else() {
        let content = b"0123456789abcdef0123456789ABCDEF  usr/bin/two words\nbad\n".to_vec();
        assert_eq!(
            digest_in(&content, |path| path == b"/usr/bin/two words").unwrap(),
            "0123456789abcdef0123456789abcdef"
        );
        assert_eq!(digest_in(&content, |path| path == b"/usr/bin/two"), None);
        let lines = scan(0, content, &List::Digests("x".into()), &|_| true);
        lines.each(|path, position| assert_eq!((path, position.line), (&b"/usr/bin/two words"[..], 1)));
    }
}
