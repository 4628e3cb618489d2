//! Who depends on whom: names that packages require, against names and files that others provide. Conditions
//! (`(a if b)`) and what rpm provides itself (`rpmlib(…)`) are taken to be met.

use hashbrown::HashSet;

use super::installation::RpmInstallation;
use crate::backend::dependency_graph::{Need, Node, Want, losers, unneeded};
use crate::backend::{Requirement, Unneeded};
use crate::bytes::ByteString;
use crate::model::{CommandLine, Evidence, Reason, Relation, Remedy, RemedyKind};
use crate::version::rpm;
use whodunit_formats::rpm_header::{Header, tag};

/// Bits of a requirement's flags: less, greater, equal.
const SIGNS: u64 = 2 | 4 | 8;

impl RpmInstallation<'_> {
    /// The packages that cannot stay once some are removed.
    pub(super) fn dependents_of(&self, removed: &[u32]) -> Vec<(u32, Evidence)> {
        let lost = losers(&self.nodes(), removed, &rpm::compare);
        lost.into_iter().map(|(number, says)| (number, self.declares(number, Relation::Requires, &says))).collect()
    }

    /// Who needs whom.
    pub(super) fn all_requirements(&self) -> Vec<Requirement> {
        let evidence = |number: u32, need: &Need| self.declares(number, need.relation, &need.says);
        Requirement::among(&self.nodes(), &rpm::compare, &evidence)
    }

    /// What dnf would remove by `autoremove`: what it noted as a dependency and nothing that was asked for requires,
    /// recommends or suggests. `None` where dnf does not manage the machine, or a reason could not be read.
    pub(super) fn unneeded(&self) -> Option<Unneeded> {
        let records = self.records();
        if records.tool(&self.host.root) != Some("dnf") || !records.notes.is_empty() {
            return None;
        }
        let mut wanted: Vec<u32> = Vec::new();
        let mut came_along: Vec<(u32, Evidence)> = Vec::new();
        self.each(&mut |number, header| {
            let (name, arch) = (header.text(tag::NAME).unwrap_or_default(), header.text(tag::ARCH));
            match records.evidence(name, arch).filter(|_| records.reason(name, arch) == Reason::Dependency) {
                Some(evidence) => came_along.push((number, evidence)),
                None => wanted.push(number),
            }
        });
        let found: HashSet<u32> = unneeded(&self.nodes(), &wanted, &rpm::compare).into_iter().collect();
        came_along.retain(|(number, _)| found.contains(number));
        let remedy = Remedy::new(RemedyKind::Remove, CommandLine::new("dnf autoremove"));
        Some(Unneeded { packages: came_along, remedy: Some(remedy.to("remove all that nothing needs")) })
    }

    fn declares(&self, number: u32, relation: Relation, says: &str) -> Evidence {
        Evidence::entry(self.store.file.clone(), number, format!("{} {says}", relation.word()))
    }

    /// Every package with what it provides and needs.
    fn nodes(&self) -> Vec<Node> {
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
        nodes
    }
}

/// The names in an expression such as `(a >= 1 if b)` (rpm, "Boolean Dependencies"): any of them may be needed.
fn of_expression(text: &[u8]) -> Vec<Want> {
    const WORDS: [&[u8]; 8] = [b"and", b"or", b"if", b"else", b"unless", b"with", b"without", b"("];
    let words =
        text.split(u8::is_ascii_whitespace).map(|word| &word[word.iter().take_while(|b| **b == b'(').count()..]);
    let mut wants = Vec::new();
    let mut is_version = false;
    for word in words {
        // A bracket that closes the expression; those of a name such as `pkgconfig(tide)` are its own.
        let opened = word.iter().filter(|b| **b == b'(').count();
        let mut word = word;
        while word.ends_with(b")") && word.iter().filter(|b| **b == b')').count() > opened {
            word = &word[..word.len() - 1];
        }
        if matches!(word, b"<" | b"<=" | b"=" | b">=" | b">") {
            is_version = true;
        } else if std::mem::take(&mut is_version) || word.is_empty() || WORDS.contains(&word) {
        } else {
            wants.push(Want { name: word.to_vec(), version: None });
        }
    }
    wants
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
    let hard = named(tag::REQUIRE_NAMES, tag::REQUIRE_FLAGS, tag::REQUIRE_VERSIONS);
    let weak = named(tag::RECOMMEND_NAMES, tag::RECOMMEND_FLAGS, tag::RECOMMEND_VERSIONS);
    let hint = named(tag::SUGGEST_NAMES, tag::SUGGEST_FLAGS, tag::SUGGEST_VERSIONS);
    let hard = hard.into_iter().map(|need| (Relation::Requires, need));
    let weak = weak.into_iter().map(|need| (Relation::Recommends, need));
    let hint = hint.into_iter().map(|need| (Relation::Suggests, need));
    for (relation, (name, (flags, version))) in hard.chain(weak).chain(hint) {
        if name.starts_with(b"rpmlib(") {
            continue;
        }
        if name.starts_with(b"(") {
            let relation = if relation == Relation::Requires { Relation::RequiresIf } else { relation };
            let says = ByteString::from(name).to_string();
            node.needs.push(Need { any_of: of_expression(name), says, relation });
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
        node.needs.push(Need { any_of: vec![Want { name: name.to_vec(), version }], says, relation });
    }
    node
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_taken_out_of_expressions() {
        for (text, expected) in [
            ("(tide if buoy)", &["tide", "buoy"][..]),
            ("((tide >= 1.0 or pkgconfig(lamp)) and quay)", &["tide", "pkgconfig(lamp)", "quay"]),
            ("(tide with tide < 2 unless mole else pier)", &["tide", "tide", "mole", "pier"]),
            ("(", &[]),
            ("(tide", &["tide"]),
        ] {
            let names: Vec<String> =
                of_expression(text.as_bytes()).iter().map(|want| ByteString::from(&*want.name).to_string()).collect();
            assert_eq!(names, expected, "{text}");
        }
    }
}
