//! Trees of ports, and what they had when they were last fetched.
//!
//! `etc/macports/sources.conf` has a line for each tree, `ADDRESS [flags]`; a tree lies at the path of a `file:` address,
//! else below `var/macports/sources`, under the address without its scheme. Its `PortIndex` has two lines for each port:
//! `NAME LENGTH`, and a Tcl list of that many bytes with keys and values in turn (*MacPorts Guide*, "The MacPorts
//! PortIndex").

use super::Registry;
use crate::backend::Unsearched;
use crate::backend::index_settings::without_credentials;
use crate::backend::simple::{CatalogueQuery, SimpleCatalogue};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{CommandLine, Described, Evidence, Location, Loss, Offer, Origin, Scope, Search, Source};
use crate::version::macports::compare;

/// One tree.
struct Tree {
    url: ByteString,
    enabled: bool,
    line: u32,
    file: ByteString,
    index: ByteString,
}

/// The trees that are configured, in their order.
fn configured(host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Tree> {
    let file = path::join(&at.dir, b"etc/macports/sources.conf");
    let content = match host.root.read(&file, Limit::SMALL) {
        Ok(content) => content,
        Err(error) if error.is_missing() => return Vec::new(),
        Err(error) => {
            notes.push(Loss::unread(&error, "trees of ports are unknown"));
            return Vec::new();
        }
    };
    let lines = (1..).zip(content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii));
    let of_line = |(line, text): (u32, &[u8])| {
        let flags = memchr::memchr(b'[', text).unwrap_or(text.len());
        let (url, flags) = (text[..flags].trim_ascii(), &text[flags..]);
        if url.is_empty() || url.starts_with(b"#") {
            return None;
        }
        let bare = memchr::memmem::find(url, b"://").map_or(url, |at| &url[at + 3..]);
        let dir = match url.strip_prefix(b"file://") {
            Some(dir) => dir.into(),
            // An archive is unpacked beside itself, without its ending.
            None => {
                path::join(&path::join(&at.dir, b"var/macports/sources"), bare.strip_suffix(b".tar").unwrap_or(bare))
            }
        };
        Some(Tree {
            url: without_credentials(url),
            enabled: memchr::memmem::find(flags, b"disabled").is_none(),
            line,
            file: file.clone(),
            index: path::join(&dir, b"PortIndex"),
        })
    };
    lines.filter_map(of_line).collect()
}

impl Tree {
    fn name(&self) -> ByteString {
        let bare = memchr::memmem::find(&self.url, b"://").map_or(&*self.url, |at| &self.url[at + 3..]);
        bare.strip_suffix(b"/").unwrap_or(bare).into()
    }

    fn origin(&self) -> Origin {
        let host = self.name();
        let trust = match () {
            () if self.url.starts_with(b"file:") => "local",
            () if host.starts_with(b"rsync.macports.org/") => "distribution",
            () => "third-party",
        };
        Origin {
            name: self.name(),
            kind: "repository".to_owned(),
            url: Some(self.url.clone()),
            trust: Some(trust.to_owned()),
        }
    }
}

/// The elements of a Tcl list: words between blanks, or in braces, which may hold braces in turn.
fn elements(list: &[u8]) -> Vec<&[u8]> {
    let mut found = Vec::new();
    let mut at = 0;
    while at < list.len() {
        if list[at].is_ascii_whitespace() {
            at += 1;
            continue;
        }
        let start = at;
        if list[at] == b'{' {
            let mut depth = 0_usize;
            while at < list.len() {
                match list[at] {
                    b'\\' => at += 1,
                    b'{' => depth += 1,
                    b'}' if depth == 1 => break,
                    b'}' => depth -= 1,
                    _ => {}
                }
                at += 1;
            }
            found.push(&list[(start + 1).min(list.len())..at.min(list.len())]);
            at += 1;
        } else {
            while at < list.len() && !list[at].is_ascii_whitespace() {
                at += if list[at] == b'\\' { 2 } else { 1 };
            }
            found.push(&list[start..at.min(list.len())]);
        }
    }
    found
}

/// Hands every port of an index to `take`: the line, its name, and the list of keys and values.
fn each_port<'c>(content: &'c [u8], take: &mut dyn FnMut(u32, &'c [u8], &'c [u8])) -> Option<String> {
    let (mut rest, mut line) = (content, 1_u32);
    while !rest.is_empty() {
        let end = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
        let head = &rest[..end];
        let length = memchr::memrchr(b' ', head).and_then(|at| std::str::from_utf8(&head[at + 1..]).ok()?.parse().ok());
        let (Some(at), Some(length)) = (memchr::memrchr(b' ', head), length) else {
            return Some(format!("line {line} is damaged"));
        };
        let length: usize = length;
        let body = rest.get(end + 1..).unwrap_or_default();
        let Some(list) = body.get(..length) else { return Some("cut off".to_owned()) };
        take(line, &head[..at], list.trim_ascii_end());
        let lines = memchr::memchr_iter(b'\n', list).count();
        line = line.saturating_add(1).saturating_add(u32::try_from(lines).unwrap_or(u32::MAX));
        rest = &body[length..];
    }
    None
}

impl SimpleCatalogue for Registry {
    fn offers(&self, host: &Host, asked: &CatalogueQuery<'_>, notes: &mut Vec<Loss>) -> Vec<Offer> {
        let mut offers = Vec::new();
        for tree in configured(host, asked.at, notes).iter().filter(|tree| tree.enabled) {
            let Ok(meta) = host.root.target(&tree.index) else { continue };
            let lost = "what it offers is unknown in full";
            let content = match host.root.read(&tree.index, Limit::RECORD) {
                Ok(content) => content,
                Err(error) => {
                    notes.push(Loss::unread(&error, lost));
                    continue;
                }
            };
            let problem = each_port(&content, &mut |line, name, list| {
                let is_named = asked.wants(&Described { name, ..Described::default() });
                if !is_named && !asked.may_be_in(list) {
                    return;
                }
                let words = elements(list);
                let value = |key: &str| {
                    let pair = words.chunks_exact(2).find(|pair| pair[0] == key.as_bytes());
                    pair.map(|pair| pair[1]).and_then(ByteString::unless_empty)
                };
                let summary = value("description");
                if !asked.wants(&Described { name, summary: summary.as_deref(), ..Described::default() }) {
                    return;
                }
                let version = value("version").unwrap_or_default();
                let full = format!("{version}_{}", value("revision").unwrap_or_else(|| "0".into()));
                offers.push(Offer {
                    source: Some(tree.origin()),
                    homepage: value("homepage"),
                    license: value("license"),
                    says: summary,
                    catalogued_at: Some(meta.modified),
                    evidence: vec![Evidence::line(tree.index.clone(), line, format!("version {full}"))],
                    ..asked.offer(name.into(), full.into(), None)
                });
            });
            notes.extend(problem.map(|problem| Loss::damaged(tree.index.clone(), problem, lost)));
        }
        asked.finish(offers, &compare)
    }

    fn is_fetched(&self, host: &Host, at: &Location) -> bool {
        configured(host, at, &mut Vec::new()).iter().any(|tree| host.root.target(&tree.index).is_ok())
    }

    fn sources(&self, host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Source> {
        let of_one = |tree: &Tree| {
            let origin = tree.origin();
            Source {
                enabled: tree.enabled,
                trust: origin.trust,
                refreshed_at: host.root.target(&tree.index).ok().map(|meta| meta.modified),
                evidence: vec![Evidence::line(tree.file.clone(), tree.line, format!("ports from {}", tree.url))],
                gives: vec![tree.url.clone()],
                url: Some(tree.url.clone()),
                ..Source::new(at.manager, Scope::System, tree.name(), "repository")
            }
        };
        configured(host, at, notes).iter().map(of_one).collect()
    }

    fn unsearched(&self, host: &Host, at: &Location, _: &Search) -> Vec<Unsearched> {
        let trees = configured(host, at, &mut Vec::new());
        let missing = trees.iter().filter(|tree| tree.enabled && host.root.target(&tree.index).is_err());
        let fetch = Some(CommandLine::new("port sync"));
        missing
            .map(|tree| Unsearched::new(format!("{}: no list of ports was fetched", tree.name()), fetch.clone()))
            .collect()
    }

    fn take(&self, offer: &Offer) -> Option<CommandLine> {
        Some(CommandLine::new("port install").operand(offer.name.clone()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_have_words_and_braces_and_a_cut_is_told() {
        let list = br"variants {x11 docs} description {Plots {tide} \{tables} version 2.3 {} a\ b";
        let shown: Vec<String> = elements(list).into_iter().map(|one| ByteString::from(one).to_string()).collect();
        assert_eq!(
            shown,
            ["variants", "x11 docs", "description", r"Plots {tide} \{tables", "version", "2.3", "", r"a\ b"]
        );
        for cut in 0..list.len() {
            let _ = elements(&list[..cut]);
        }
        let index = b"tarn 12\nversion 2.3\nbuoy 10\nversion 1\n";
        let mut names = Vec::new();
        assert_eq!(
            each_port(index, &mut |line, name, list| names.push((line, name.to_vec(), elements(list).len()))),
            None
        );
        assert_eq!(names, [(1, b"tarn".to_vec(), 2), (3, b"buoy".to_vec(), 2)]);
        assert_eq!(each_port(&index[..30], &mut |_, _, _| {}), Some("cut off".to_owned()));
        assert_eq!(each_port(b"no length\n", &mut |_, _, _| {}), Some("line 1 is damaged".to_owned()));
    }
}
