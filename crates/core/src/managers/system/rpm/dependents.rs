//! Who depends on whom: names that packages require, against names and files that others provide. Conditions
//! (`(a if b)`) and what rpm provides itself (`rpmlib(…)`) are taken to be met.

use hashbrown::HashSet;

use super::installation::RpmInstallation;
use crate::backend::dependency_graph::{Need, Node, Want, losers};
use crate::bytes::ByteString;
use crate::model::Evidence;
use crate::version::rpm;
use whodunit_formats::rpm_header::{Header, tag};

/// Bits of a requirement's flags: less, greater, equal.
const SIGNS: u64 = 2 | 4 | 8;

impl RpmInstallation<'_> {
    /// The packages that cannot stay once some are removed.
    pub(super) fn dependents_of(&self, removed: &[u32]) -> Vec<(u32, Evidence)> {
        let mut nodes: Vec<Node> = Vec::new();
        let mut wanted_files: HashSet<Vec<u8>> = HashSet::new();
        self.each(&mut |number, header| {
            let node = node(number, header);
            let wants = node.needs.iter().flat_map(|need| &need.any_of).filter(|want| want.name.starts_with(b"/"));
            wanted_files.extend(wants.map(|want| want.name.clone()));
            nodes.push(node);
        });
        // Of files, only those that somebody requires are of interest.
        let mut place = 0;
        self.each(&mut |_, header| {
            let files = header.files().map(|(_, dir, name)| [dir, name].concat());
            nodes[place].offers.extend(files.filter(|file| wanted_files.contains(file)).map(|file| (file, None)));
            place += 1;
        });
        let lost = losers(&nodes, removed, &rpm::compare);
        let file = &self.store.file;
        lost.into_iter()
            .map(|(number, says)| (number, Evidence::entry(file.clone(), number, format!("requires {says}"))))
            .collect()
    }
}

fn node(number: u32, header: &Header<'_>) -> Node {
    let named = |names: u32, flags: u32, versions: u32| {
        let (flags, versions): (Vec<u64>, Vec<&[u8]>) =
            (header.numbers(flags).collect(), header.texts(versions).collect());
        let at = move |place: usize| {
            (flags.get(place).copied().unwrap_or_default(), versions.get(place).copied().unwrap_or_default())
        };
        header.texts(names).enumerate().map(move |(place, name)| (name, at(place))).collect::<Vec<_>>()
    };
    let mut node = Node { number, ..Node::default() };
    for (name, (_, version)) in named(tag::PROVIDE_NAMES, tag::PROVIDE_FLAGS, tag::PROVIDE_VERSIONS) {
        node.offers.push((name.to_vec(), Some(version.to_vec()).filter(|version| !version.is_empty())));
    }
    // Very old packages do not provide themselves.
    if let Some(name) = header.text(tag::NAME) {
        node.offers.push((name.to_vec(), header.version().map(|version| version.to_vec())));
    }
    for (name, (flags, version)) in named(tag::REQUIRE_NAMES, tag::REQUIRE_FLAGS, tag::REQUIRE_VERSIONS) {
        if name.starts_with(b"rpmlib(") || name.starts_with(b"(") {
            continue;
        }
        let sign = match flags & SIGNS {
            2 => Some("<"),
            4 => Some(">"),
            8 => Some("="),
            10 => Some("<="),
            12 => Some(">="),
            _ => None,
        };
        let version = sign.map(|sign| (sign, version.to_vec()));
        let says = match &version {
            Some((sign, version)) => {
                format!("{} {sign} {}", ByteString::from(name), ByteString::from(version.as_slice()))
            }
            None => ByteString::from(name).to_string(),
        };
        node.needs.push(Need { any_of: vec![Want { name: name.to_vec(), version }], says, is_optional: false });
    }
    node
}
