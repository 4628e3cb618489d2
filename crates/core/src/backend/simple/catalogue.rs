//! What the sources offer of a manager whose own record is small.

use super::{CatalogueQuery, InstalledPackage, SimpleInstallation};
use crate::backend::{Catalogue, Unsearched};
use crate::host::Host;
use crate::model::{CommandLine, Location, Loss, Offer, OfferQuery, PullsIn, Search, Source};

/// The capability of a manager whose catalogues are on this machine; see [`Catalogue`].
pub trait SimpleCatalogue {
    /// The offers of the manager's sources that match the query; losses are added to `notes`.
    fn offers(&self, host: &Host, asked: &CatalogueQuery<'_>, notes: &mut Vec<Loss>) -> Vec<Offer>;

    /// What installing an offer would bring along.
    fn pulls_in(&self, host: &Host, at: &Location, items: &[InstalledPackage], offer: &Offer) -> Option<PullsIn> {
        let _ = (host, at, items, offer);
        None
    }

    /// Whether a catalogue of any source was fetched.
    fn is_fetched(&self, host: &Host, at: &Location) -> bool {
        let _ = (host, at);
        false
    }

    /// The sources that are configured; losses are added to `notes`.
    fn sources(&self, host: &Host, at: &Location, notes: &mut Vec<Loss>) -> Vec<Source> {
        let _ = (host, at, notes);
        Vec::new()
    }

    /// What a search of the manager's sources does not reach.
    fn unsearched(&self, host: &Host, at: &Location, search: &Search) -> Vec<Unsearched> {
        let _ = (host, at, search);
        Vec::new()
    }

    /// The command with which a user takes an offer.
    fn take(&self, offer: &Offer) -> Option<CommandLine> {
        let _ = offer;
        None
    }

    /// Findings about the sources themselves.
    fn on_sources(&self) -> Vec<String> {
        Vec::new()
    }
}

impl Catalogue for SimpleInstallation<'_> {
    fn offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        let Some(catalogue) = self.backend.catalogue() else { return Vec::new() };
        let mut lost = Vec::new();
        let offers = catalogue.offers(self.host, &CatalogueQuery::new(&self.location, self.items(), asked), &mut lost);
        self.note(lost);
        offers
    }

    fn pulls_in(&self, offer: &Offer) -> Option<PullsIn> {
        self.backend.catalogue()?.pulls_in(self.host, &self.location, self.items(), offer)
    }

    fn is_fetched(&self) -> bool {
        self.backend.catalogue().is_some_and(|catalogue| catalogue.is_fetched(self.host, &self.location))
    }

    fn sources(&self) -> Vec<Source> {
        let Some(catalogue) = self.backend.catalogue() else { return Vec::new() };
        let mut lost = Vec::new();
        let sources = catalogue.sources(self.host, &self.location, &mut lost);
        self.note(lost);
        sources
    }

    fn unsearched(&self, search: &Search) -> Vec<Unsearched> {
        let catalogue = self.backend.catalogue();
        catalogue.map_or_else(Vec::new, |catalogue| catalogue.unsearched(self.host, &self.location, search))
    }

    fn source_notes(&self) -> Vec<String> {
        self.backend.catalogue().map_or_else(Vec::new, SimpleCatalogue::on_sources)
    }

    fn install_command(&self, offer: &Offer) -> Option<CommandLine> {
        if self.is_sealed() { None } else { self.backend.catalogue()?.take(offer) }
    }
}
