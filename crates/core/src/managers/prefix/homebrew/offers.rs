//! What Homebrew's own repositories offered when they were last asked: `api/formula.jws.json` and `cask.jws.json` in a
//! user's cache. The document's payload is a text that is itself JSON.

use hashbrown::HashSet;
use serde::Deserialize;

use crate::backend::mark_candidates;
use crate::backend::simple::InstalledPackage;
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::host::Host;
use crate::model::{Described, Evidence, Location, Loss, Offer, OfferQuery, Origin};
use crate::version::tokens;

/// Where a user's cache is: on Linux, and on macOS.
const CACHES: [&str; 2] = [".cache/Homebrew", "Library/Caches/Homebrew"];

#[derive(Deserialize)]
struct Signed {
    payload: String,
}

#[derive(Deserialize)]
struct Listed {
    #[serde(default)]
    name: serde_json::Value,
    token: Option<String>,
    desc: Option<String>,
    tap: Option<String>,
    versions: Option<Versions>,
    revision: Option<u64>,
    version: Option<String>,
    homepage: Option<String>,
    license: Option<String>,
    #[serde(default)]
    aliases: Vec<String>,
}

#[derive(Deserialize)]
struct Versions {
    stable: Option<String>,
}

impl Listed {
    fn named(&self) -> Option<&str> {
        self.token.as_deref().or_else(|| self.name.as_str())
    }

    /// The name that a cask's application has.
    fn shown(&self) -> Option<&str> {
        self.token.as_ref()?;
        self.name.as_array()?.first()?.as_str()
    }

    /// Other names of it.
    fn also(&self) -> impl Iterator<Item = &str> {
        let names = self.name.as_array().into_iter().flatten().skip(1).filter_map(|name| name.as_str());
        self.aliases.iter().map(String::as_str).chain(names)
    }

    fn latest(&self) -> Option<String> {
        let stable = self.versions.as_ref().and_then(|versions| versions.stable.clone());
        let revision = self.revision.filter(|revision| *revision > 0).map(|revision| format!("_{revision}"));
        stable.map(|stable| stable + &revision.unwrap_or_default()).or_else(|| self.version.clone())
    }
}

/// The files of the lists, of every user whose cache may have them.
pub(super) fn lists(host: &Host) -> Vec<ByteString> {
    let caches = host.users.iter().flat_map(|user| {
        let usual = CACHES.iter().map(|below| path::join(&user.home, below.as_bytes()));
        host.variable(user, "HOMEBREW_CACHE").cloned().into_iter().chain(usual)
    });
    let names = ["api/formula.jws.json", "api/cask.jws.json"];
    caches.flat_map(|cache| names.map(|name| path::join(&cache, name.as_bytes()))).collect()
}

/// Whether a list is there.
pub fn is_fetched(host: &Host) -> bool {
    lists(host).iter().any(|file| host.root.target(file).is_ok())
}

/// What a list has; nothing where it is damaged, which is noted.
fn read(host: &Host, file: &ByteString, notes: &mut Vec<Loss>) -> Vec<Listed> {
    let read = host.root.read(file, Limit::RECORD).map_err(|error| error.reason()).and_then(|content| {
        let signed: Signed = serde_json::from_slice(&content).map_err(|error| error.to_string())?;
        serde_json::from_str::<Vec<Listed>>(&signed.payload).map_err(|error| error.to_string())
    });
    read.unwrap_or_else(|problem| {
        notes.push(Loss::damaged(file.clone(), problem, "what Homebrew offers is unknown"));
        Vec::new()
    })
}

pub fn offers(
    host: &Host,
    at: &Location,
    items: &[InstalledPackage],
    asked: &OfferQuery,
    notes: &mut Vec<Loss>,
) -> Vec<Offer> {
    let names: HashSet<&[u8]> = items.iter().map(|item| &*item.name).collect();
    let is_wanted = |entry: &Described<'_>| match asked {
        OfferQuery::Installed => names.contains(entry.name),
        _ => asked.wants(entry),
    };
    let is_asked = |name: &[u8]| is_wanted(&Described { name, ..Described::default() });
    let bare = |name: ByteString, version: ByteString| {
        let held = items.iter().any(|item| item.held && item.name == name);
        Offer::bare(at.manager, at.scope.clone(), name, version, None, held)
    };
    let mut offers: Vec<Offer> = Vec::new();
    let mut seen: HashSet<String> = HashSet::new();
    for file in lists(host) {
        let Ok(meta) = host.root.target(&file) else { continue };
        for one in read(host, &file, notes) {
            let (Some(name), Some(version)) = (one.named(), one.latest()) else { continue };
            let words: Vec<ByteString> = one.also().map(ByteString::from).collect();
            let entry = Described {
                name: name.as_bytes(),
                display_name: one.shown().map(str::as_bytes),
                summary: one.desc.as_deref().map(str::as_bytes),
                keywords: &words,
                ..Described::default()
            };
            if !is_wanted(&entry) || !seen.insert(name.to_owned()) {
                continue;
            }
            let tap = one.tap.clone().unwrap_or_else(|| "homebrew".to_owned());
            let source = Origin::third_party("repository", tap, None);
            let installed = items
                .iter()
                .any(|item| *item.name == *name.as_bytes() && item.version.as_deref() == Some(version.as_bytes()));
            offers.push(Offer {
                source: Some(source),
                says: one.desc.as_deref().map(ByteString::from),
                display_name: one.shown().map(ByteString::from),
                keywords: words,
                homepage: one.homepage.as_deref().map(ByteString::from),
                license: one.license.as_deref().map(ByteString::from),
                installed,
                catalogued_at: Some(meta.modified),
                evidence: vec![Evidence::at(file.clone(), name.to_owned(), format!("version {version}"))],
                ..bare(name.into(), version.as_str().into())
            });
        }
    }
    for item in items.iter().filter(|item| is_asked(&item.name)) {
        if offers.iter().any(|offer| offer.installed && offer.name == item.name && offer.version == item.version) {
            continue;
        }
        offers.push(Offer {
            version: item.version.clone(),
            source: item.origin.clone(),
            installed: true,
            evidence: item.evidence.iter().take(1).cloned().collect(),
            ..bare(item.name.clone(), ByteString::default())
        });
    }
    mark_candidates(&mut offers, &tokens::compare);
    offers.sort_by(|a, b| a.name.cmp(&b.name));
    offers
}
