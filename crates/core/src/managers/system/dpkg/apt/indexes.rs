//! The lists of what repositories offer, in `/var/lib/apt/lists`.
//!
//! A file's name is the address without its scheme, `/` written as `_`; some characters as `%xx`. It may end in the
//! name of a compression; its content says which one it is.

use super::DIR;
use super::sources::Source;
use super::texts::{Text, Texts};
use crate::backend::index_settings::site_of;
use crate::backend::parts::{self, each_stanza};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::{Described, Loss, Search};
use whodunit_formats::stanza::{Stanza, stanzas};

const ENDINGS: [&str; 6] = ["", ".lz4", ".gz", ".xz", ".zst", ".bz2"];

/// What a repository says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Release {
    pub origin: Option<ByteString>,
    pub label: Option<ByteString>,
    pub suite: Option<ByteString>,
    pub codename: Option<ByteString>,
    pub version: Option<ByteString>,
    /// Only taken where it is asked for.
    pub not_automatic: bool,
    /// But kept up to date where it was.
    pub but_upgrades: bool,
    /// Until when the lists may be used: seconds since 1970.
    pub valid_until: Option<i64>,
    /// Whether it has lists for every architecture together.
    pub is_for_all: bool,
}

/// One list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Index {
    /// The repository's address.
    pub url: ByteString,
    /// The suite, as it is configured.
    pub suite: ByteString,
    /// The component; none of a flat repository.
    pub component: Option<ByteString>,
    /// The architecture; none of a flat repository.
    pub arch: Option<ByteString>,
    /// The list's file.
    pub file: ByteString,
    /// When it was last asked for, as far as that is known: seconds since 1970.
    pub dated: i64,
    pub release: Release,
    /// The file with the signature, if there is one and a signature is asked for.
    pub signature: Option<ByteString>,
    /// The number of what configures it, among the sources.
    pub source: usize,
}

/// Which entries are wanted.
pub struct Filter<'f> {
    /// By name.
    pub is_named: &'f (dyn Fn(&[u8]) -> bool + Sync),
    /// By what they say, with what else is known of packages.
    pub search: Option<(&'f Search, &'f Texts)>,
    /// Whether packages that provide a wanted name are wanted, too; then the text of each entry is kept.
    pub with_providers: bool,
}

impl Filter<'_> {
    fn may_want(&self, text: &[u8], name: Option<&[u8]>) -> bool {
        match self.search {
            None if self.with_providers && provided(text).any(|name| (self.is_named)(name)) => true,
            None => name.is_none_or(|name| (self.is_named)(name)),
            Some((search, texts)) => {
                search.may_be_in(text) || name.is_some_and(|name| texts.of(name).is_some() || (self.is_named)(name))
            }
        }
    }

    fn wants(&self, entry: &mut Entry) -> bool {
        // Those that provide a name were told by their text.
        let Some((search, texts)) = self.search else { return self.with_providers || (self.is_named)(&entry.name) };
        entry.text = texts.of(&entry.name).cloned();
        let text = entry.text.as_ref();
        let described = Described {
            name: &entry.name,
            display_name: text.and_then(|text| text.display_name.as_deref()),
            summary: entry.says.as_deref(),
            keywords: text.map_or(&[], |text| &text.summaries),
            commands: text.map_or(&[], |text| &text.commands),
        };
        (self.is_named)(&entry.name) || search.parts(&described).is_some()
    }
}

/// One package in a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    pub name: ByteString,
    pub version: ByteString,
    pub arch: ByteString,
    /// Bytes once installed.
    pub installed_size: Option<u64>,
    /// The first line of what it says of itself.
    pub says: Option<ByteString>,
    /// Bytes to fetch.
    pub download_size: Option<u64>,
    /// The address of upstream.
    pub homepage: Option<ByteString>,
    /// Its stanza, where it is wanted.
    pub stanza: Option<Vec<u8>>,
    /// What else is known of it by name.
    pub text: Option<Text>,
    /// Tells builds of one version apart.
    pub digest: u64,
    /// The list's number.
    pub index: usize,
}

/// The part of a name for an address.
fn quoted(url: &[u8]) -> Vec<u8> {
    let bare = memchr::memmem::find(url, b"://").map_or(url, |at| &url[at + 3..]);
    let bare = bare.strip_prefix(b"file:").or(bare.strip_prefix(b"copy:")).unwrap_or(bare);
    let mut name = Vec::with_capacity(bare.len());
    for &byte in bare {
        match byte {
            b'/' => name.push(b'_'),
            b'\\' | b'|' | b'{' | b'}' | b'[' | b']' | b'<' | b'>' | b'"' | b'^' | b'~' | b'_' | b'=' | b'!' | b'@'
            | b'#' | b'$' | b'%' | b'&' | b'*' => name.extend(format!("%{byte:02x}").bytes()),
            byte if byte <= 0x20 || byte >= 0x7f => name.extend(format!("%{byte:02x}").bytes()),
            byte => name.push(byte),
        }
    }
    name
}

/// What the names of a repository's lists begin with.
pub fn stem(source: &Source) -> Vec<u8> {
    match source.suite.ends_with(b"/") {
        true => quoted(&[&*source.url, b"/", &*source.suite].concat()),
        false => quoted(&[&*source.url, b"/dists/", &*source.suite, b"/"].concat()),
    }
}

/// The file with a repository's signature, where apt has checked one: what is trusted in any case is not checked.
fn signature(source: &Source, stem: &[u8], has: &dyn Fn(&[u8]) -> bool) -> Option<ByteString> {
    let names = [&b"InRelease"[..], b"Release.gpg"].map(|name| [stem, name].concat());
    let name = names.into_iter().find(|name| has(name)).filter(|_| !source.trusted)?;
    Some(path::join(DIR, &name))
}

/// The lists that are there of what is configured, in apt's order.
pub fn find(root: &Root, sources: &[Source], native: &ByteString, foreign: &[ByteString]) -> Vec<Index> {
    let names = root.names_in(DIR);
    let has = |name: &[u8]| names.binary_search_by(|(other, _)| (**other).cmp(name)).is_ok();
    // A list is as old as the repository made it; when it was last asked for is another thing.
    let asked = ["/var/lib/apt/lists/partial", "/var/lib/apt/lists", "/var/lib/apt/periodic/update-success-stamp"];
    let asked = asked.iter().filter_map(|place| root.entry(place.as_bytes()).ok()).map(|meta| meta.modified).max();
    let mut found: Vec<Index> = Vec::new();
    for (number, source) in sources.iter().enumerate().filter(|(_, source)| source.enabled) {
        let is_flat = source.suite.ends_with(b"/");
        let place = stem(source);
        let signature = signature(source, &place, &has);
        let (release, released) = release(root, &place);
        let mut wanted: Vec<(Option<ByteString>, Option<ByteString>, Vec<u8>)> = Vec::new();
        if is_flat {
            wanted.push((None, None, [&*place, b"Packages"].concat()));
        }
        let all = release.is_for_all.then(|| ByteString::from("all"));
        let usual = [native].into_iter().chain(foreign).cloned();
        let of: Vec<ByteString> =
            if source.architectures.is_empty() { usual.collect() } else { source.architectures.clone() };
        for component in &source.components {
            for arch in of.iter().chain(&all) {
                let rest = [&*quoted(component), b"_binary-", arch, b"_Packages"].concat();
                wanted.push((Some(component.clone()), Some(arch.clone()), [&*place, &*rest].concat()));
            }
        }
        for (component, arch, stem) in wanted {
            let file = ENDINGS.iter().map(|ending| [&*stem, ending.as_bytes()].concat()).find(|name| has(name));
            let Some(file) = file.map(|name| path::join(DIR, &name)) else { continue };
            if found.iter().any(|other| other.file == file) {
                continue;
            }
            let fetched = root.entry(&file).map_or(0, |meta| meta.modified);
            found.push(Index {
                url: source.url.clone(),
                suite: source.suite.clone(),
                component,
                arch,
                file,
                dated: [released, asked].into_iter().flatten().max().unwrap_or(fetched),
                release: release.clone(),
                signature: signature.clone(),
                source: number,
            });
        }
    }
    found
}

/// What the repository says of itself, and when it last said so.
pub fn release(root: &Root, place: &[u8]) -> (Release, Option<i64>) {
    let files = [&b"InRelease"[..], b"Release"].map(|name| path::join(DIR, &[place, name].concat()));
    let content = files.iter().find_map(|file| root.read(file, Limit::LIST).ok()).unwrap_or_default();
    let mut release = Release::default();
    let mut dated = None;
    // Signed in clear: the head of the signature is a stanza of its own.
    let mut bodies = stanzas(&content);
    let body = bodies.find(|stanza| {
        stanza.fields().flatten().any(|field| {
            field.name.eq_ignore_ascii_case(b"Date")
                || field.name.eq_ignore_ascii_case(b"Suite")
                || field.name.eq_ignore_ascii_case(b"Origin")
        })
    });
    let mut supports_all = true;
    let mut has_all = false;
    for field in body.into_iter().flat_map(Stanza::fields).flatten() {
        let value = || Some(ByteString::from(field.value)).filter(|value| !value.is_empty());
        match field.name.to_ascii_lowercase().as_slice() {
            b"origin" => release.origin = value(),
            b"label" => release.label = value(),
            b"suite" => release.suite = value(),
            b"codename" => release.codename = value(),
            b"version" => release.version = value(),
            b"notautomatic" => release.not_automatic = field.value == b"yes",
            b"butautomaticupgrades" => release.but_upgrades = field.value == b"yes",
            b"architectures" => has_all = field.value.split(u8::is_ascii_whitespace).any(|word| word == b"all"),
            b"no-support-for-architecture-all" => supports_all = false,
            b"valid-until" => release.valid_until = std::str::from_utf8(field.value).ok().and_then(date),
            b"date" => dated = std::str::from_utf8(field.value).ok().and_then(date),
            _ => {}
        }
    }
    release.is_for_all = has_all && supports_all;
    (release, dated)
}

/// `Sat, 11 Jul 2026 10:16:37 UTC`.
fn date(text: &str) -> Option<i64> {
    let text = text.replace("UTC", "+0000").replace("GMT", "+0000");
    Some(jiff::fmt::rfc2822::parse(&text).ok()?.timestamp().as_second())
}

impl Index {
    /// The machine that it comes from; empty for a directory of this one.
    pub fn site(&self) -> ByteString {
        site_of(&self.url)
    }

    /// Whether the list has packages with these names. A list that cannot be read has none; those that read it in full
    /// say so.
    pub fn has(&self, root: &Root, names: &[ByteString]) -> Vec<bool> {
        let Ok(bytes) = root.stream(&self.file, Limit::RECORD) else { return vec![false; names.len()] };
        let heads = names.iter().map(|name| [b"Package: ", &**name, b"\n"].concat()).collect::<Vec<_>>();
        parts::lines_in(bytes, &heads)
    }

    /// Every entry of a wanted name, and what could not be read.
    pub fn entries(&self, root: &Root, number: usize, wanted: &Filter<'_>) -> (Vec<Entry>, Option<Loss>) {
        let bytes = match root.stream(&self.file, Limit::RECORD) {
            Ok(bytes) => bytes,
            Err(error) => return (Vec::new(), Some(Loss::unread(&error, "what it offers is unknown"))),
        };
        let mut found = Vec::new();
        let problem = each_stanza(bytes, &mut |text| {
            // Nearly all stanzas are told by their first line.
            let line = &text[..memchr::memchr(b'\n', text).unwrap_or(text.len())];
            if wanted.may_want(text, line.strip_prefix(b"Package:").map(<[u8]>::trim_ascii)) {
                let mut entries: Vec<Entry> = stanzas(text).filter_map(|stanza| entry(stanza, number)).collect();
                if wanted.with_providers {
                    entries.iter_mut().for_each(|entry| entry.stanza = Some(text.to_vec()));
                }
                found.extend(entries.extract_if(.., |entry| wanted.wants(entry)));
            }
        });
        let note = problem.map(|problem| Loss::damaged(self.file.clone(), problem, "what follows is unknown"));
        (found, note)
    }
}

/// The names that a stanza provides, without versions.
fn provided(text: &[u8]) -> impl Iterator<Item = &[u8]> {
    let line = memchr::memmem::find(text, b"\nProvides:").map_or(&b""[..], |at| &text[at + 10..]);
    let line = &line[..memchr::memchr(b'\n', line).unwrap_or(line.len())];
    line.split(|&b| b == b',').map(|one| {
        let one = one.trim_ascii();
        &one[..one.iter().position(|b| matches!(b, b' ' | b'(' | b':')).unwrap_or(one.len())]
    })
}

fn entry(stanza: Stanza<'_>, index: usize) -> Option<Entry> {
    let (mut name, mut version, mut arch, mut size, mut says) = (None, None, None, None, None);
    let (mut homepage, mut download_size) = (None, None);
    let number = |value: &[u8]| std::str::from_utf8(value).ok().and_then(|size| size.parse::<u64>().ok());
    for field in stanza.fields().flatten() {
        match field.name.to_ascii_lowercase().as_slice() {
            b"package" => name = Some(ByteString::from(field.value)),
            b"version" => version = Some(ByteString::from(field.value)),
            b"architecture" => arch = Some(ByteString::from(field.value)),
            b"installed-size" => size = number(field.value),
            b"size" => download_size = number(field.value),
            b"homepage" => homepage = Some(ByteString::from(field.value)),
            b"description" => says = Some(ByteString::from(field.value)).filter(|says| !says.is_empty()),
            _ => {}
        }
    }
    let installed_size = size.and_then(|kib| kib.checked_mul(1024));
    Some(Entry {
        name: name?,
        version: version?,
        arch: arch?,
        installed_size,
        download_size,
        homepage,
        says,
        text: None,
        stanza: None,
        digest: digest_of(stanza),
        index,
    })
}

/// Fields by which apt tells two builds of one version apart (`debListParser::VersionHash`).
const TELLING: [&str; 6] = ["Installed-Size", "Depends", "Pre-Depends", "Conflicts", "Breaks", "Replaces"];

/// A digest of what tells builds apart, blanks and case aside.
pub fn digest_of(stanza: Stanza<'_>) -> u64 {
    let fields: Vec<_> = stanza.fields().flatten().collect();
    // FNV-1a, 64 bits.
    let mut digest = 0xcbf2_9ce4_8422_2325_u64;
    let mut add = |byte: u8| digest = (digest ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3);
    for name in TELLING {
        add(0);
        let field = fields.iter().find(|field| field.name.eq_ignore_ascii_case(name.as_bytes()));
        let value = field.map_or(&b""[..], |field| field.value);
        let said = value.iter().filter(|byte| !byte.is_ascii_whitespace());
        said.for_each(|byte| add(byte.to_ascii_lowercase()));
    }
    digest
}
