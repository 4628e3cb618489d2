//! What repositories offer beside what one database holds.

use crate::backend::components::Components;
use crate::backend::keys::KeyRing;
use crate::backend::listed::{Role, role};
use hashbrown::{HashMap, HashSet};

use super::catalogues;
use super::installation::{Brief, RpmInstallation};
use super::repositories::Repository;
use crate::backend::{Unsearched, mark_candidates};
use crate::bytes::{ByteString, path};
use crate::model::{CommandLine, Described, Evidence, Offer, OfferQuery, Origin, Scope, Signing, Source};
use crate::version::rpm;
use whodunit_formats::primary::Primary;
use whodunit_formats::rpm_header::{Header, tag};

impl RpmInstallation<'_> {
    pub(super) fn all_offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        if self.location.scope != Scope::System {
            return Vec::new();
        }
        let _ = (self.distribution(), self.records());
        let mut installed: Vec<(Brief, u32)> = Vec::new();
        // Whose a repository is, its installed packages tell.
        let mut trust: HashMap<ByteString, String> = HashMap::new();
        self.each(&mut |number, header| {
            let Some(brief) = Brief::of(header) else { return };
            if let Some(origin) = self.origin(header, &brief)
                && let Some(word) = origin.trust
            {
                trust.entry(origin.name).or_insert(word);
            }
            if asked.is_installed() || asked.wants(&described(&brief, header)) {
                installed.push((brief, number));
            }
        });
        let names: HashSet<ByteString> = installed.iter().map(|(brief, ..)| brief.name.clone()).collect();
        let apps = match catalogues::fetched(&self.host.root).is_empty() {
            true => Components::default(),
            false => Components::read(&self.host.root, &[], asked),
        };
        let mut lost = apps.notes.clone();
        let wanted = |one: &Primary| {
            names.contains(one.name.as_bytes()) || {
                let commands: Vec<ByteString> = programs(one).collect();
                let entry = Described {
                    name: one.name.as_bytes(),
                    summary: Some(one.summary.as_bytes()),
                    commands: &commands,
                    ..Described::default()
                };
                apps.wants(asked, &entry)
            }
        };
        let offered = catalogues::read(&self.host.root, self.records(), &wanted, &mut lost);
        lost.into_iter().for_each(|note| self.store.note(note));
        let known: HashSet<ByteString> = installed.iter().map(|(brief, _)| brief.in_full()).collect();
        let mut offers: Vec<Offer> = Vec::new();
        offers.extend(offered.iter().map(|one| self.of_catalogue(one, &trust, &known, asked)));
        offers.iter_mut().for_each(|offer| apps.describe(offer));
        let told: HashSet<(ByteString, ByteString)> = offers
            .iter()
            .filter(|offer| offer.installed)
            .map(|offer| (offer.name.clone(), offer.version.clone().unwrap_or_default()))
            .collect();
        for (brief, number) in installed {
            let version = brief.version.clone().unwrap_or_default();
            if !told.contains(&(brief.name.clone(), version.clone())) {
                let evidence = self.evidence(number, &brief);
                let offer = self.offer(brief.name, version, brief.arch);
                offers.push(Offer { installed: true, evidence, ..offer });
            }
        }
        let (mut strong, weak) = by_strength(offers);
        mark_candidates(&mut strong, &rpm::compare);
        strong.extend(weak);
        strong.sort_by(|a, b| a.name.cmp(&b.name));
        strong
    }

    /// What a repository has.
    fn of_catalogue(
        &self,
        one: &catalogues::Offered,
        trust: &HashMap<ByteString, String>,
        installed: &HashSet<ByteString>,
        asked: &OfferQuery,
    ) -> Offer {
        let package = &one.package;
        let full = ByteString::from(package.in_full());
        let is_asked = |name: &ByteString| match asked {
            OfferQuery::Search(search) => search.is_command(name),
            _ => true,
        };
        let (name, version) = (package.name.as_str().into(), package.version.as_str().into());
        Offer {
            source: Some(Origin {
                name: one.repository.clone(),
                kind: "repository".to_owned(),
                url: self.records().address(&one.repository),
                trust: trust.get(&one.repository).cloned(),
            }),
            publisher: ByteString::unless_empty(&package.vendor),
            says: ByteString::unless_empty(&package.summary),
            homepage: ByteString::unless_empty(&package.url),
            license: ByteString::unless_empty(&package.license),
            provides: programs(package).filter(is_asked).collect(),
            signed: self.records().is_checked(&one.repository),
            download_size: package.package,
            size: package.installed,
            priority: self.records().priority(&one.repository),
            installed: installed.contains(&full),
            catalogued_at: Some(one.dated),
            evidence: vec![Evidence::at(
                one.file.clone(),
                format!("package {}", package.name),
                format!("version {}", package.version),
            )],
            ..self.offer(name, version, Some(package.arch.as_str().into()))
        }
    }

    /// An offer of which only the package is known.
    fn offer(&self, name: ByteString, version: ByteString, arch: Option<ByteString>) -> Offer {
        let held = self.records().is_held(&name);
        let bare = Offer::bare(self.location.manager, self.location.scope.clone(), name, version, arch, held);
        Offer { confinement: Some("none".to_owned()), ..bare }
    }

    /// The repositories that are configured.
    pub(super) fn configured_sources(&self) -> Vec<Source> {
        if self.location.scope != Scope::System {
            return Vec::new();
        }
        let root = &self.host.root;
        let files = catalogues::files(root);
        let mut lost = Vec::new();
        let of_one = |one: &Repository| {
            let keys = one.keys.iter().filter_map(|key| key.strip_prefix(b"file://")).map(ByteString::from);
            let ring = KeyRing::read(root, &keys.collect::<Vec<_>>(), &mut lost);
            let file = files.iter().find(|fetched| fetched.repository == one.name).map(|fetched| &fetched.file);
            let url = one.url.clone();
            let is_local = url.as_ref().is_some_and(|url| url.starts_with(b"file:"));
            Source {
                trust: is_local.then(|| "local".to_owned()),
                enabled: one.enabled,
                signed: Signing { keys: ring.listed(), ..Signing::set(Some(one.checked)) },
                refreshed_at: file.and_then(|file| root.entry(file).ok()).map(|meta| meta.modified),
                priority: Some(one.priority),
                evidence: vec![Evidence::line(one.file.clone(), one.line, format!("repository {}", one.name))],
                origins: vec![one.name.clone()],
                gives: url.iter().cloned().collect(),
                url,
                ..Source::new(self.location.manager, Scope::System, one.name.clone(), "repository")
            }
        };
        let sources = self.records().repositories.iter().map(of_one).collect();
        lost.into_iter().for_each(|note| self.store.note(note));
        sources
    }

    /// What a search does not reach.
    pub(super) fn not_searched(&self) -> Vec<Unsearched> {
        if self.location.scope != Scope::System {
            return Vec::new();
        }
        let fetched = catalogues::fetched(&self.host.root);
        let used = self.records().repositories.iter().filter(|one| one.enabled);
        let missing: Vec<ByteString> =
            used.map(|one| &one.name).filter(|name| !fetched.contains(*name)).cloned().collect();
        let fetch = self.records().tool(&self.host.root).map(|tool| match tool {
            "zypper" => CommandLine::new("zypper refresh"),
            tool => CommandLine::new(tool).words("makecache"),
        });
        Unsearched::not_fetched(&missing, fetch).into_iter().collect()
    }

    /// Findings about the repositories themselves.
    pub(super) fn on_sources(&self) -> Vec<String> {
        if self.location.scope != Scope::System {
            return Vec::new();
        }
        let repositories = &self.records().repositories;
        let mut found = Vec::new();
        for (place, one) in repositories.iter().enumerate().filter(|(_, one)| one.enabled) {
            if !one.checked {
                found.push(format!("{}: packages of {} are accepted without a signature", one.file, one.name));
            }
            let same = |other: &&Repository| other.enabled && other.url.is_some() && other.url == one.url;
            if let Some(first) = repositories[..place].iter().find(same) {
                let url = one.url.clone().unwrap_or_default();
                found.push(format!("{}: {url} is already configured in {}, as {}", one.file, first.file, first.name));
            }
        }
        found
    }
}

/// The names of a package's programs.
fn programs(package: &Primary) -> impl Iterator<Item = ByteString> {
    let files = package.files.iter().map(String::as_bytes).filter(|file| role(file) == Some(Role::Command));
    files.map(|file| path::name(file).into())
}

/// What a search looks at in a package that is installed.
fn described<'d>(brief: &'d Brief, header: &'d Header<'_>) -> Described<'d> {
    Described { name: &brief.name, summary: header.text(tag::SUMMARY), ..Described::default() }
}

/// The offers that count, and those that do not: of each package only the strongest repository that has it.
fn by_strength(offers: Vec<Offer>) -> (Vec<Offer>, Vec<Offer>) {
    let mut strongest: HashMap<ByteString, i32> = HashMap::new();
    for offer in &offers {
        if let Some(priority) = offer.priority {
            let known = strongest.entry(offer.name.clone()).or_insert(priority);
            *known = (*known).min(priority);
        }
    }
    let counts = |offer: &Offer| offer.installed || offer.priority <= strongest.get(&offer.name).copied();
    offers.into_iter().partition(counts)
}
