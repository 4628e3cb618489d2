//! Repositories of eopkg, and what they had when their indexes were last fetched.
//!
//! `/var/lib/eopkg/info/repos` names the repositories in their order, an XML document of `Repo` with `Name` and
//! `Status`; `/var/lib/eopkg/index/NAME` has `eopkg-index.xml` (the PISI format: one `Package` for each, whose first
//! `Update` is what is offered) and `uri`, the address. Packages are not signed: the index has a digest of each.

use std::fmt::Write as _;

use super::{Damage, Database, each_text, ends_with};
use crate::backend::Unsearched;
use crate::backend::index_settings::without_credentials;
use crate::backend::simple::{CatalogueQuery, SimpleCatalogue, dirs_in};
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::host::Host;
use crate::model::{
    CommandLine, Described, Evidence, Location, Loss, Offer, Origin, Scope, Search, Signing, SigningState, Source,
};
use crate::version::tokens;

const REPOSITORIES: &str = "/var/lib/eopkg/info/repos";
const INDEXES: &str = "/var/lib/eopkg/index";

/// One repository.
struct Repository {
    name: ByteString,
    url: Option<ByteString>,
    enabled: bool,
    evidence: Evidence,
    index: ByteString,
}

/// The repositories in their order: those that are named, then those that only have an index.
fn configured(host: &Host, notes: &mut Vec<Loss>) -> Vec<Repository> {
    let root = &host.root;
    let mut found: Vec<(String, bool, Evidence)> = Vec::new();
    match root.read(REPOSITORIES.as_bytes(), Limit::SMALL) {
        Ok(content) => {
            let damage = each_text(&content, |open, line, text| {
                if ends_with(open, &["Repo", "Name"]) {
                    let says = format!("repository {text}");
                    found.push((text, true, Evidence::line(REPOSITORIES, line, says)));
                } else if ends_with(open, &["Repo", "Status"])
                    && let Some(last) = found.last_mut()
                {
                    last.1 = text != "inactive";
                }
            });
            notes.extend(damage.map(|Damage(what)| {
                Loss::damaged(ByteString::from(REPOSITORIES), what, "repositories may be missing")
            }));
        }
        Err(error) if error.is_missing() => {}
        Err(error) => notes.push(Loss::unread(&error, "repositories are unknown")),
    }
    for (name, _) in dirs_in(host, INDEXES.as_bytes(), false) {
        let text = name.to_string();
        if !found.iter().any(|(known, ..)| *known == text) {
            let dir = path::join(INDEXES.as_bytes(), &name);
            found.push((text.clone(), true, Evidence::directory(dir, format!("repository {text}"))));
        }
    }
    let of_one = |(name, enabled, evidence): (String, bool, Evidence)| {
        let dir = path::join(INDEXES.as_bytes(), name.as_bytes());
        let uri = root.read(&path::join(&dir, b"uri"), Limit::SMALL).unwrap_or_default();
        let url = ByteString::unless_empty(uri.trim_ascii()).map(|url| without_credentials(&url));
        Repository { index: path::join(&dir, b"eopkg-index.xml"), name: name.into(), url, enabled, evidence }
    };
    found.into_iter().map(of_one).collect()
}

impl Repository {
    fn origin(&self) -> Origin {
        let is_local = self.url.as_ref().is_some_and(|url| url.starts_with(b"/") || url.starts_with(b"file:"));
        let trust = is_local.then(|| "local".to_owned());
        Origin { name: self.name.clone(), kind: "repository".to_owned(), url: self.url.clone(), trust }
    }
}

/// One package of an index.
#[derive(Default)]
struct Entry {
    name: String,
    summary: String,
    version: String,
    arch: String,
    license: String,
    publisher: String,
    homepage: String,
    size: Option<u64>,
    download_size: Option<u64>,
    line: u32,
}

/// Hands every package of an index to `take`.
fn each_entry(content: &[u8], take: &mut dyn FnMut(Entry)) -> Option<Damage> {
    let mut one = Entry::default();
    let damage = each_text(content, |open, line, text| {
        let is = |elements: &[&str]| ends_with(open, elements);
        if is(&["PISI", "Package", "Name"]) {
            // The name of a package is the first of its elements.
            let before = std::mem::replace(&mut one, Entry { name: text, line, ..Entry::default() });
            take(before);
        } else if is(&["Package", "Summary"]) && one.summary.is_empty() {
            one.summary = text;
        } else if is(&["History", "Update", "Version"]) && one.version.is_empty() {
            one.version = text;
        } else if is(&["Package", "Architecture"]) {
            one.arch = text;
        } else if is(&["Package", "License"]) {
            let between = if one.license.is_empty() { "" } else { ", " };
            let _ = write!(one.license, "{between}{text}");
        } else if is(&["Source", "Packager", "Name"]) {
            one.publisher = text;
        } else if is(&["Source", "Homepage"]) {
            one.homepage = text;
        } else if is(&["Package", "InstalledSize"]) {
            one.size = text.parse().ok();
        } else if is(&["Package", "PackageSize"]) {
            one.download_size = text.parse().ok();
        }
    });
    take(one);
    damage
}

/// Whether an index has been fetched.
fn is_there(root: &Root, one: &Repository) -> bool {
    root.target(&one.index).is_ok()
}

impl SimpleCatalogue for Database {
    fn offers(&self, host: &Host, asked: &CatalogueQuery<'_>, notes: &mut Vec<Loss>) -> Vec<Offer> {
        let mut offers = Vec::new();
        for one in configured(host, notes).iter().filter(|one| one.enabled) {
            let Ok(meta) = host.root.target(&one.index) else { continue };
            let lost = "what it offers is unknown in full";
            let content = match host.root.read(&one.index, Limit::RECORD) {
                Ok(content) => content,
                Err(error) => {
                    notes.push(Loss::unread(&error, lost));
                    continue;
                }
            };
            let damage = each_entry(&content, &mut |entry| {
                let described = Described {
                    name: entry.name.as_bytes(),
                    summary: Some(entry.summary.as_bytes()),
                    ..Described::default()
                };
                if entry.name.is_empty() || !asked.wants(&described) {
                    return;
                }
                let says = format!("version {}", entry.version);
                offers.push(Offer {
                    source: Some(one.origin()),
                    publisher: ByteString::unless_empty(&entry.publisher),
                    says: ByteString::unless_empty(&entry.summary),
                    homepage: ByteString::unless_empty(&entry.homepage),
                    license: ByteString::unless_empty(&entry.license),
                    signed: Some(false),
                    download_size: entry.download_size,
                    size: entry.size,
                    catalogued_at: Some(meta.modified),
                    evidence: vec![Evidence::line(one.index.clone(), entry.line, says)],
                    ..asked.offer(
                        entry.name.as_str().into(),
                        entry.version.as_str().into(),
                        ByteString::unless_empty(&entry.arch),
                    )
                });
            });
            notes.extend(damage.map(|Damage(what)| Loss::damaged(one.index.clone(), what, lost)));
        }
        asked.finish(offers, &|a, b| tokens::compare(a, b))
    }

    fn is_fetched(&self, host: &Host, _: &Location) -> bool {
        configured(host, &mut Vec::new()).iter().any(|one| is_there(&host.root, one))
    }

    fn sources(&self, host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Source> {
        let of_one = |one: Repository| {
            let origin = one.origin();
            Source {
                enabled: one.enabled,
                trust: origin.trust,
                signed: Signing::of(SigningState::Unverified),
                refreshed_at: host.root.target(&one.index).ok().map(|meta| meta.modified),
                gives: one.url.iter().cloned().collect(),
                origins: vec![one.name.clone()],
                url: one.url,
                evidence: vec![one.evidence],
                ..Source::new(at.manager, Scope::System, one.name, "repository")
            }
        };
        configured(host, notes).into_iter().map(of_one).collect()
    }

    fn unsearched(&self, host: &Host, _: &Location, _: &Search) -> Vec<Unsearched> {
        let repositories = configured(host, &mut Vec::new());
        let missing = repositories.iter().filter(|one| one.enabled && !is_there(&host.root, one));
        let fetch = Some(CommandLine::new("eopkg update-repo"));
        missing.filter_map(|one| Unsearched::not_fetched(std::slice::from_ref(&one.name), fetch.clone())).collect()
    }

    fn take(&self, offer: &Offer) -> Option<CommandLine> {
        Some(CommandLine::new("eopkg install").operand(offer.name.clone()))
    }
}
