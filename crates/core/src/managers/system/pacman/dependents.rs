//! Who depends on whom: `%DEPENDS%` and `%PROVIDES%` of each package's `desc`.

use super::local::sections;
use crate::backend::dependency_graph::{Need, Node, Want, losers};
use crate::backend::simple::InstalledPackage;
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::Evidence;
use crate::version::pacman;

/// The packages that have to go when some are removed. Losses are noted where packages are read.
pub fn dependents(root: &Root, items: &[InstalledPackage], removed: &[u32]) -> Vec<(u32, Evidence)> {
    let node = |(number, item): (u32, &InstalledPackage)| {
        let desc = root.read(&path::join(&item.entry, b"desc"), Limit::SMALL).unwrap_or_default();
        let mut node = Node { number, ..Node::default() };
        node.offers.push((item.name.to_vec(), item.version.as_ref().map(|version| version.to_vec())));
        for (key, _, values) in sections(&desc) {
            match key {
                b"PROVIDES" => node.offers.extend(values.into_iter().map(|value| {
                    let want = want(value);
                    (want.name, want.version.map(|(_, version)| version))
                })),
                b"DEPENDS" => node.needs.extend(
                    values
                        .into_iter()
                        .map(|value| Need { any_of: vec![want(value)], says: ByteString::from(value).to_string() }),
                ),
                _ => {}
            }
        }
        node
    };
    let nodes: Vec<Node> = (0..).zip(items).map(node).collect();
    let lost = losers(&nodes, removed, &|version, wanted| {
        // A version without a release stands for every release of it.
        let release = memchr::memrchr(b'-', version).filter(|_| !wanted.contains(&b'-'));
        pacman::compare(release.map_or(version, |at| &version[..at]), wanted)
    });
    let evidence = |number: u32, says: String| {
        let item = &items[number as usize];
        Evidence::at(path::join(&item.entry, b"desc"), "DEPENDS", format!("{} depends on {says}", item.name))
    };
    lost.into_iter().map(|(number, says)| (number, evidence(number, says))).collect()
}

/// `name`, `name>=1.2`.
fn want(text: &[u8]) -> Want {
    let Some(at) = text.iter().position(|b| b"<>=".contains(b)) else {
        return Want { name: text.to_vec(), version: None };
    };
    let signs = [(&b"<="[..], "<="), (b">=", ">="), (b"<", "<"), (b">", ">"), (b"=", "=")];
    let (sign, word) = signs.into_iter().find(|(sign, _)| text[at..].starts_with(sign)).unwrap_or((b"=", "="));
    Want { name: text[..at].to_vec(), version: Some((word, text[at + sign.len()..].to_vec())) }
}
