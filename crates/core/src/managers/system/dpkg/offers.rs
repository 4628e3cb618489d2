//! What apt's repositories offer, and from which of them installed packages came.

use crate::backend::components::Components;
use crate::backend::index_settings::without_credentials;
use crate::backend::jobs::Job;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use super::apt::{self, Apt, Choice, Entry, Filter, Installed, Texts, Unattended, choose, digest_of};
use super::installation::DpkgInstallation;
use super::status::{Record, State, Want};
use crate::backend::{Automatic, Unsearched};
use crate::bytes::ByteString;
use crate::fs::Limit;
use crate::model::{CommandLine, Described, Evidence, Offer, OfferQuery, Origin, Search, SearchScope, Source};
use whodunit_formats::stanza::{Stanza, stanzas};

/// A package's name with its architecture; packages for all are the machine's own.
type Key = (ByteString, ByteString);

/// A package, its record where it is installed, and every version of it.
type Chosen<'r> = (Key, Option<&'r Record>, Vec<Choice>);

impl DpkgInstallation<'_> {
    pub(super) fn apt(&self) -> &Apt {
        self.apt.get_or_init(|| {
            let content = self.host.root.read(b"/var/lib/dpkg/arch", Limit::SMALL).unwrap_or_default();
            let named = content.split(|&b| b == b'\n').map(<[u8]>::trim_ascii).filter(|name| !name.is_empty());
            let foreign: Vec<ByteString> = named.skip(1).map(ByteString::from).collect();
            let apt = Apt::read(&self.host.root, self.native(), &foreign);
            self.note(apt.notes.clone());
            apt
        })
    }

    fn key(&self, name: &ByteString, arch: Option<&ByteString>) -> Key {
        let arch = arch.filter(|arch| ***arch != *b"all").unwrap_or_else(|| self.native());
        (name.clone(), arch.clone())
    }

    /// Hands every stanza of the records to `take`.
    fn each_stanza(&self, take: &mut dyn FnMut(Stanza<'_>)) {
        let files: HashSet<&ByteString> = self.records().iter().map(|record| &record.source).collect();
        for file in files {
            let content = self.host.root.read(file, Limit::RECORD).unwrap_or_default();
            stanzas(&content).for_each(&mut *take);
        }
    }

    /// The digest that distinguishes each installed build from others of the same version.
    fn builds(&self) -> HashMap<Key, u64> {
        let mut builds = HashMap::new();
        self.each_stanza(&mut |stanza| {
            let value = |name: &str| stanza.whole(name).map(ByteString::from);
            if let Some(name) = value("Package") {
                builds.insert(self.key(&name, value("Architecture").as_ref()), digest_of(stanza));
            }
        });
        builds
    }

    fn is_installed(record: &Record) -> bool {
        !matches!(record.state, State::ConfigFiles | State::NotInstalled)
    }

    /// The names of the installed packages that a search finds by their own records.
    fn found_installed(&self, search: &Search) -> HashSet<ByteString> {
        let mut found = HashSet::new();
        self.each_stanza(&mut |stanza| {
            let value = |name: &str| stanza.fields().flatten().find(|field| field.is(name)).map(|field| field.value);
            let Some(name) = value("Package") else { return };
            let described = Described { name, summary: value("Description"), ..Described::default() };
            if search.parts(&described).is_some() {
                found.insert(name.into());
            }
        });
        found
    }

    /// Every version of what a search finds.
    fn found(&self, search: &Search) -> (Vec<Entry>, Vec<Chosen<'_>>) {
        let apt = self.apt();
        let texts: Texts = apt.texts(&self.host.root, search);
        self.note(texts.notes.clone());
        let installed = self.found_installed(search);
        let is_named = |name: &[u8]| installed.contains(name);
        let wanted = Filter { is_named: &is_named, search: Some((search, &texts)), with_providers: false };
        let (entries, lost) = apt.entries(&self.host.root, &wanted);
        self.note(lost);
        let names: HashSet<ByteString> =
            entries.iter().map(|entry| entry.name.clone()).chain(installed.iter().cloned()).collect();
        self.choices_of(entries, &|name| names.contains(name))
    }

    /// Every version of the wanted packages, with the entries behind them.
    fn choices(&self, wanted: &(dyn Fn(&[u8]) -> bool + Sync)) -> (Vec<Entry>, Vec<Chosen<'_>>) {
        let (entries, lost) =
            self.apt().entries(&self.host.root, &Filter { is_named: wanted, search: None, with_providers: false });
        self.note(lost);
        self.choices_of(entries, wanted)
    }

    pub(super) fn choices_of(
        &self,
        entries: Vec<Entry>,
        wanted: &dyn Fn(&[u8]) -> bool,
    ) -> (Vec<Entry>, Vec<Chosen<'_>>) {
        let apt = self.apt();
        let builds = self.builds();
        let mut order: Vec<Key> = Vec::new();
        let mut of: HashMap<Key, (Option<&Record>, Vec<usize>)> = HashMap::new();
        for record in self.records().iter().filter(|record| wanted(&record.name) && Self::is_installed(record)) {
            let key = self.key(&record.name, record.arch.as_ref());
            order.push(key.clone());
            of.insert(key, (Some(record), Vec::new()));
        }
        for (place, entry) in entries.iter().enumerate() {
            let key = self.key(&entry.name, Some(&entry.arch));
            let known = of.entry(key.clone()).or_insert_with(|| {
                order.push(key);
                (None, Vec::new())
            });
            known.1.push(place);
        }
        let chosen = order.into_iter().map(|key| {
            let (record, places) = &of[&key];
            let installed = record.and_then(|record| {
                let digest = builds.get(&key).copied().unwrap_or_default();
                Some(Installed { version: record.version.as_ref()?, digest })
            });
            let choices = choose(apt, &key.0, installed, &entries, places);
            (key, *record, choices)
        });
        let chosen = chosen.collect();
        (entries, chosen)
    }

    /// The origin of each installed package, by name and architecture. Empty if there is no list: then the origin
    /// is not known of any.
    pub(super) fn origins(&self) -> Option<HashMap<Key, Origin>> {
        let apt = self.apt();
        if apt.indexes.is_empty() {
            return None;
        }
        let names: HashSet<&[u8]> = self.records().iter().map(|record| &*record.name).collect();
        let (entries, chosen) = self.choices(&|name| names.contains(name));
        let of = chosen.into_iter().filter_map(|(key, _, choices)| {
            let now = choices.into_iter().find(|choice| choice.installed)?;
            let place = now.entries.first()?;
            Some((key, self.list_origins()[entries[*place].index].clone()))
        });
        Some(of.collect())
    }

    /// Whether a repository has the installed version of a package, as of the last fetch of its lists.
    pub(super) fn can_be_fetched(&self, record: &Record) -> bool {
        let known = self.fetchable.get_or_init(|| self.origins());
        known.as_ref().is_some_and(|known| self.origin_of(known, record).is_some_and(|one| one.kind == "repository"))
    }

    pub(super) fn origin_of(&self, origins: &HashMap<Key, Origin>, record: &Record) -> Option<Origin> {
        origins.get(&self.key(&record.name, record.arch.as_ref())).cloned()
    }

    /// The applications that a query names.
    fn apps(&self, asked: &OfferQuery) -> Components {
        let apps = self.apt().apps(&self.host.root, asked);
        self.note(apps.notes.clone());
        apps
    }

    pub(super) fn all_offers(&self, asked: &OfferQuery) -> Vec<Offer> {
        self.offers_with(asked, &self.apps(asked))
    }

    /// The offers for a query about packages and these applications.
    pub(super) fn offers_with(&self, asked: &OfferQuery, apps: &Components) -> Vec<Offer> {
        let names: HashSet<&[u8]> = match asked {
            OfferQuery::Installed => self.records().iter().map(|record| &*record.name).collect(),
            _ => HashSet::new(),
        };
        let (entries, chosen) = match asked {
            OfferQuery::Search(search) => self.found(search),
            _ => self.choices(&|name| names.contains(name) || asked.has(name) || apps.of(name).is_some()),
        };
        let mut offers = Vec::new();
        let origins = self.list_origins();
        for (key, record, choices) in chosen {
            if asked.is_installed() && record.is_none() {
                continue;
            }
            let held = record.is_some_and(|record| record.want == Want::Hold);
            // What would be installed by this name is the native build, unless the other is here already.
            let is_foreign = key.1 != *self.native() && record.is_none();
            let mut told: Vec<(ByteString, Option<ByteString>)> = Vec::new();
            for choice in choices {
                let (name, version, arch) = (key.0.clone(), choice.version.clone(), Some(key.1.clone()));
                let offer = Offer {
                    confinement: Some("none".to_owned()),
                    priority: Some(choice.priority),
                    installed: choice.installed,
                    candidate: choice.candidate && !is_foreign,
                    ..Offer::bare(self.manager(), crate::model::Scope::System, name, version, arch, held)
                };
                if choice.entries.is_empty() {
                    let evidence = record.map(|record| {
                        Evidence::line(
                            record.source.clone(),
                            record.line,
                            format!("{} {} is installed", key.0, choice.version),
                        )
                    });
                    offers.push(Offer { evidence: evidence.into_iter().collect(), ..offer.clone() });
                }
                for &place in &choice.entries {
                    let entry = &entries[place];
                    let index = &self.apt().indexes[entry.index];
                    // A package for every machine is in the list of each of them.
                    let origin = origins[entry.index].clone();
                    let place = (entry.version.clone(), origin.url.clone().or_else(|| Some(origin.name.clone())));
                    if *entry.arch == *b"all" {
                        if told.contains(&place) {
                            continue;
                        }
                        told.push(place);
                    }
                    offers.push(Offer {
                        arch: Some(entry.arch.clone()),
                        source: Some(origin),
                        publisher: index.release.origin.clone(),
                        says: entry.says.clone(),
                        homepage: entry.homepage.clone(),
                        provides: entry.text.as_ref().map(|text| text.commands.clone()).unwrap_or_default(),
                        display_name: entry.text.as_ref().and_then(|text| text.display_name.clone()),
                        keywords: entry.text.as_ref().map(|text| text.summaries.clone()).unwrap_or_default(),
                        signed: Some(index.signature.is_some()),
                        download_size: entry.download_size,
                        size: entry.installed_size,
                        catalogued_at: Some(index.dated),
                        evidence: vec![Evidence::at(
                            index.file.clone(),
                            format!("package {}", entry.name),
                            format!("version {}", entry.version),
                        )],
                        ..offer.clone()
                    });
                }
            }
        }
        offers.iter_mut().filter(|offer| offer.source.is_some()).for_each(|offer| apps.describe(offer));
        offers
    }

    /// Which repositories have packages with these names: the lists are looked through, and not taken apart.
    pub(super) fn lists_with(&self, names: &[ByteString]) -> Vec<(ByteString, ByteString)> {
        let found: Vec<Vec<bool>> =
            self.apt().indexes.par_iter().map(|index| index.has(&self.host.root, names)).collect();
        let of_list = |(has, origin): (Vec<bool>, &Origin)| {
            let listed = names.iter().zip(has).filter(|(_, has)| *has);
            listed.map(|(name, _)| (name.clone(), origin.name.clone())).collect::<Vec<_>>()
        };
        found.into_iter().zip(self.list_origins()).flat_map(of_list).collect()
    }

    /// The repository of each list, as the origin of what it has.
    fn list_origins(&self) -> &[Origin] {
        let apt = self.apt();
        self.list_origins.get_or_init(|| (0..apt.indexes.len()).map(|at| apt.origin(self.host, at)).collect())
    }

    /// Whether any list was fetched.
    pub(super) fn has_lists(&self) -> bool {
        !self.apt().indexes.is_empty()
    }

    /// The repositories that are configured.
    pub(super) fn configured_sources(&self) -> Vec<Source> {
        let mut lost = Vec::new();
        let sources = self.apt().configured(self.host, self.manager(), &mut lost);
        self.note(lost);
        sources
    }

    /// What upgrades a package by itself.
    pub(super) fn upgraded_by_itself(&self, name: &[u8], sources: &[ByteString], jobs: &[Job]) -> Option<Automatic> {
        let unattended = self.unattended.get_or_init(|| {
            let mut lost = Vec::new();
            let read = Unattended::read(&self.host.root, jobs, &mut lost);
            self.note(lost);
            read
        });
        let unattended = unattended.as_ref()?;
        let lists = self.apt().indexes.iter().zip(self.list_origins());
        unattended.of(name, lists.filter(|(_, origin)| sources.contains(&origin.name)).map(|(index, _)| index))
    }

    /// What a search does not reach.
    pub(super) fn not_searched(&self, search: &Search) -> Vec<Unsearched> {
        let lists = self.apt();
        let mut found = Vec::new();
        let fetch = || Some(CommandLine::new("apt-get update"));
        let is_missing = |one: &&apt::Source| one.enabled && lists.lists_of(one).is_empty();
        let missing: Vec<ByteString> =
            lists.sources.iter().filter(is_missing).map(|one| without_credentials(&one.url)).collect();
        found.extend(Unsearched::not_fetched(&missing, fetch()));
        if search.scope() != SearchScope::Names && !lists.indexes.is_empty() && !lists.has_commands(&self.host.root) {
            // With the program there, an update fetches its lists too.
            let has_program = self.host.root.target(b"/usr/bin/apt-file").is_ok();
            let line = if has_program {
                fetch()
            } else {
                Some(CommandLine::new("apt-get install apt-file").and_then(CommandLine::new("apt-get update")))
            };
            let what = "commands of packages that are not installed: no list of files was fetched";
            found.push(Unsearched::new(what, line));
        }
        found
    }

    /// Findings about the repositories themselves.
    pub(super) fn on_sources(&self) -> Vec<String> {
        self.apt().source_notes.clone()
    }
}
