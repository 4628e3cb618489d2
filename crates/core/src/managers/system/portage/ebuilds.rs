//! What repositories of ebuilds have.
//!
//! Follows *Package Manager Specification*, "Metadata cache": `metadata/md5-cache/CATEGORY/NAME-VERSION` has lines
//! `KEY=VALUE`. A repository without one has only its ebuilds, `CATEGORY/NAME/NAME-VERSION.ebuild`, which are programs:
//! of those, plain values are taken and nothing is worked out.
//!
//! Portage takes the newest version whose `KEYWORDS` the machine accepts. What `package.mask`,
//! `package.accept_keywords` and their like make of it is not worked out: for packages that such a file names, no
//! version is said to be the one that would be taken.

use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use super::repositories::{Repository, configured};
use super::{Database, cut, gentoo, name_of};
use crate::backend::Unsearched;
use crate::backend::simple::{CatalogueQuery, SimpleCatalogue, dirs_in};
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit, Root};
use crate::host::Host;
use crate::model::{CommandLine, Described, Evidence, Location, Loss, Offer, OfferQuery, Search, Source};

const CACHE: &[u8] = b"metadata/md5-cache";
/// Files and directories that decide about single packages.
const DECIDING: [&str; 4] = ["package.mask", "package.unmask", "package.accept_keywords", "package.keywords"];

/// A version that a repository has: its category, its name and version, and the file that tells about it.
struct Ebuild {
    category: ByteString,
    full: ByteString,
    file: ByteString,
}

impl Ebuild {
    /// `CATEGORY/NAME`, and the version.
    fn parts(&self) -> Option<(ByteString, &[u8])> {
        let (name, version) = cut(&self.full)?;
        Some((path::join(&self.category, name), version))
    }
}

/// Everything that a repository has, by names alone.
fn listed(host: &Host, repository: &Repository) -> Vec<Ebuild> {
    let cache = path::join(&repository.dir, CACHE);
    let cached: Vec<ByteString> = dirs_in(host, &cache, true).into_iter().map(|(name, _)| name).collect();
    if !cached.is_empty() {
        let of_category = |category: &ByteString| {
            let dir = path::join(&cache, category);
            let names = host.root.names_in(&dir);
            let files = names.into_iter().filter(|(name, kind)| *kind != Kind::Dir && !name.ends_with(b".gz"));
            let one = |(full, _): (ByteString, Kind)| Ebuild {
                category: category.clone(),
                file: path::join(&dir, &full),
                full,
            };
            files.map(one).collect::<Vec<_>>()
        };
        return cached.par_iter().flat_map(of_category).collect();
    }
    let file = path::join(&repository.dir, b"profiles/categories");
    let content = host.root.read(&file, Limit::SMALL).unwrap_or_default();
    let named: Vec<ByteString> = content
        .split(|&b| b == b'\n')
        .map(<[u8]>::trim_ascii)
        .filter(|name| !name.is_empty())
        .map(ByteString::from)
        .collect();
    // A repository without the list uses the categories of the one that it is laid over.
    let is_category = |name: &ByteString| name.contains(&b'-') || **name == *b"virtual";
    let all = || dirs_in(host, &repository.dir, true).into_iter().map(|(name, _)| name).filter(is_category);
    let categories: Vec<ByteString> = if named.is_empty() { all().collect() } else { named };
    let of_category = |category: &ByteString| {
        let dir = path::join(&repository.dir, category);
        let mut found = Vec::new();
        for (name, _) in dirs_in(host, &dir, false) {
            let of_name = path::join(&dir, &name);
            let files = host.root.names_in(&of_name);
            found.extend(files.into_iter().filter_map(|(file, _)| {
                let full = file.strip_suffix(b".ebuild")?.into();
                Some(Ebuild { category: category.clone(), full, file: path::join(&of_name, &file) })
            }));
        }
        found
    };
    categories.par_iter().flat_map(of_category).collect()
}

/// What an entry says, by its keys: of a cache as it stands, of an ebuild where the value is plain.
fn values(content: &[u8], is_cached: bool) -> HashMap<&[u8], &[u8]> {
    let pairs = content.split(|&b| b == b'\n').filter_map(|line| {
        let at = memchr::memchr(b'=', line)?;
        let (key, value) = (&line[..at], &line[at + 1..]);
        let is_key = !key.is_empty() && key.iter().all(|b| b.is_ascii_uppercase() || *b == b'_');
        if is_cached || !is_key {
            return is_key.then_some((key, value));
        }
        let bare = value.strip_prefix(b"\"").and_then(|rest| rest.strip_suffix(b"\""));
        let bare = bare.or(value.strip_prefix(b"'").and_then(|rest| rest.strip_suffix(b"'"))).unwrap_or(value);
        (!bare.iter().any(|b| b"$`\\\"".contains(b))).then_some((key, bare))
    });
    pairs.collect()
}

/// Which keywords the machine accepts: those of the profile's architecture and of `make.conf`.
struct Accepted {
    arch: Option<ByteString>,
    words: Vec<ByteString>,
}

impl Accepted {
    fn read(root: &Root) -> Self {
        // `…/profiles/default/linux/ARCH/…`
        let link = root.read_link(b"/etc/portage/make.profile").unwrap_or_default();
        let parts: Vec<&[u8]> = link.split(|&b| b == b'/').collect();
        let place = parts.iter().position(|part| *part == b"linux");
        let arch = place.and_then(|at| parts.get(at + 1)).map(|part| ByteString::from(*part));
        let content = root.read(b"/etc/portage/make.conf", Limit::SMALL).unwrap_or_default();
        let set = values(&content, false).get(&b"ACCEPT_KEYWORDS"[..]).copied().unwrap_or_default();
        let words = set.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty()).map(ByteString::from);
        Accepted { arch, words: words.collect() }
    }

    /// Whether one of an ebuild's keywords is accepted; `None` where the architecture is not known.
    fn takes(&self, keywords: &[u8]) -> Option<bool> {
        let arch = self.arch.as_ref()?;
        let is_set = |word: &[u8]| self.words.iter().any(|set| **set == *word);
        if is_set(b"**") {
            return Some(true);
        }
        let has_testing = is_set(&[b"~", &**arch].concat()) || is_set(b"~*");
        let takes = |word: &[u8]| {
            word == &**arch
                || word == b"*"
                || is_set(word)
                || (has_testing && word.strip_prefix(b"~").is_some_and(|bare| bare == &**arch || bare == b"*"))
        };
        Some(keywords.split(u8::is_ascii_whitespace).any(takes))
    }
}

/// The packages that a file in `/etc/portage` decides about.
fn decided(root: &Root) -> HashSet<ByteString> {
    let mut files: Vec<ByteString> = Vec::new();
    for name in DECIDING {
        let place = path::join(b"/etc/portage", name.as_bytes());
        match root.dir(&place).and_then(|dir| dir.list()) {
            Ok(names) => files.extend(names.into_iter().map(|(name, _)| path::join(&place, &name))),
            Err(_) => files.push(place),
        }
    }
    let mut found = HashSet::new();
    for file in files {
        let content = root.read(&file, Limit::SMALL).unwrap_or_default();
        for line in content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii).filter(|line| !line.starts_with(b"#")) {
            let atom = line.split(u8::is_ascii_whitespace).next().unwrap_or_default();
            found.insert(name_of(atom).into());
        }
    }
    found
}

impl SimpleCatalogue for Database {
    fn offers(&self, host: &Host, asked: &CatalogueQuery<'_>, notes: &mut Vec<Loss>) -> Vec<Offer> {
        let (accepted, decided) = (Accepted::read(&host.root), decided(&host.root));
        let mut offers: Vec<Offer> = Vec::new();
        for repository in configured(&host.root, notes) {
            let (origin, fetched) = (repository.origin(), repository.fetched(&host.root));
            let of_one = |one: &Ebuild| -> Option<Result<Offer, Loss>> {
                let (name, version) = one.parts()?;
                let is_search = matches!(asked.query, OfferQuery::Search(_));
                let bare = path::name(&name);
                let by = |name| asked.wants(&Described { name, ..Described::default() });
                // A name alone is told without reading the entry.
                if !is_search && !by(&name) && !by(bare) {
                    return None;
                }
                let content = match host.root.read(&one.file, Limit::SMALL) {
                    Ok(content) => content,
                    Err(error) => return Some(Err(Loss::unread(&error, "what it says of a package is unknown"))),
                };
                let values = values(&content, !one.file.ends_with(b".ebuild"));
                let value = |key: &str| values.get(key.as_bytes()).copied().and_then(ByteString::unless_empty);
                let summary = value("DESCRIPTION");
                let summary_text = summary.as_deref();
                let is_found = |name| asked.wants(&Described { name, summary: summary_text, ..Described::default() });
                if is_search && !is_found(&name) && !is_found(bare) {
                    return None;
                }
                let keywords = value("KEYWORDS").unwrap_or_default();
                let is_taken = decided.contains(&name) || accepted.takes(&keywords).unwrap_or(true);
                let offer = Offer {
                    channel: value("SLOT"),
                    source: Some(origin.clone()),
                    homepage: value("HOMEPAGE"),
                    license: value("LICENSE"),
                    says: summary,
                    refused: !is_taken,
                    catalogued_at: fetched.or_else(|| dated(&host.root, one)),
                    evidence: vec![Evidence::at(
                        one.file.clone(),
                        "whole file",
                        format!("version {}", ByteString::from(version)),
                    )],
                    ..asked.offer(name, version.into(), None)
                };
                Some(Ok(offer))
            };
            let read: Vec<_> = listed(host, &repository).par_iter().filter_map(of_one).collect();
            for one in read {
                match one {
                    Ok(offer) => offers.push(offer),
                    Err(loss) => notes.push(loss),
                }
            }
        }
        let (mut refused, fit): (Vec<Offer>, Vec<Offer>) =
            offers.into_iter().partition(|offer| offer.refused && !offer.installed);
        let mut all = asked.finish(fit, &|a, b| gentoo::compare(a, b));
        // Which one is taken is not known where a file of the settings, or an unknown architecture, decides it.
        let is_open = |offer: &Offer| accepted.arch.is_none() || decided.contains(&offer.name);
        all.iter_mut().filter(|offer| is_open(offer)).for_each(|offer| offer.candidate = false);
        all.append(&mut refused);
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }

    fn is_fetched(&self, host: &Host, _: &Location) -> bool {
        configured(&host.root, &mut Vec::new()).iter().any(|one| host.root.target(&one.dir).is_ok())
    }

    fn sources(&self, host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Source> {
        configured(&host.root, notes).iter().map(|one| one.source(&host.root, at)).collect()
    }

    fn unsearched(&self, host: &Host, _: &Location, _: &Search) -> Vec<Unsearched> {
        let repositories = configured(&host.root, &mut Vec::new());
        let missing = repositories.iter().filter(|one| host.root.target(&one.dir).is_err());
        let fetch = Some(CommandLine::new("emerge --sync"));
        missing.map(|one| Unsearched::new(format!("{}: it was not fetched", one.name), fetch.clone())).collect()
    }

    fn take(&self, offer: &Offer) -> Option<CommandLine> {
        let version = offer.version.as_ref()?;
        let atom = match offer.candidate {
            true => offer.name.clone(),
            false => [b"=", &*offer.name, b"-", &**version].concat().into(),
        };
        Some(CommandLine::new("emerge").operand(atom))
    }
}

/// When an entry was written.
fn dated(root: &Root, one: &Ebuild) -> Option<i64> {
    root.modified(&one.file)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_plain_and_keywords_are_those_that_the_machine_accepts() {
        let cached = values(b"DESCRIPTION=Tides = \"high\"\nKEYWORDS=~amd64 arm64\n_md5_=0\nno line\n", true);
        assert_eq!(cached[&b"DESCRIPTION"[..]], b"Tides = \"high\"");
        let ebuild = values(
            b"EAPI=8\nDESCRIPTION=\"Tides of $PN\"\nSLOT='0'\n\tinner=1\nHOMEPAGE=\"https://quay.example/\"\n",
            false,
        );
        assert_eq!(ebuild.get(&b"DESCRIPTION"[..]), None);
        assert_eq!((ebuild[&b"SLOT"[..]], ebuild[&b"HOMEPAGE"[..]]), (&b"0"[..], &b"https://quay.example/"[..]));
        let accepted = |words: &[&str]| Accepted {
            arch: Some("amd64".into()),
            words: words.iter().map(|word| ByteString::from(*word)).collect(),
        };
        for (words, keywords, expected) in [
            (&[][..], "amd64 ~arm64", true),
            (&[], "~amd64 arm64", false),
            (&["~amd64"], "~amd64", true),
            (&[], "-* arm64", false),
            (&["**"], "", true),
            (&[], "*", true),
        ] {
            assert_eq!(accepted(words).takes(keywords.as_bytes()), Some(expected), "{words:?} {keywords}");
        }
        assert_eq!(Accepted { arch: None, words: Vec::new() }.takes(b"amd64"), None);
    }
}
