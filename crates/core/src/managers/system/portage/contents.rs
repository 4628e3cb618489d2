//! The lists of files that Portage keeps: `CONTENTS`, a line for each file, link and directory of a package.

use super::Database;
use crate::backend::simple::{FileLists, InstalledPackage, each_list, each_record};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Algorithm, CommandLine, Digest, FileRecord, Loss, NameFilter};

/// The path of a line of `CONTENTS`, which is absolute, and the digest of a file.
type Content<'l> = (&'l [u8], Option<&'l [u8]>);

fn content(line: &[u8]) -> Option<Content<'_>> {
    let (kind, rest) = line.split_at(memchr::memchr(b' ', line)?);
    let rest = &rest[1..];
    if !rest.starts_with(b"/") {
        return None;
    }
    match kind {
        // `PATH MD5 SECONDS`, from the right.
        b"obj" => {
            let seconds = memchr::memrchr(b' ', rest)?;
            let digest = memchr::memrchr(b' ', &rest[..seconds])?;
            Some((&rest[..digest], Some(&rest[digest + 1..seconds])))
        }
        b"sym" => Some((&rest[..memchr::memmem::find(rest, b" -> ")?], None)),
        b"dir" | b"fif" | b"dev" => Some((rest, None)),
        _ => None,
    }
}

/// Hands every line to `take` with its number; says which is the first that is damaged.
fn each_line<'l>(list: &'l [u8], mut take: impl FnMut(u32, &'l [u8], Content<'l>)) -> Option<String> {
    let mut damaged = None;
    for (number, line) in (1..).zip(list.split(|&b| b == b'\n')).filter(|(_, line)| !line.is_empty()) {
        match content(line) {
            Some(content) => take(number, line, content),
            None => damaged = damaged.or(Some(number)),
        }
    }
    damaged.map(|number| format!("line {number} is damaged"))
}

/// What a line says of a file: `obj PATH MD5 SECONDS`, `sym PATH -> TARGET SECONDS`.
fn file_record(line: &[u8], (path, digest): Content<'_>, package: u32) -> Option<FileRecord> {
    let last = memchr::memrchr(b' ', line)?;
    let seconds = || std::str::from_utf8(&line[last + 1..]).ok()?.parse().ok();
    let digest = digest.map(|md5| Digest::from_hexadecimal(Algorithm::Md5, &String::from_utf8_lossy(md5)));
    let arrow = memchr::memmem::find(line, b" -> ").filter(|_| line.starts_with(b"sym "));
    let target = arrow.and_then(|at| line.get(at + 4..last)).map(ByteString::from);
    let kind = match &line[..4] {
        b"obj " => Some(Kind::File),
        b"sym " => Some(Kind::Link),
        b"dir " => Some(Kind::Dir),
        _ => None,
    };
    let is_dated = matches!(kind, Some(Kind::File | Kind::Link));
    Some(FileRecord {
        package,
        path: path.into(),
        kind,
        digest,
        modified: if is_dated { seconds() } else { None },
        target,
        // What CONFIG_PROTECT has as it comes.
        is_settings: path::within(path, b"/etc"),
        ..FileRecord::default()
    })
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
        let find = |list: &[u8]| {
            let mut files = Vec::new();
            let damage = each_line(list, |number, _, (file, _)| {
                if wanted.has(path::name(file)) {
                    files.push((file.into(), number));
                }
            });
            (files, damage)
        };
        each_list(&host.root, items, |item| self.file(item), |_| true, find, notes, take);
    }

    fn file(&self, item: &InstalledPackage) -> ByteString {
        path::join(&item.entry, b"CONTENTS")
    }

    fn digest(&self, host: &Host, item: &InstalledPackage, canonical: &[u8]) -> Option<Digest> {
        let list = host.root.read(&self.file(item), Limit::LIST).ok()?;
        let name = path::name(canonical);
        let mut found = list.split(|&b| b == b'\n').filter_map(content);
        let (_, digest) =
            found.find(|(file, _)| path::name(file) == name && *host.root.canonicalize(file) == *canonical)?;
        Some(Digest::from_hexadecimal(Algorithm::Md5, &String::from_utf8_lossy(digest?)))
    }

    fn file_records(&self, host: &Host, items: &[(u32, &InstalledPackage)], notes: &mut Vec<Loss>) -> Vec<FileRecord> {
        let read = |number: u32, item: &InstalledPackage| match host.root.read(&self.file(item), Limit::LIST) {
            Ok(list) => {
                let mut records = Vec::new();
                let damage = each_line(&list, |_, line, content| records.extend(file_record(line, content, number)));
                (records, damage.map(|what| format!("{}: {what}", self.file(item))))
            }
            Err(error) if error.is_missing() => (Vec::new(), None),
            Err(error) => (Vec::new(), Some(error.to_string())),
        };
        each_record(items, read, notes)
    }

    fn restore(&self, item: &InstalledPackage) -> Option<CommandLine> {
        Some(CommandLine::new("emerge --oneshot").operand(item.name.clone()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_told_from_what_follows_them() {
        assert_eq!(content(b"obj /a b 0cc1 17 0cc2 18"), Some((&b"/a b 0cc1 17"[..], Some(&b"0cc2"[..]))));
        assert_eq!(content(b"sym /a b -> c 17"), Some((&b"/a b"[..], None)));
    }
}
