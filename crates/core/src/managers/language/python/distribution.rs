//! One Python distribution, by its metadata directory (*Python Packaging User Guide*, "Recording installed
//! projects"; "Direct URL data structure").
//!
//! `NAME-VERSION.dist-info/` has `METADATA` (headers), `INSTALLER`, `REQUESTED` (asked for by name),
//! `direct_url.json` (not from an index) and `RECORD` (the files). Older: `NAME-VERSION[-pyX.Y].egg-info`, a
//! directory with `PKG-INFO` or that file itself, `NAME.egg/EGG-INFO/`, and `NAME.egg-link`, whose first line
//! names the source directory of a development install.
//!
//! Traps: the directory's name has the name in another spelling; leftovers of an interrupted installation begin
//! with `~`; `INSTALLER` may end without a line feed, and says nothing of who manages the environment.

use serde::Deserialize;

use crate::bytes::{ByteString, path};
use crate::fs::{Dir, FsError, Kind, Limit, Root};
use crate::model::{Loss, Origin};
use crate::version::pep440::normal_name;

/// A distribution.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Distribution {
    /// As its metadata spells it.
    pub name: ByteString,
    /// Its version.
    pub version: Option<ByteString>,
    /// The metadata directory or file.
    pub metadata: ByteString,
    /// What installed it.
    pub installer: Option<ByteString>,
    /// Whether it was asked for by name.
    pub requested: bool,
    /// Where it came from, where it says so.
    pub direct: Option<Direct>,
    /// Whether it lists its files in `RECORD`.
    pub has_record: bool,
}

/// What `direct_url.json` or an egg-link says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Direct {
    /// The address.
    pub url: String,
    /// The directory of a development install: editable: changes there take effect at once.
    pub editable: bool,
    /// The version control's name and the commit.
    pub commit: Option<(String, String)>,
}

/// The most bytes of the headers that are read; name and version are at the beginning.
const HEADERS: usize = 4096;
/// The most bytes of `INSTALLER` that are read.
const A_WORD: usize = 64;

impl Distribution {
    /// The name under which it is compared with others.
    pub fn normal_name(&self) -> Vec<u8> {
        normal_name(&self.name)
    }

    /// When it was installed: the installer writes its own name last; what it unpacks can be older.
    pub fn installed_at(&self, root: &Root) -> Option<i64> {
        let noted = root.entry(&path::join(&self.metadata, b"INSTALLER"));
        noted.or_else(|_| root.entry(&self.metadata)).ok().map(|meta| meta.modified)
    }

    /// The address of upstream: `Home-page`, or the address that is labelled as one.
    pub fn upstream(&self, root: &Root) -> Option<ByteString> {
        let file = if self.metadata.ends_with(b".dist-info") { &b"METADATA"[..] } else { b"PKG-INFO" };
        let headers = root.read_start(&path::join(&self.metadata, file), HEADERS).ok()?;
        if let Some(page) = header(&headers, "Home-page").filter(|page| *page != b"UNKNOWN") {
            return Some(page.into());
        }
        let lines = headers.split(|&b| b == b'\n').take_while(|line| !line.trim_ascii().is_empty());
        let labelled = lines.filter_map(|line| line.strip_prefix(b"Project-URL: "));
        labelled
            .filter_map(|line| {
                let at = memchr::memchr(b',', line)?;
                let is_home = ["homepage", "home", "source", "repository", "source code"]
                    .iter()
                    .any(|label| line[..at].trim_ascii().eq_ignore_ascii_case(label.as_bytes()));
                is_home.then(|| line[at + 1..].trim_ascii().into())
            })
            .next()
    }

    /// Where it came from. Without `direct_url.json`, an installer took it from an index.
    pub fn origin(&self) -> Option<Origin> {
        let is_from_index = || self.installer.as_deref().is_some_and(|by| by == b"pip" || by == b"uv");
        let Some(direct) = &self.direct else {
            return is_from_index().then(|| Origin::third_party("index", "package index", None));
        };
        let url = Some(direct.url.as_str().into());
        Some(match &direct.commit {
            Some((system, _)) => Origin::third_party("version-control", system.as_str(), url),
            None if direct.editable => Origin::local("directory", "editable", url),
            None if direct.url.starts_with("file:") => Origin::local("file", "local", url),
            None => Origin::third_party("file", "direct", url),
        })
    }
}

/// Every distribution that a directory of modules holds, in the order of their metadata's names, and what
/// could not be read.
pub fn in_dir(root: &Root, dir: &ByteString) -> (Vec<Distribution>, Vec<Loss>) {
    let (mut found, mut notes) = (Vec::new(), Vec::new());
    let Ok(names) = root.dir(dir).and_then(|dir| dir.list()) else { return (found, notes) };
    for (name, kind) in names.iter().filter(|(name, _)| !name.starts_with(b"~")) {
        let whole = path::join(dir, name);
        let one = match (kind, ending(name)) {
            (Kind::Dir | Kind::Link, b".dist-info") => dist_info(root, &whole, &mut notes),
            (Kind::Dir | Kind::Link, b".egg-info") => egg_info(root, whole, name, &mut notes),
            (Kind::File, b".egg-info") => said(root.read(&whole, Limit::SMALL), &mut notes).map(|headers| {
                let (named, version) = headers_or_name(&headers, name);
                plain(named, version, whole)
            }),
            (Kind::Dir, b".egg") => egg_info(root, path::join(&whole, b"EGG-INFO"), name, &mut notes),
            (Kind::File, b".egg-link") => egg_link(root, &whole, &mut notes),
            _ => None,
        };
        found.extend(one);
    }
    (found, notes)
}

fn ending(name: &[u8]) -> &[u8] {
    memchr::memrchr(b'.', name).map_or(&[], |at| &name[at..])
}

fn plain(name: ByteString, version: Option<ByteString>, metadata: ByteString) -> Distribution {
    Distribution { name, version, metadata, installer: None, requested: false, direct: None, has_record: false }
}

/// The distributions that were read, and the losses: a distribution that could not be read is not known.
fn said<T>(read: Result<T, FsError>, notes: &mut Vec<Loss>) -> Option<T> {
    read.map_err(|error| notes.push(Loss::unread(&error, "a distribution is unknown"))).ok()
}

fn dist_info(root: &Root, metadata: &ByteString, notes: &mut Vec<Loss>) -> Option<Distribution> {
    let dir = said(root.dir(metadata), notes)?;
    let names = said(dir.list(), notes)?;
    let has = |name: &str| names.binary_search_by(|(other, _)| (**other).cmp(name.as_bytes())).is_ok();
    let (name, version) = name_and_version(&dir, "METADATA", path::name(metadata), notes);
    let mut one = plain(name, version, metadata.clone());
    if has("INSTALLER") {
        match dir.read_start(b"INSTALLER", A_WORD) {
            Ok((by, _)) => one.installer = Some(by.trim_ascii().into()).filter(|by: &ByteString| !by.is_empty()),
            Err(error) => notes.push(Loss::unread(&error, format!("who installed {} is unknown", one.name))),
        }
    }
    one.requested = has("REQUESTED");
    one.has_record = has("RECORD");
    if has("direct_url.json") {
        match dir.read(b"direct_url.json", Limit::SMALL).map_err(|error| error.to_string()).and_then(|(content, _)| {
            direct_url(&content).ok_or_else(|| format!("{}: damaged", path::join(metadata, b"direct_url.json")))
        }) {
            Ok(direct) => one.direct = Some(direct),
            Err(problem) => notes.push(Loss::because(problem, format!("where {} came from is unknown", one.name))),
        }
    }
    Some(one)
}

fn egg_info(root: &Root, metadata: ByteString, named: &ByteString, notes: &mut Vec<Loss>) -> Option<Distribution> {
    let dir = said(root.dir(&metadata), notes)?;
    let (name, version) = name_and_version(&dir, "PKG-INFO", named, notes);
    Some(plain(name, version, metadata))
}

/// The source directory of a development install, and the metadata in it.
fn egg_link(root: &Root, link: &ByteString, notes: &mut Vec<Loss>) -> Option<Distribution> {
    let content = said(root.read(link, Limit::SMALL), notes)?;
    let source = content.split(|&b| b == b'\n').next()?.trim_ascii();
    let wanted = normal_name(path::name(link).strip_suffix(b".egg-link")?);
    let inside = source.starts_with(b"/").then(|| root.dir(source).ok()?.list().ok()).flatten().unwrap_or_default();
    let metadata = inside.into_iter().map(|(name, _)| name).find(|name| {
        name.strip_suffix(b".egg-info")
            .is_some_and(|stem| normal_name(stem.split(|&b| b == b'-').next().unwrap_or(stem)) == wanted)
    });
    let Some(metadata) = metadata else {
        notes.push(Loss::damaged(
            link.clone(),
            "its source directory has no metadata",
            "name and version of that package are unknown",
        ));
        return None;
    };
    let mut one = egg_info(root, path::join(source, &metadata), &metadata, notes)?;
    let url = format!("file://{}", ByteString::from(source));
    one.direct = Some(Direct { url, editable: true, commit: None });
    one.metadata = link.clone();
    Some(one)
}

fn name_and_version(
    dir: &Dir<'_>,
    file: &str,
    named: &[u8],
    notes: &mut Vec<Loss>,
) -> (ByteString, Option<ByteString>) {
    match dir.read_start(file.as_bytes(), HEADERS) {
        Ok((headers, _)) => {
            if header(&headers, "Name").is_none() || header(&headers, "Version").is_none() {
                let whole = path::join(dir.path(), file.as_bytes());
                notes.push(Loss::damaged(whole.clone(), "has no name or version", "taken from the directory's name"));
            }
            headers_or_name(&headers, named)
        }
        Err(error) => {
            notes.push(Loss::unread(&error, "name and version are taken from the directory's name"));
            headers_or_name(b"", named)
        }
    }
}

fn headers_or_name(headers: &[u8], named: &[u8]) -> (ByteString, Option<ByteString>) {
    let stem = named.strip_suffix(ending(named)).unwrap_or(named);
    let mut parts = stem.split(|&b| b == b'-');
    let (name, version) = (parts.next().unwrap_or(stem), parts.next());
    let name = header(headers, "Name").unwrap_or(name);
    (name.into(), header(headers, "Version").or(version).map(ByteString::from))
}

/// The value of a header; the headers end at the first empty line.
pub(super) fn header<'a>(headers: &'a [u8], wanted: &str) -> Option<&'a [u8]> {
    let lines = headers.split(|&b| b == b'\n').map(<[u8]>::trim_ascii_end);
    lines
        .take_while(|line| !line.is_empty())
        .find_map(|line| {
            let at = memchr::memchr(b':', line)?;
            line[..at].eq_ignore_ascii_case(wanted.as_bytes()).then(|| line[at + 1..].trim_ascii())
        })
        .filter(|value| !value.is_empty())
}

#[derive(Deserialize)]
struct DirectUrl {
    url: String,
    dir_info: Option<DirInfo>,
    vcs_info: Option<VcsInfo>,
}

#[derive(Deserialize)]
struct DirInfo {
    #[serde(default)]
    editable: bool,
}

#[derive(Deserialize)]
struct VcsInfo {
    vcs: String,
    commit_id: String,
}

fn direct_url(content: &[u8]) -> Option<Direct> {
    let read: DirectUrl = serde_json::from_slice(content).ok()?;
    Some(Direct {
        url: read.url,
        editable: read.dir_info.is_some_and(|dir| dir.editable),
        commit: read.vcs_info.map(|control| (control.vcs, control.commit_id)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_come_from_the_headers_or_else_from_the_dir() {
        for (headers, named, name, version) in [
            (
                "Metadata-Version: 2.1\nName: Swell_Plot\nVersion: 1.9.0\n\nVersion: 7\n",
                "swell_plot-1.9.0.dist-info",
                "Swell_Plot",
                Some("1.9.0"),
            ),
            ("", "mooring-0.4-py3.11.egg-info", "mooring", Some("0.4")),
            ("\nName: x\n", "knots.egg", "knots", None),
            ("Name:  \r\nversion: 2\r\n", "knots-1.dist-info", "knots", Some("2")),
        ] {
            let read = headers_or_name(headers.as_bytes(), named.as_bytes());
            assert_eq!(read, (name.into(), version.map(ByteString::from)), "{named}");
        }
    }

    #[test]
    fn an_address_says_how_it_came() {
        let kind = |json: &str| {
            let mut one = plain("x".into(), None, "/x".into());
            one.direct = direct_url(json.as_bytes());
            one.origin().map(|origin| (origin.name.to_string(), origin.kind))
        };
        let known = |name: &str, kind: &str| Some((name.to_owned(), kind.to_owned()));
        assert_eq!(kind(r#"{"url":"file:///src","dir_info":{"editable":true}}"#), known("editable", "directory"));
        assert_eq!(kind(r#"{"url":"file:///x.whl","archive_info":{}}"#), known("local", "file"));
        assert_eq!(
            kind(r#"{"url":"https://quay.example/x","vcs_info":{"vcs":"git","commit_id":"1f"}}"#),
            known("git", "version-control")
        );
        assert_eq!(kind("{}"), None);
    }
}
