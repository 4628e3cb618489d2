//! Who depends on whom (Debian Policy, "Declaring relationships between packages"): `Depends`, `Pre-Depends` and
//! `Provides` of what is installed. The architecture behind a name (`:any`) is skipped.

use hashbrown::HashMap;

use super::ADMIN;
use super::installation::DpkgInstallation;
use crate::backend::dependency_graph::{Need, Node, Want, losers};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::model::Evidence;
use crate::version::debian;
use whodunit_formats::stanza::stanzas;

impl DpkgInstallation<'_> {
    /// The packages that cannot stay once some are removed.
    pub(super) fn dependents_of(&self, removed: &[u32]) -> Vec<(u32, Evidence)> {
        let file = path::join(ADMIN, b"status");
        let status = self.host.root.read(&file, Limit::RECORD).unwrap_or_default();
        let numbered = (0..).zip(self.records()).filter(|(_, record)| record.source == file);
        let by_line: HashMap<u32, u32> = numbered.map(|(number, record)| (record.line, number)).collect();
        let mut nodes = Vec::new();
        for stanza in stanzas(&status) {
            let Some(&number) = by_line.get(&stanza.line) else { continue };
            if !crate::backend::Installation::is_present(self, number) {
                continue;
            }
            let record = &self.records()[number as usize];
            let mut node = Node { number, ..Node::default() };
            node.offers.push((record.name.to_vec(), record.version.as_ref().map(|version| version.to_vec())));
            for provided in groups(&stanza.whole("Provides").unwrap_or_default()) {
                let version = provided.version.and_then(|(sign, version)| (sign == "=").then_some(version));
                node.offers.push((provided.name, version));
            }
            for field in ["Pre-Depends", "Depends"] {
                let value = stanza.whole(field).unwrap_or_default();
                node.needs.extend(value.split(|&b| b == b',').filter_map(need));
            }
            nodes.push(node);
        }
        let lost = losers(&nodes, removed, &debian::compare);
        let evidence = |number: u32, says: &str| {
            let record = &self.records()[number as usize];
            Evidence::line(file.clone(), record.line, format!("{} depends on {says}", record.name))
        };
        lost.into_iter().map(|(number, says)| (number, evidence(number, &says))).collect()
    }
}

/// `a (>= 1) | b`.
fn need(group: &[u8]) -> Option<Need> {
    let any_of: Vec<Want> = group.split(|&b| b == b'|').filter_map(want).collect();
    (!any_of.is_empty()).then(|| Need { any_of, says: ByteString::from(group.trim_ascii()).to_string() })
}

fn groups(value: &[u8]) -> Vec<Want> {
    value.split(|&b| b == b',').filter_map(want).collect()
}

fn want(text: &[u8]) -> Option<Want> {
    let text = text.trim_ascii();
    let end = text.iter().position(|b| matches!(b, b' ' | b'(' | b'[' | b'<')).unwrap_or(text.len());
    let name = text[..end].split(|&b| b == b':').next().filter(|name| !name.is_empty())?;
    let inner = memchr::memchr(b'(', text).and_then(|at| Some(&text[at + 1..memchr::memchr(b')', text)?]));
    let version = inner.and_then(|inner| {
        let inner = inner.trim_ascii();
        // The old spellings `<` and `>` mean `<=` and `>=`.
        const SIGNS: [(&[u8], &str); 7] =
            [(b"<<", "<"), (b"<=", "<="), (b">>", ">"), (b">=", ">="), (b"=", "="), (b"<", "<="), (b">", ">=")];
        let (sign, meaning) = SIGNS.into_iter().find(|(sign, _)| inner.starts_with(sign))?;
        Some((meaning, inner[sign.len()..].trim_ascii().to_vec()))
    });
    Some(Want { name: name.to_vec(), version })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn relations_are_parted() {
        let read = need(b" libtide2 (>= 3.1) | libtide:any ").unwrap();
        assert_eq!(read.says, "libtide2 (>= 3.1) | libtide:any");
        assert_eq!(read.any_of[0].version, Some((">=", b"3.1".to_vec())));
        assert_eq!((&read.any_of[1].name[..], &read.any_of[1].version), (&b"libtide"[..], &None));
        assert_eq!(want(b"a (<< 2)").unwrap().version, Some(("<", b"2".to_vec())));
        assert!(need(b" ").is_none());
    }
}
