//! `RECORD`: the files of a distribution (*Python Packaging User Guide*, "Recording installed projects").
//!
//! Lines of comma-separated values: a path relative to the directory of modules, `ALGORITHM=DIGEST` with the
//! digest in URL-safe base64 without padding, and a size. The file's own line and those of compiled modules
//! have neither.
//!
//! Traps: paths with commas are quoted; scripts lie outside the directory (`../../../bin/x`); a path may be
//! absolute. What leads out of the environment's prefix is never taken for the distribution's.

use std::borrow::Cow;
use std::hash::BuildHasher as _;

use base64::Engine as _;
use hashbrown::{DefaultHashBuilder, HashMap};

use super::distribution::Distribution;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::model::{Algorithm, Depth, Digest, FileRecord, Loss};

/// One line, as it is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line<'a> {
    name: Cow<'a, [u8]>,
    digest: &'a [u8],
    /// The size in bytes.
    pub size: Option<u64>,
}

impl Line<'_> {
    /// The path for a directory of modules, absolute and without `..`.
    pub fn path(&self, dir: &[u8]) -> ByteString {
        path::without_dots(&self.name, dir)
    }

    /// Whether the path can lie in a directory of this name.
    pub fn mentions(&self, dir: &[u8]) -> bool {
        memchr::memmem::find(&self.name, dir).is_some()
    }

    /// The digest.
    pub fn digest(&self) -> Option<Digest> {
        let text = self.digest.strip_prefix(b"sha256=")?;
        let bytes = base64::engine::general_purpose::URL_SAFE_NO_PAD.decode(text.trim_ascii()).ok()?;
        (bytes.len() == 32).then(|| Digest::of(Algorithm::Sha256, &bytes))
    }
}

/// The lines of a record, numbered from 1.
pub fn lines(content: &[u8]) -> impl Iterator<Item = (u32, Line<'_>)> {
    let numbered = (1..).zip(content.split(|&b| b == b'\n'));
    numbered.filter_map(|(number, line)| {
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        let mut fields = line.rsplitn(3, |&b| b == b',');
        let (size, digest, name) = (fields.next()?, fields.next()?, fields.next()?);
        let name = if name.starts_with(b"\"") { quoted(name)? } else { name.into() };
        let size = std::str::from_utf8(size).ok().and_then(|size| size.trim().parse().ok());
        (!name.is_empty()).then_some((number, Line { name, digest, size }))
    })
}

/// A quoted field (RFC 4180). Each line is read by itself, so that an open quote costs one line and not the rest.
fn quoted(field: &[u8]) -> Option<Cow<'static, [u8]>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(field);
    let record = reader.byte_records().next()?.ok()?;
    (record.len() == 1).then(|| record[0].to_vec().into())
}

/// Where the record of a distribution lies.
pub fn file(distribution: &Distribution) -> ByteString {
    path::join(&distribution.metadata, b"RECORD")
}

/// The record of each file of a distribution; empty if the record cannot be read. Paths outside `prefix`
/// are left out. What is compiled when a module is first taken in may be absent.
pub fn files(root: &Root, one: &Distribution, prefix: &[u8], package: u32, depth: Depth) -> Option<Vec<FileRecord>> {
    if !one.has_record {
        return Some(Vec::new());
    }
    let content = root.read(&file(one), Limit::LIST).ok()?;
    let dir = path::parent(&one.metadata);
    let file = |(_, line): (u32, Line<'_>)| {
        let path = line.path(dir);
        if depth == Depth::Presence {
            let may_be_absent = path.ends_with(b".pyc");
            return FileRecord { package, path, may_be_absent, ..FileRecord::default() };
        }
        let digest = line.digest();
        FileRecord {
            package,
            kind: digest.is_some().then_some(Kind::File),
            size: line.size.filter(|_| digest.is_some()),
            may_be_absent: digest.is_none() && path.ends_with(b".pyc"),
            digest,
            path,
            ..FileRecord::default()
        }
    };
    Some(lines(&content).map(file).filter(|one| path::within(&one.path, prefix)).collect())
}

/// Which lines of the records of one environment name a path. A path takes 16 bytes.
#[derive(Debug, Default)]
pub struct Index {
    hasher: DefaultHashBuilder,
    by_path: HashMap<u64, (u32, u32)>,
    /// Paths that more than one distribution lists.
    shared: Vec<(u64, u32, u32)>,
    /// What could not be read.
    pub notes: Vec<Loss>,
}

impl Index {
    /// Reads the records of `distributions`, which lie in `dir`. Paths outside `prefix` are left out.
    pub fn of(root: &Root, distributions: &[Distribution], prefix: &[u8]) -> Self {
        let mut index = Index::default();
        for (number, one) in (0..).zip(distributions) {
            if !one.has_record {
                continue;
            }
            let dir = path::parent(&one.metadata);
            let content = match root.read(&file(one), Limit::LIST) {
                Ok(content) => content,
                Err(error) => {
                    index.notes.push(Loss::unread(&error, format!("which files are those of {} is unknown", one.name)));
                    continue;
                }
            };
            let mut outside = 0_usize;
            for (number_of_line, line) in lines(&content) {
                let path = line.path(dir);
                if path::within(&path, prefix) {
                    index.add(root, &path, number, number_of_line);
                } else {
                    outside += 1;
                }
            }
            if outside > 0 {
                let what = format!("{}: {outside} paths point outside {}", file(one), ByteString::from(prefix));
                index.notes.push(Loss::note(format!("{what} and are not counted as files of {}", one.name)));
            }
        }
        index
    }

    fn add(&mut self, root: &Root, path: &[u8], distribution: u32, line: u32) {
        let hash = self.hasher.hash_one(&*root.canonicalize(path));
        if let Some(&(other, _)) = self.by_path.get(&hash) {
            if other != distribution {
                self.shared.push((hash, distribution, line));
            }
            return;
        }
        self.by_path.insert(hash, (distribution, line));
    }

    /// The distributions that list a canonical path, each with the line.
    pub fn on(&self, canonical: &[u8]) -> Vec<(u32, u32)> {
        let hash = self.hasher.hash_one(canonical);
        let first = self.by_path.get(&hash).copied();
        let others = self.shared.iter().filter(|(other, ..)| *other == hash).map(|&(_, one, line)| (one, line));
        first.into_iter().chain(others.filter(|_| first.is_some())).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_resolved_and_digests_decoded() {
        let content = b"swellplot/__init__.py,sha256=47DEQpj8HBSa-_TImW-5JCeuQeRkm5NMpJWZG3hSuFU,0\n\
            ../../../bin/swellplot,sha256=bad,210\r\n\"odd, \"\"name\"\".py\",,\n/etc/shadow,,\n../../../../../../../../up,,\njunk\n,,\n";
        let found: Vec<(u32, String, bool, Option<u64>)> = lines(content)
            .map(|(number, line)| {
                let path = line.path(b"/v/lib/python3.11/site-packages");
                (number, path.to_string(), line.digest().is_some(), line.size)
            })
            .collect();
        let site = "/v/lib/python3.11/site-packages";
        assert_eq!(
            found,
            [
                (1, format!("{site}/swellplot/__init__.py"), true, Some(0)),
                (2, "/v/bin/swellplot".to_owned(), false, Some(210)),
                (3, format!("{site}/odd, \"name\".py"), false, None),
                (4, "/etc/shadow".to_owned(), false, None),
                (5, "/up".to_owned(), false, None),
            ]
        );
    }
}
