//! What repositories offer beside what one database holds.

use hashbrown::{HashMap, HashSet};

use super::catalogues;
use super::installation::{Brief, RpmInstallation};
use super::repositories::Repository;
use crate::backend::mark_candidates;
use crate::bytes::ByteString;
use crate::model::{Evidence, Offer, OfferQuery, Origin, Scope};
use crate::version::rpm;

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
            if *asked == OfferQuery::Installed || asked.has(&brief.name) {
                installed.push((brief, number));
            }
        });
        let names: HashSet<ByteString> = installed.iter().map(|(brief, ..)| brief.name.clone()).collect();
        let mut lost = Vec::new();
        let wanted = |name: &[u8]| names.contains(name) || asked.has(name);
        let offered = catalogues::read(&self.host.root, &self.records().repositories, &wanted, &mut lost);
        lost.into_iter().for_each(|note| self.store.note(note));
        let known: HashSet<ByteString> = installed.iter().map(|(brief, _)| brief.in_full()).collect();
        let mut offers: Vec<Offer> = Vec::new();
        for one in &offered {
            let package = &one.package;
            let full: ByteString = format!("{}-{}.{}", package.name, package.version, package.arch).into();
            offers.push(Offer {
                source: Some(Origin {
                    name: one.repository.clone(),
                    kind: "repository".to_owned(),
                    url: self.records().address(&one.repository),
                    trust: trust.get(&one.repository).cloned(),
                }),
                says: Some(package.summary.as_str().into()),
                size: package.installed,
                priority: self.records().priority(&one.repository),
                installed: known.contains(&full),
                catalogued_at: Some(one.dated),
                evidence: vec![Evidence::at(
                    one.file.clone(),
                    format!("package {}", package.name),
                    format!("version {}", package.version),
                )],
                ..self.offer(
                    package.name.as_str().into(),
                    package.version.as_str().into(),
                    Some(package.arch.as_str().into()),
                )
            });
        }
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

    fn offer(&self, name: ByteString, version: ByteString, arch: Option<ByteString>) -> Offer {
        let held = self.records().is_held(&name);
        Offer::bare(self.location.manager, self.location.scope.clone(), name, version, arch, held)
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
