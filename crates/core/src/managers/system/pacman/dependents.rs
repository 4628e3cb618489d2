//! Who depends on whom: `%DEPENDS%` and `%PROVIDES%` of each package's `desc`.

use super::local::sections;
use crate::backend::dependency_graph::{Need, Node, Want};
use crate::backend::simple::InstalledPackage;
use crate::bytes::{ByteString, path};
use crate::fs::{Limit, Root};
use crate::model::{Evidence, Relation};
use crate::version::pacman;
use std::cmp::Ordering;

/// What a text of `%PROVIDES%` offers.
pub(super) fn provided(text: &[u8]) -> (Vec<u8>, Option<Vec<u8>>) {
    let want = want(text);
    (want.name, want.version.map(|(_, version)| version))
}

/// What a text of `%DEPENDS%` needs.
pub(super) fn needed(text: &[u8]) -> Need {
    Need { any_of: vec![want(text)], says: ByteString::from(text).to_string(), relation: Relation::Requires }
}

/// An installed package with what it offers and needs.
pub(super) fn node(root: &Root, (number, item): (u32, &InstalledPackage)) -> Node {
    let desc = root.read(&path::join(&item.entry, b"desc"), Limit::SMALL).unwrap_or_default();
    let mut node = Node { number, ..Node::default() };
    node.offers.push((item.name.to_vec(), item.version.as_ref().map(|version| version.to_vec())));
    for (key, _, values) in sections(&desc) {
        match key {
            b"PROVIDES" => node.offers.extend(values.into_iter().map(provided)),
            b"DEPENDS" => node.needs.extend(values.into_iter().map(needed)),
            // `NAME: WHAT FOR`
            b"OPTDEPENDS" => node.needs.extend(values.into_iter().map(|text| {
                let name = text.split(|&b| b == b':').next().unwrap_or(text);
                Need { relation: Relation::Suggests, ..needed(name.trim_ascii()) }
            })),
            _ => {}
        }
    }
    node
}

/// A version against one that is wanted: without a release it stands for every release of it.
pub(super) fn order(version: &[u8], wanted: &[u8]) -> Ordering {
    let release = memchr::memrchr(b'-', version).filter(|_| !wanted.contains(&b'-'));
    pacman::compare(release.map_or(version, |at| &version[..at]), wanted)
}

/// Every installed package with what it offers and needs. Losses are noted where packages are read.
pub(super) fn nodes(root: &Root, items: &[InstalledPackage]) -> Vec<Node> {
    (0..).zip(items).map(|numbered| node(root, numbered)).collect()
}

/// Where a package declares a need.
pub(super) fn evidence(item: &InstalledPackage, says: &str) -> Evidence {
    Evidence::at(path::join(&item.entry, b"desc"), "DEPENDS", format!("{} depends on {says}", item.name))
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
