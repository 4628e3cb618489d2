//! Who depends on whom (Debian Policy, "Declaring relationships between packages"): `Depends`, `Pre-Depends` and
//! `Provides` of what is installed. A dependency is met by the package's own architecture, or by a package that says
//! `Multi-Arch: foreign`; behind a name, `:any` means any.

use hashbrown::HashMap;

use super::ADMIN;
use super::apt::keep;
use super::installation::DpkgInstallation;
use super::marks::Marks;
use super::status::{Record, Want as Selection};
use crate::backend::dependency_graph::{Need, Node, TooManyWays, Want, losers, noted, unmet, unneeded};
use crate::backend::{Relations, Requirement, Unmet, Unneeded};
use crate::bytes::{ByteString, path};
use crate::fs::Limit;
use crate::model::{CommandLine, Evidence, Loss, Reason, Relation, Remedy, RemedyKind};
use crate::version::debian;
use whodunit_formats::stanza::{Stanza, stanzas};

/// The fields that bind packages hard: without what they name, a package cannot stay.
pub(super) const HARD: [(&str, Relation); 2] = [("Pre-Depends", Relation::Requires), ("Depends", Relation::Requires)];

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
    fn nodes(&self, fields: &[(&str, Relation)], also: &mut dyn FnMut(u32, &Stanza<'_>)) -> Vec<Node> {
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
            for (field, relation) in fields {
                let value = stanza.whole(field).unwrap_or_default();
                let needs = value.split(|&b| b == b',').filter_map(need);
                node.needs.extend(needs.map(|one| Need { relation: *relation, ..one }));
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
    pub(super) fn dependents_of(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        if !self.may_be_needed(removed) {
            return Some(Vec::new());
        }
        let lost = self.noted(losers(&self.nodes(&HARD, &mut |_, _| {}), removed, &debian::compare))?;
        Some(lost.into_iter().map(|(number, says)| (number, self.declares(number, "depends on", &says))).collect())
    }

    fn noted<T>(&self, found: Result<T, TooManyWays>) -> Option<T> {
        noted(&self.host.root, &path::join(ADMIN, b"status"), found)
    }

    /// Whether a package can depend on one of these: `false` only where nothing in `status` names them, or what they
    /// provide. Nothing is parsed for it, and most programs are named by nobody.
    fn may_be_needed(&self, removed: &[u32]) -> bool {
        let file = path::join(ADMIN, b"status");
        let records: Vec<&Record> = removed.iter().map(|number| self.record(*number)).collect();
        let Ok(status) = self.host.root.read(&file, Limit::RECORD) else { return true };
        if records.iter().any(|record| record.source != file) {
            return true;
        }
        let mut names: Vec<Vec<u8>> = records.iter().map(|record| record.name.to_vec()).collect();
        for stanza in stanzas(&status).filter(|stanza| records.iter().any(|record| record.line == stanza.line)) {
            names.extend(groups(&stanza.whole("Provides").unwrap_or_default()).into_iter().map(|want| want.name));
        }
        names.iter().any(|name| names_dependency(&status, name))
    }

    fn declares(&self, number: u32, verb: &str, says: &str) -> Evidence {
        let record = &self.records()[number as usize];
        Evidence::line(record.source.clone(), record.line, format!("{} {verb} {says}", record.name))
    }

    /// Who needs whom; recommendations and suggestions where apt keeps packages for their sake.
    pub(super) fn all_requirements(&self) -> Option<Vec<Requirement>> {
        let (rules, _) = self.rules(&mut Vec::new());
        let fields = kept_fields(&rules);
        let nodes = self.nodes(&fields, &mut |_, _| {});
        let evidence = |number: u32, need: &Need| {
            let verb = if need.is_optional() { need.relation.word() } else { "depends on" };
            self.declares(number, verb, &need.says)
        };
        self.noted(Requirement::among(&nodes, &debian::compare, &evidence))
    }

    /// What `apt-get check` complains of.
    pub(super) fn all_unmet(&self) -> Option<Vec<Unmet>> {
        let nodes = self.nodes(&HARD, &mut |_, _| {});
        let found = self.noted(unmet(&nodes, &debian::compare))?;
        let one = |(number, need): (u32, &Need)| Unmet {
            package: number,
            says: need.says.clone(),
            any_of: need.any_of.clone(),
            evidence: self.declares(number, "depends on", &need.says),
        };
        Some(found.into_iter().map(one).collect())
    }

    /// Whether a package depends on what is not installed.
    pub(super) fn lacks_something(&self, package: u32) -> bool {
        self.all_unmet().is_some_and(|unmet| unmet.iter().any(|one| one.package == package))
    }

    /// What apt keeps, and the kernels that are installed.
    fn rules(&self, notes: &mut Vec<Loss>) -> (keep::Rules, Vec<String>) {
        let kernels: Vec<String> = self.records().iter().filter_map(|record| keep::kernel(&record.name)).collect();
        (keep::Rules::read(&self.host.root, &kernels, notes), kernels)
    }

    /// What apt keeps although nothing needs it and nobody asked for it.
    pub(super) fn all_kept(&self) -> Vec<(u32, Evidence)> {
        let (rules, _) = self.rules(&mut Vec::new());
        let mut kept = Vec::new();
        self.each_installed(&mut |number, stanza| {
            let record = &self.records()[number as usize];
            if let Some(why) = kept_for(record, stanza, &rules) {
                let says = format!("{} {why}", record.name);
                kept.push((number, Evidence::line(record.source.clone(), record.line, says)));
            }
        });
        kept
    }

    /// What apt would remove by `autoremove`, but for kernels: see [`keep`].
    pub(super) fn unneeded(&self) -> Option<Unneeded> {
        if self.host.is_image_based() {
            return None;
        }
        let root = &self.host.root;
        let mut notes = Vec::new();
        let marks = Marks::read(root, self.native().clone(), &mut notes);
        let (rules, kernels) = self.rules(&mut notes);
        // By what could not be read, anything may be kept.
        if !notes.is_empty() || !rules.is_whole {
            return None;
        }
        let fields = kept_fields(&rules);
        let mut wanted: Vec<u32> = Vec::new();
        let nodes = self.nodes(&fields, &mut |number, stanza| {
            let record = &self.records()[number as usize];
            if marks.reason(record) != Reason::Dependency || kept_for(record, stanza, &rules).is_some() {
                wanted.push(number);
            }
        });
        let found = self.noted(unneeded(&nodes, &wanted, &debian::compare))?;
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

impl Relations for DpkgInstallation<'_> {
    fn dependents(&self, removed: &[u32]) -> Option<Vec<(u32, Evidence)>> {
        self.dependents_of(removed)
    }

    fn requirements(&self) -> Option<Vec<Requirement>> {
        self.all_requirements()
    }

    fn unmet(&self) -> Option<Vec<Unmet>> {
        self.all_unmet()
    }

    fn meet_needs(&self) -> Option<CommandLine> {
        // Of a package whose needs nothing offers, apt would rather remove it.
        (!self.host.is_image_based()).then(|| CommandLine::new("apt --fix-broken --no-remove install"))
    }

    fn kept(&self) -> Vec<(u32, Evidence)> {
        self.all_kept()
    }

    fn unneeded(&self) -> Option<Unneeded> {
        DpkgInstallation::unneeded(self)
    }

    fn protection(&self, package: u32) -> Option<Evidence> {
        let record = self.record(package);
        let says =
            format!("{} is essential or protected: apt and dpkg do not remove it without being forced", record.name);
        record.essential.then(|| Evidence::line(record.source.clone(), record.line, says))
    }
}

/// The fields that name what apt keeps for a package's sake.
fn kept_fields(rules: &keep::Rules) -> Vec<(&'static str, Relation)> {
    let mut fields = HARD.to_vec();
    fields.extend(rules.recommended.then_some(("Recommends", Relation::Recommends)));
    fields.extend(rules.suggested.then_some(("Suggests", Relation::Suggests)));
    fields
}

/// Why apt keeps a package that nothing needs and nobody asked for, if it does.
fn kept_for(record: &Record, stanza: &Stanza<'_>, rules: &keep::Rules) -> Option<&'static str> {
    let says = |field: &str, value: &[u8]| {
        stanza.whole(field).is_some_and(|found| found.trim_ascii().eq_ignore_ascii_case(value))
    };
    let reasons = [
        (record.essential, "is essential or protected"),
        (says("Important", b"yes"), "is marked as important"),
        (record.want == Selection::Hold, "is on hold"),
        (says("Priority", b"required"), "has the priority required"),
        (*record.name == *b"apt", "is apt itself"),
        (rules.keeps(&record.name), "is among what APT::NeverAutoRemove or APT::VersionedKernelPackages keeps"),
    ];
    reasons.into_iter().find(|(is_so, _)| *is_so).map(|(_, why)| why)
}

/// Whether a name stands in a field that binds hard.
fn names_dependency(status: &[u8], name: &[u8]) -> bool {
    let is_of_name = |at: Option<usize>| {
        let byte = at.and_then(|at| status.get(at));
        byte.is_some_and(|byte| byte.is_ascii_alphanumeric() || b"+-.".contains(byte))
    };
    memchr::memmem::find_iter(status, name).any(|at| {
        if is_of_name(at.checked_sub(1)) || is_of_name(Some(at + name.len())) {
            return false;
        }
        // A line that begins with a blank goes on with the field above it.
        let mut start = at;
        loop {
            start = memchr::memrchr(b'\n', &status[..start]).map_or(0, |end| end + 1);
            if start == 0 || !matches!(status[start], b' ' | b'\t') {
                break;
            }
            start -= 1;
        }
        let field = status[start..].split(|&b| b == b':').next().unwrap_or_default();
        HARD.iter().any(|(hard, _)| field.eq_ignore_ascii_case(hard.as_bytes()))
    })
}

/// `a (>= 1) | b`.
pub(super) fn need(group: &[u8]) -> Option<Need> {
    let any_of: Vec<Want> = group.split(|&b| b == b'|').filter_map(want).collect();
    (!any_of.is_empty()).then(|| Need {
        any_of,
        says: ByteString::from(group.trim_ascii()).to_string(),
        relation: Relation::Requires,
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

    #[test]
    fn a_name_counts_as_a_whole_and_in_fields_that_bind_hard() {
        let status = b"Package: tide\nProvides: gauge\nSuggests: rope\nDescription: a\n knot\n\nPackage: crew\n\
            pre-depends: sail (>= 1) | gauge-2,\n lamp:any\nDepends:\n\thull\n";
        for (name, expected) in [
            ("sail", true),
            ("lamp", true),
            ("hull", true),
            ("gauge", false),
            ("gauge-2", true),
            ("rope", false),
            ("knot", false),
            ("tide", false),
            ("hul", false),
            ("none", false),
        ] {
            assert_eq!(names_dependency(status, name.as_bytes()), expected, "{name}");
        }
    }
}
