//! What catalogues have, beside what is installed.

use std::cmp::Ordering;

use hashbrown::{HashMap, HashSet};

use super::InstalledPackage;
use crate::backend::mark_candidates;
use crate::bytes::ByteString;
use crate::model::{Described, Location, Offer, OfferQuery, Status};

/// A query to one installation: decides which entries of its catalogues are asked about.
pub struct CatalogueQuery<'a> {
    /// Where it is asked.
    pub(crate) at: &'a Location,
    /// What is installed there.
    pub(crate) items: &'a [InstalledPackage],
    /// What is asked.
    pub(crate) query: &'a OfferQuery,
    installed: HashMap<&'a [u8], Vec<&'a InstalledPackage>>,
}

impl<'a> CatalogueQuery<'a> {
    /// A query about what is installed here.
    pub(crate) fn new(at: &'a Location, items: &'a [InstalledPackage], query: &'a OfferQuery) -> Self {
        let mut installed: HashMap<&[u8], Vec<&InstalledPackage>> = HashMap::new();
        let is_asked = |item: &&InstalledPackage| {
            let of = |name: &[u8]| query.wants(&Described { name, ..Described::default() });
            query.is_installed() || of(&item.name) || item.also.iter().any(|name| of(name))
        };
        for item in items.iter().filter(|item| item.status != Status::ConfigRemains).filter(is_asked) {
            installed.entry(&item.name).or_default().push(item);
        }
        CatalogueQuery { at, items, query, installed }
    }

    /// Whether an entry is asked about: by what it says, or because it is installed.
    pub(crate) fn wants(&self, entry: &Described<'_>) -> bool {
        self.installed.contains_key(entry.name) || self.query.wants(entry)
    }

    /// Whether text that is not taken apart yet can hold an entry that is asked about.
    pub(crate) fn may_be_in(&self, text: &[u8]) -> bool {
        !self.installed.is_empty() || self.query.may_be_in(text)
    }

    /// Those of a package's commands that are asked about.
    pub(crate) fn commands(&self, all: impl Iterator<Item = ByteString>) -> Vec<ByteString> {
        let is_asked = |name: &ByteString| match self.query {
            OfferQuery::Search(search) => search.is_command(name),
            _ => true,
        };
        all.filter(is_asked).collect()
    }

    /// The entry of a catalogue, with what is known of it here.
    pub(crate) fn offer(&self, name: ByteString, version: ByteString, arch: Option<ByteString>) -> Offer {
        let items = self.installed(&name);
        let (held, installed) =
            (items.iter().any(|item| item.held), items.iter().any(|item| item.version.as_ref() == Some(&version)));
        let bare = Offer::bare(self.at.manager, self.at.scope.clone(), name, version, arch, held);
        Offer { installed, confinement: Some("none".to_owned()), ..bare }
    }

    /// The packages of a name that are installed and asked about.
    pub(crate) fn installed(&self, name: &[u8]) -> &[&'a InstalledPackage] {
        self.installed.get(name).map_or(&[], Vec::as_slice)
    }

    /// Adds what is installed and in no catalogue.
    pub(crate) fn add_installed(&self, offers: &mut Vec<Offer>) {
        let listed: HashSet<(ByteString, Option<ByteString>)> = offers
            .iter()
            .filter(|offer| offer.installed)
            .map(|offer| (offer.name.clone(), offer.version.clone()))
            .collect();
        for item in self.installed.values().flatten() {
            if !listed.contains(&(item.name.clone(), item.version.clone())) {
                let version = item.version.clone().unwrap_or_default();
                let offer = self.offer(item.name.clone(), version, item.arch.clone());
                let (channel, evidence) = (item.channel.clone(), item.evidence.clone());
                offers.push(Offer { installed: true, channel, evidence, ..offer });
            }
        }
    }

    /// Adds what is installed and in no catalogue, and marks the candidates: the newest of each package.
    pub(crate) fn finish(&self, mut offers: Vec<Offer>, order: &dyn Fn(&[u8], &[u8]) -> Ordering) -> Vec<Offer> {
        self.add_installed(&mut offers);
        mark_candidates(&mut offers, order);
        offers.sort_by(|a, b| a.name.cmp(&b.name));
        offers
    }
}
