//! Who depends on whom (Debian Policy, "Declaring relationships between packages"): `Depends`, `Pre-Depends` and
//! `Provides` of what is installed. A dependency is met by the package's own architecture, or by a package that says
//! `Multi-Arch: foreign`; behind a name, `:any` means any.

use hashbrown::HashMap;

use super::ADMIN;
use super::apt::keep;
use super::installation::DpkgInstallation;
use super::marks::Marks;
use super::status::{Record, Want as Selection};
use crate::backend::Unneeded;
use crate::backend::dependency_graph::{Need, Node, Want, losers, unneeded};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::model::{CommandLine, Evidence, Reason, Remedy, RemedyKind};
use crate::version::debian;
use whodunit_formats::stanza::{Stanza, stanzas};

/// The fields that bind packages hard: without what they name, a package cannot stay.
const HARD: [&str; 2] = ["Pre-Depends", "Depends"];

/// As many architectures are told apart; no machine runs more of them.
const MAX_ARCHES: usize = 16;

impl DpkgInstallation<'_> {
    /// Tells of every installed package its number and what `status` says of it.
    pub(super) fn each_installed(&self, take: &mut dyn FnMut(u32, &Stanza<'_>)) {
        let file = path::join(ADMIN, b"status");
        let status = self.host.root.read(&file, Limit::RECORD).unwrap_or_default();
        let numbered = (0..).zip(self.records()).filter(|(_, record)| record.source == file);
        let by_line: HashMap<u32, u32> = numbered.map(|(number, record)| (record.line, number)).collect();
        for stanza in stanzas(&status) {
            if let Some(&number) = by_line.get(&stanza.line)
                && crate::backend::Installation::is_present(self, number)
            {
                take(number, &stanza);
            }
        }
    }

    /// Every installed package with what these fields of it need; `also` is shown what `status` says of each.
    fn nodes(&self, fields: &[&str], also: &mut dyn FnMut(u32, &Stanza<'_>)) -> Vec<Node> {
        let arch_of = |record: &'_ Record| match record.arch.as_deref() {
            None | Some(b"all") => self.native().clone(),
            Some(arch) => arch.into(),
        };
        let mut arches: Vec<ByteString> = Vec::new();
        for arch in self.records().iter().map(arch_of) {
            if arches.len() < MAX_ARCHES && !arches.contains(&arch) {
                arches.push(arch);
            }
        }
        let mut nodes = Vec::new();
        self.each_installed(&mut |number, stanza| {
            also(number, stanza);
            let record = &self.records()[number as usize];
            let arch = arch_of(record);
            let is_foreign = stanza.whole("Multi-Arch").is_some_and(|value| value.trim_ascii() == b"foreign");
            let mut node = Node { number, ..Node::default() };
            let mut offer = |name: &[u8], version: Option<Vec<u8>>| {
                let served = arches.iter().filter(|served| is_foreign || **served == arch).map(|arch| &**arch);
                for arch in served.chain([&b"any"[..]]) {
                    node.offers.push(([name, b":", arch].concat(), version.clone()));
                }
            };
            offer(&record.name, record.version.as_ref().map(|version| version.to_vec()));
            for provided in groups(&stanza.whole("Provides").unwrap_or_default()) {
                let version = provided.version.and_then(|(sign, version)| (sign == "=").then_some(version));
                offer(&provided.name, version);
            }
            for field in fields {
                let value = stanza.whole(field).unwrap_or_default();
                node.needs.extend(value.split(|&b| b == b',').filter_map(need));
            }
            // A name without an architecture is one of the package's own.
            for want in node.needs.iter_mut().flat_map(|need| &mut need.any_of) {
                if !want.name.contains(&b':') {
                    want.name.extend([b":", &*arch].concat());
                }
            }
            nodes.push(node);
        });
        nodes
    }

    /// The packages that cannot stay once some are removed.
    pub(super) fn dependents_of(&self, removed: &[u32]) -> Vec<(u32, Evidence)> {
        let lost = losers(&self.nodes(&HARD, &mut |_, _| {}), removed, &debian::compare);
        let evidence = |number: u32, says: &str| {
            let record = &self.records()[number as usize];
            Evidence::line(record.source.clone(), record.line, format!("{} depends on {says}", record.name))
        };
        lost.into_iter().map(|(number, says)| (number, evidence(number, &says))).collect()
    }

    /// What apt would remove by `autoremove`, but for kernels: see [`keep`].
    pub(super) fn unneeded(&self) -> Option<Unneeded> {
        let root = &self.host.root;
        let mut notes = Vec::new();
        let marks = Marks::read(root, self.native().clone(), &mut notes);
        let kernels: Vec<String> = self.records().iter().filter_map(|record| keep::kernel(&record.name)).collect();
        let rules = keep::Rules::read(root, &kernels, &mut notes);
        // By what could not be read, anything may be kept.
        if !notes.is_empty() || !rules.is_whole {
            return None;
        }
        let mut fields = HARD.to_vec();
        fields.extend(rules.recommended.then_some("Recommends"));
        fields.extend(rules.suggested.then_some("Suggests"));
        let mut wanted: Vec<u32> = Vec::new();
        let nodes = self.nodes(&fields, &mut |number, stanza| {
            let record = &self.records()[number as usize];
            let says = |field: &str, value: &[u8]| {
                stanza.whole(field).is_some_and(|found| found.trim_ascii().eq_ignore_ascii_case(value))
            };
            let is_fixed = record.essential
                || record.want == Selection::Hold
                || says("Important", b"yes")
                || says("Priority", b"required")
                || *record.name == *b"apt";
            if is_fixed || marks.reason(record) != Reason::Dependency || rules.keeps(&record.name) {
                wanted.push(number);
            }
        });
        let found = unneeded(&nodes, &wanted, &debian::compare);
        let evidence = |number: u32| {
            let says = format!("{} is marked as automatically installed", self.records()[number as usize].name);
            (number, Evidence::at("/var/lib/apt/extended_states", "Auto-Installed", says))
        };
        let remedy = Remedy::new(RemedyKind::Remove, CommandLine::new("apt autoremove"));
        // Of many kernels apt also removes those that did not start this machine.
        let remedy = (kernels.len() <= keep::KERNELS).then(|| remedy.to("remove all that nothing needs"));
        Some(Unneeded { packages: found.into_iter().map(evidence).collect(), remedy })
    }
}

/// `a (>= 1) | b`.
pub(super) fn need(group: &[u8]) -> Option<Need> {
    let any_of: Vec<Want> = group.split(|&b| b == b'|').filter_map(want).collect();
    (!any_of.is_empty()).then(|| Need {
        any_of,
        says: ByteString::from(group.trim_ascii()).to_string(),
        is_optional: false,
    })
}

pub(super) fn groups(value: &[u8]) -> Vec<Want> {
    value.split(|&b| b == b',').filter_map(want).collect()
}

fn want(text: &[u8]) -> Option<Want> {
    let text = text.trim_ascii();
    let end = text.iter().position(|b| matches!(b, b' ' | b'(' | b'[' | b'<')).unwrap_or(text.len());
    let name = Some(&text[..end]).filter(|name| !name.is_empty())?;
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
        assert_eq!((&read.any_of[1].name[..], &read.any_of[1].version), (&b"libtide:any"[..], &None));
        assert_eq!(want(b"a (<< 2)").unwrap().version, Some(("<", b"2".to_vec())));
        assert!(need(b" ").is_none());
    }
}
