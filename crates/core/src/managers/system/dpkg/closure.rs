//! What apt would install along with a package: `Pre-Depends`, `Depends` and, if apt is set so, `Recommends`, within the
//! lists that were fetched; and the upgrades of what is installed from the same source
//! (`APT::Get::Upgrade-By-Source-Package`).

use hashbrown::{HashMap, HashSet};

use super::apt::{Filter, conf};
use super::dependents::{HARD, groups, need};
use super::installation::DpkgInstallation;
use crate::backend::closure::{Candidate, closure};
use crate::backend::dependency_graph::{Need, Node, Want};
use crate::bytes::ByteString;
use crate::model::{Offer, Pulled, PullsIn, Relation};
use crate::version::debian;
use whodunit_formats::stanza::{Stanza, stanzas};

/// The installed packages that were made from one source, each with its version.
type BySource = HashMap<Vec<u8>, Vec<(Vec<u8>, Vec<u8>)>>;

impl DpkgInstallation<'_> {
    /// What installing an offer brings along; `None` where its entry is not found again.
    pub(super) fn brings_along(&self, offer: &Offer) -> Option<PullsIn> {
        let mut notes = Vec::new();
        let settings = conf::read(&self.host.root, "whether apt installs what is recommended is unknown", &mut notes);
        let recommended = settings.is_set("APT::Install-Recommends", true);
        self.note(notes);
        let siblings = match settings.is_set("APT::Get::Upgrade-By-Source-Package", true) {
            true => self.by_source(),
            false => HashMap::new(),
        };
        let version = offer.version.clone()?;
        let names = HashSet::from([offer.name.to_vec()]);
        let start = self.candidates(&names, recommended, &siblings, Some(&version));
        let start = start.into_iter().find(|one| one.package.name == offer.name)?;
        let mut lookup = |names: &HashSet<Vec<u8>>| self.candidates(names, recommended, &siblings, None);
        let installed = self.installed_nodes();
        Some(closure(&start.node, &installed, &mut lookup, &debian::compare))
    }

    /// What is installed and can meet needs of the machine's own architecture.
    fn installed_nodes(&self) -> Vec<Node> {
        let mut nodes = Vec::new();
        self.each_installed(&mut |number, stanza| {
            let record = &self.records()[number as usize];
            let is_own = record.arch.as_ref().is_none_or(|arch| arch == self.native() || **arch == *b"all");
            let is_foreign = || stanza.whole("Multi-Arch").is_some_and(|value| value == b"foreign");
            if is_own || is_foreign() {
                nodes.push(node_of(&record.name, record.version.as_ref(), stanza, true));
            }
        });
        nodes
    }

    /// What is installed of the machine's own architecture, by the source that it was made from.
    fn by_source(&self) -> BySource {
        let mut found = BySource::new();
        self.each_installed(&mut |number, stanza| {
            let record = &self.records()[number as usize];
            let is_own = record.arch.as_ref().is_none_or(|arch| arch == self.native() || **arch == *b"all");
            if let Some(version) = record.version.as_ref().filter(|_| is_own) {
                let one = (record.name.to_vec(), version.to_vec());
                found.entry(source_of(stanza, &record.name)).or_default().push(one);
            }
        });
        found
    }

    /// The versions that apt would take of packages with these names, or that provide them; or a version that is given.
    fn candidates(
        &self,
        names: &HashSet<Vec<u8>>,
        recommended: bool,
        siblings: &BySource,
        version: Option<&ByteString>,
    ) -> Vec<Candidate> {
        let is_named = |name: &[u8]| names.contains(name);
        let (entries, lost) =
            self.apt().entries(&self.host.root, &Filter { is_named: &is_named, search: None, with_providers: true });
        self.note(lost);
        let found: HashSet<ByteString> = entries.iter().map(|entry| entry.name.clone()).collect();
        let (entries, chosen) = self.choices_of(entries, &|name| found.contains(name));
        let mut candidates = Vec::new();
        for ((name, arch), _, choices) in chosen {
            if arch != *self.native() {
                continue;
            }
            let choice = choices.into_iter().find(|choice| match version {
                Some(version) => choice.version == *version,
                None => choice.candidate,
            });
            let Some(entry) = choice.and_then(|choice| choice.entries.first().map(|at| &entries[*at])) else {
                continue;
            };
            let Some(text) = &entry.stanza else { continue };
            let Some(stanza) = stanzas(text).next() else { continue };
            let mut node = node_of(&name, Some(&entry.version), &stanza, recommended);
            for (name, version) in siblings.get(&source_of(&stanza, &name)).into_iter().flatten() {
                let says = ByteString::from(&**name).to_string();
                let newer = Want { name: name.clone(), version: Some((">", version.clone())) };
                node.needs.push(Need { any_of: vec![newer], says, relation: Relation::Recommends });
            }
            candidates.push(Candidate {
                node,
                package: Pulled {
                    name,
                    version: Some(entry.version.clone()),
                    download_size: entry.download_size,
                    installed_size: entry.installed_size,
                    shared: false,
                },
            });
        }
        candidates
    }
}

/// The source that a package was made from: `Source`, without the version that may stand behind it, else its name.
fn source_of(stanza: &Stanza<'_>, name: &[u8]) -> Vec<u8> {
    let source = stanza.whole("Source").unwrap_or_else(|| name.to_vec());
    source.split(|&b| b == b' ').next().unwrap_or_default().to_vec()
}

/// A package as others see it, with its needs. Architectures behind names are left out: everything is of the machine's
/// own.
fn node_of(name: &ByteString, version: Option<&ByteString>, stanza: &Stanza<'_>, recommended: bool) -> Node {
    let bare = |name: &[u8]| name.split(|&b| b == b':').next().unwrap_or(name).to_vec();
    let mut node = Node::default();
    node.offers.push((name.to_vec(), version.map(|version| version.to_vec())));
    for provided in groups(&stanza.whole("Provides").unwrap_or_default()) {
        let version = provided.version.and_then(|(sign, version)| (sign == "=").then_some(version));
        node.offers.push((bare(&provided.name), version));
    }
    let soft = recommended.then_some(("Recommends", Relation::Recommends));
    for (field, relation) in HARD.into_iter().chain(soft) {
        let value = stanza.whole(field).unwrap_or_default();
        for one in value.split(|&b| b == b',').filter_map(need) {
            let mut one = Need { relation, ..one };
            one.any_of.iter_mut().for_each(|want| want.name = bare(&want.name));
            node.needs.push(one);
        }
    }
    node
}
