//! What is installed: a directory for each package.

use std::io::Read as _;

use rayon::prelude::*;

use crate::backend::simple::{InstalledPackage, Record, cut, each_list};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Algorithm, Digest, Evidence, Loss, NameFilter, Reason, Status};

/// The values of each `%KEY%`, a line each, with the number of the key's line.
pub fn sections(content: &[u8]) -> impl Iterator<Item = (&[u8], u32, Vec<&[u8]>)> {
    let mut lines = (1..).zip(content.split(|&b| b == b'\n'));
    std::iter::from_fn(move || {
        let is_key = |line: &[u8]| line.len() > 2 && line.starts_with(b"%") && line.ends_with(b"%");
        let (number, key) = lines.find(|(_, line)| is_key(line))?;
        let values = lines.by_ref().map(|(_, line)| line).take_while(|line| !line.is_empty()).collect();
        Some((&key[1..key.len() - 1], number, values))
    })
}

/// Reads every package's description.
pub fn read(root: &Root, database: &ByteString) -> Record {
    let dir = path::join(database, b"local");
    let mut record = Record::default();
    let names = match root.dir(&dir).and_then(|dir| dir.list()) {
        Ok(names) => names,
        Err(error) => {
            record.notes.push(Loss::unread(&error, "the packages of pacman are unknown"));
            return record;
        }
    };
    let dirs: Vec<ByteString> =
        names.iter().filter(|(_, kind)| *kind == Kind::Dir).map(|(name, _)| path::join(&dir, name)).collect();
    let read: Vec<(InstalledPackage, Vec<Loss>)> = dirs.par_iter().map(|entry| package(root, entry)).collect();
    for (item, notes) in read {
        record.items.push(item);
        record.notes.extend(notes);
    }
    record
}

fn package(root: &Root, entry: &ByteString) -> (InstalledPackage, Vec<Loss>) {
    let file = path::join(entry, b"desc");
    let mut notes = Vec::new();
    let (name, version) = name_and_version(path::name(entry));
    let mut item = InstalledPackage::new("package", name);
    item.version = version;
    item.entry = entry.clone();
    item.purl = Some("alpm");
    item.status = Status::Broken;
    match root.read(&file, Limit::SMALL) {
        Ok(content) => fill(&mut item, &file, &content, &mut notes),
        Err(error) => {
            item.reason = Reason::Unknown;
            notes.push(Loss::unread(
                &error,
                "an interrupted installation, or a damaged record; taken from the directory's name",
            ));
            item.evidence.push(Evidence::directory(entry.clone(), format!("only the name of {} is left", item.name)));
        }
    }
    (item, notes)
}

fn fill(item: &mut InstalledPackage, file: &ByteString, content: &[u8], notes: &mut Vec<Loss>) {
    let mut known = 0;
    for (key, line, values) in sections(content) {
        let first = values.first().copied();
        let number = || std::str::from_utf8(first?).ok()?.trim().parse::<i64>().ok();
        match key {
            b"NAME" => {
                item.name = first.unwrap_or_default().into();
                item.evidence.push(Evidence::line(file.clone(), line + 1, format!("name {}", item.name)));
                known += 1;
            }
            b"VERSION" => {
                item.version = first.map(ByteString::from);
                known += 1;
            }
            b"ARCH" => item.arch = first.map(ByteString::from),
            b"GROUPS" => item.groups = values.iter().map(|group| ByteString::from(*group)).collect(),
            b"INSTALLDATE" => item.installed_at = number(),
            b"SIZE" => item.size = number().and_then(|size| u64::try_from(size).ok()),
            b"REASON" if number() == Some(1) => {
                item.reason = Reason::Dependency;
                item.evidence.push(Evidence::line(file.clone(), line + 1, "installed as a dependency (1)"));
            }
            _ => {}
        }
    }
    notes
        .extend(cut(content).map(|what| Loss::damaged(file.clone(), what, "what stands behind this place is unknown")));
    if known == 2 {
        item.status = Status::Installed;
    } else {
        notes.push(Loss::damaged(file.clone(), "has no name or version", "taken from the directory's name"));
    }
}

/// `sanderling-utils-7.1-1.1` → name and version: the last two parts are version and release.
fn name_and_version(dir: &[u8]) -> (ByteString, Option<ByteString>) {
    let cut = memchr::memrchr(b'-', dir).and_then(|at| memchr::memrchr(b'-', &dir[..at]));
    match cut {
        Some(at) => (dir[..at].into(), Some(dir[at + 1..].into())),
        None => (dir.into(), None),
    }
}

/// Hands the wanted files of every package to `take`.
pub fn each_file(
    root: &Root,
    items: &[InstalledPackage],
    wanted: &NameFilter,
    notes: &mut Vec<Loss>,
    take: &mut dyn FnMut(u32, &[u8], u32),
) {
    // A package without files need not have a list.
    let may_lack = |item: &InstalledPackage| item.status == Status::Installed;
    let file = |item: &InstalledPackage| path::join(&item.entry, b"files");
    each_list(root, items, file, may_lack, |content| (wanted_of(content, wanted), cut(content)), notes, take);
}

fn wanted_of(content: &[u8], wanted: &NameFilter) -> Vec<(ByteString, u32)> {
    let mut is_file = false;
    let mut found = Vec::new();
    for (number, line) in (1..).zip(content.split(|&b| b == b'\n')) {
        if line.starts_with(b"%") && line.ends_with(b"%") {
            is_file = line == b"%FILES%";
            continue;
        }
        let bare = line.strip_suffix(b"/").unwrap_or(line);
        if is_file && !bare.is_empty() && !bare.starts_with(b"/") && wanted.has(path::name(bare)) {
            found.push((path::join(b"/", bare), number));
        }
    }
    found
}

/// The digest of a path, from the package's `mtree`.
pub fn digest(root: &Root, entry: &ByteString, canonical: &[u8]) -> Option<Digest> {
    let packed = root.read(&path::join(entry, b"mtree"), Limit::LIST).ok()?;
    let content = unpacked(&packed)?;
    let name = path::name(canonical);
    let lines = content.split(|&b| b == b'\n').filter(|line| line.starts_with(b"./"));
    lines
        .filter_map(|line| {
            let mut words = line.split(|&b| b == b' ');
            let file = unescaped(words.next()?.get(1..)?);
            (path::name(&file) == name && *root.canonicalize(&file) == *canonical).then_some(words)
        })
        .find_map(|words| {
            let mut md5 = None;
            for word in words {
                let text =
                    |prefix: &str| Some(String::from_utf8_lossy(word.strip_prefix(prefix.as_bytes())?).into_owned());
                if let Some(digest) = text("sha256digest=") {
                    return Some(Digest::from_hexadecimal(Algorithm::Sha256, &digest));
                }
                let found = text("md5digest=").or(text("md5="));
                md5 = md5.or(found.map(|md5| Digest::from_hexadecimal(Algorithm::Md5, &md5)));
            }
            md5
        })
}

/// The most bytes of an `mtree` that are read.
const MAX_UNPACKED: u64 = 64 << 20;

/// The text of an `mtree`.
pub fn unpacked(packed: &[u8]) -> Option<Vec<u8>> {
    let mut content = Vec::new();
    flate2::read::MultiGzDecoder::new(packed).take(MAX_UNPACKED).read_to_end(&mut content).ok()?;
    Some(content)
}

/// Bytes that are written `\040`, in octal.
pub fn unescaped(text: &[u8]) -> Vec<u8> {
    let mut plain = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some((&first, after)) = rest.split_first() {
        let digits = after.get(..3).filter(|_| first == b'\\');
        let octal =
            digits.and_then(|digits| std::str::from_utf8(digits).ok()).and_then(|d| u8::from_str_radix(d, 8).ok());
        match octal {
            Some(byte) => {
                plain.push(byte);
                rest = &after[3..];
            }
            None => {
                plain.push(first);
                rest = after;
            }
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn descriptions_lists_and_escapes_are_read() {
        let desc = b"%NAME%\ntarn\n\n%GROUPS%\na\nb\n\n%REASON%\n1\n%ODD";
        let read: Vec<_> = sections(desc).map(|(key, line, values)| (key.to_vec(), line, values.len())).collect();
        assert_eq!(read, [(b"NAME".to_vec(), 1, 1), (b"GROUPS".to_vec(), 4, 2), (b"REASON".to_vec(), 8, 2)]);
        let files = b"%FILES%\nusr/\nusr/bin/\nusr/bin/tarn\n/abs\n\n%BACKUP%\netc/tarn.conf\t00\n";
        let found = wanted_of(files, &NameFilter::All);
        assert_eq!(
            found.iter().map(|(file, line)| format!("{file} {line}")).collect::<Vec<_>>(),
            ["/usr 2", "/usr/bin 3", "/usr/bin/tarn 4"]
        );
        assert_eq!(unescaped(b"/a\\040b\\9"), b"/a b\\9");
        assert_eq!(name_and_version(b"teasel-utils-1:0.8-1.1"), ("teasel-utils".into(), Some("1:0.8-1.1".into())));
    }
}
