//! The configured repositories as sources: signed by whom, when last fetched.

use super::indexes;
use super::sources::Source as Entry;
use super::{Apt, Index};
use crate::backend::index_settings::{site_of, without_credentials};
use crate::backend::keys::KeyRing;
use crate::bytes::{ByteString, path};
use crate::fs::{Kind, Limit};
use crate::host::Host;
use crate::model::{Evidence, Loss, ManagerId, Scope, Signing, SigningState, Source};
use whodunit_formats::openpgp;

/// Keys that may sign any repository which names none of its own (`apt-secure(8)`).
const TRUSTED: &[u8] = b"/etc/apt/trusted.gpg";
const TRUSTED_DIR: &[u8] = b"/etc/apt/trusted.gpg.d";

impl Apt {
    /// Every repository that is configured.
    pub fn configured(&self, host: &Host, manager: ManagerId, notes: &mut Vec<Loss>) -> Vec<Source> {
        let mut of_all: Option<KeyRing> = None;
        let all = self.sources.iter().map(|entry| {
            let fetched = self.lists_of(entry);
            let (release, _) = indexes::release(&host.root, &indexes::stem(entry));
            let suite = release.codename.clone().unwrap_or_else(|| entry.suite.clone());
            let by = release.origin.clone().unwrap_or_else(|| site_of(&entry.url));
            let first = fetched.first().map(|at| &self.indexes[*at]);
            let origin = fetched.first().map(|at| self.origin(host, *at));
            let url = without_credentials(&entry.url);
            let says = match entry.components.is_empty() {
                true => format!("{url} {}", entry.suite),
                false => format!("{url} {} {}", entry.suite, words(&entry.components)),
            };
            Source {
                url: Some(url),
                enabled: entry.enabled,
                trust: origin
                    .and_then(|origin| origin.trust)
                    .or_else(|| Some(self.trust_of(host, &by, &entry.url).to_owned())),
                signed: signing(host, entry, first, &mut of_all, notes),
                refreshed_at: first.map(|index| index.dated),
                valid_until: release.valid_until,
                evidence: vec![Evidence::line(entry.file.clone(), entry.line, says)],
                origins: fetched.iter().map(|at| self.origin(host, *at).name).collect(),
                gives: match entry.components.is_empty() {
                    true => vec![path::join(&entry.url, &entry.suite)],
                    false => {
                        let place = path::join(&entry.url, &entry.suite);
                        entry.components.iter().map(|component| path::join(&place, component)).collect()
                    }
                },
                ..Source::new(manager, Scope::System, format!("{by} {suite}"), "repository")
            }
        });
        all.collect()
    }
}

fn words(list: &[ByteString]) -> String {
    list.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ")
}

/// The keys of a repository: those that it names, or those that may sign any.
fn signing(
    host: &Host,
    entry: &Entry,
    index: Option<&Index>,
    of_all: &mut Option<KeyRing>,
    notes: &mut Vec<Loss>,
) -> Signing {
    if entry.trusted {
        return Signing::of(SigningState::Unverified);
    }
    let issuers = index
        .and_then(|index| index.signature.as_ref())
        .map(|file| openpgp::issuers(&host.root.read(file, Limit::LIST).unwrap_or_default()));
    let own = entry.signed_by.as_ref().map(|given| own_keys(host, entry, given, notes));
    let names_own = own.is_some();
    let ring = match &own {
        Some(ring) => ring,
        None => of_all.get_or_insert_with(|| KeyRing::read(&host.root, &trusted_files(host), notes)),
    };
    match (issuers, index) {
        (Some(issuers), _) => ring.signing(&issuers, names_own),
        // Fetched without a signature.
        (None, Some(_)) => Signing::of(SigningState::Unverified),
        (None, None) => {
            Signing { state: SigningState::Unknown, keys: if names_own { ring.listed() } else { Vec::new() } }
        }
    }
}

fn trusted_files(host: &Host) -> Vec<ByteString> {
    let names = host.root.names_in(TRUSTED_DIR);
    let of_dir = names
        .into_iter()
        .filter(|(name, kind)| *kind != Kind::Dir && (name.ends_with(b".gpg") || name.ends_with(b".asc")));
    std::iter::once(TRUSTED.into()).chain(of_dir.map(|(name, _)| path::join(TRUSTED_DIR, &name))).collect()
}

/// `Signed-By`: files, fingerprints of keys that are trusted anyway, or a key itself.
fn own_keys(host: &Host, entry: &Entry, given: &ByteString, notes: &mut Vec<Loss>) -> KeyRing {
    if memchr::memmem::find(given, b"BEGIN PGP").is_some() {
        let mut ring = KeyRing::read(&host.root, &[], notes);
        ring.add(&entry.file, given, notes);
        return ring;
    }
    let words: Vec<&[u8]> =
        given.split(|b| b.is_ascii_whitespace() || *b == b',').filter(|word| !word.is_empty()).collect();
    let files: Vec<ByteString> =
        words.iter().filter(|word| word.starts_with(b"/")).map(|word| ByteString::from(*word)).collect();
    if !files.is_empty() {
        return KeyRing::read(&host.root, &files, notes);
    }
    let mut ring = KeyRing::read(&host.root, &trusted_files(host), notes);
    let prints = words.iter().map(|word| ByteString::from(word.strip_suffix(b"!").unwrap_or(word)));
    ring.restrict(&prints.map(|print| print.to_string().to_uppercase()).collect::<Vec<_>>());
    ring
}
