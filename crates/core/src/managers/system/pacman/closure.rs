//! What pacman would install along with a package: `%DEPENDS%` within the databases that were fetched.

use hashbrown::HashSet;

use super::dependents::{needed, node, order, provided};
use super::settings::Settings;
use super::sync::{self, Offered};
use crate::backend::closure::{Candidate, closure};
use crate::backend::dependency_graph::Node;
use crate::backend::simple::InstalledPackage;
use crate::bytes::ByteString;
use crate::fs::Root;
use crate::model::{Loss, Offer, Pulled, PullsIn};

/// What installing an offer brings along; `None` where its entry is not found again.
pub(super) fn of(
    root: &Root,
    database: &ByteString,
    settings: &Settings,
    items: &[InstalledPackage],
    offer: &Offer,
) -> Option<PullsIn> {
    let mut notes: Vec<Loss> = Vec::new();
    let catalogues = sync::read(root, database, settings, &mut notes);
    let all = || catalogues.iter().flat_map(|catalogue| &catalogue.offers);
    let start = all().find(|one| one.name == offer.name && Some(&one.version) == offer.version.as_ref())?;
    let installed: Vec<Node> = (0..).zip(items).map(|numbered| node(root, numbered)).collect();
    let mut lookup = |names: &HashSet<Vec<u8>>| {
        let mut seen: HashSet<&ByteString> = HashSet::new();
        let has = |one: &&Offered| {
            names.contains(&*one.name) || one.provides.iter().any(|name| names.contains(&provided(name).0))
        };
        // The first repository that has a name counts.
        let found = all().filter(|one| seen.insert(&one.name)).filter(has);
        found.map(candidate).collect()
    };
    Some(closure(&candidate(start).node, &installed, &mut lookup, &order))
}

fn candidate(one: &Offered) -> Candidate {
    let mut node = Node::default();
    node.offers.push((one.name.to_vec(), Some(one.version.to_vec())));
    node.offers.extend(one.provides.iter().map(|text| provided(text)));
    node.needs.extend(one.depends.iter().map(|text| needed(text)));
    Candidate {
        node,
        package: Pulled {
            name: one.name.clone(),
            version: Some(one.version.clone()),
            download_size: one.download_size,
            installed_size: one.size,
            shared: false,
        },
    }
}
