//! What dnf or zypper would install along with a package, within the metadata that they last fetched: what it requires
//! and recommends, and what supplements the two.
//!
//! Trap: expressions (`(a if b)`) depend on what is installed in the end. They are asked again until nothing is added.

use hashbrown::{HashMap, HashSet};

use super::available::{Available, Ground};
use super::expression::Expression;
use super::installation::{Brief, RpmInstallation};
use super::repositories::{MAIN, main_setting};
use crate::backend::closure::{Present, closure_until};
use crate::backend::dependency_graph::{Need, Node, Want};
use crate::bytes::ByteString;
use crate::model::{Offer, Pulled, PullsIn, Relation, Scope};
use crate::version::rpm;

impl RpmInstallation<'_> {
    pub(super) fn brought_along(&self, offer: &Offer) -> Option<PullsIn> {
        if self.location.scope != Scope::System {
            return None;
        }
        let Ground { available, installed, weak } = self.ground.get_or_init(|| self.ground());
        let place = available.find(&offer.name, offer.version.as_ref()?)?;
        let start = available.candidate(place, *weak).node;
        let mut lookup = |names: &HashSet<Vec<u8>>| available.with_names(names, *weak);
        let before = Present::new(installed, &rpm::compare_needed);
        let mut is_certain = available.notes.is_empty();
        let mut more = |found: &PullsIn| {
            let of_pulled = |one: &Pulled| available.find(&one.name, one.version.as_ref()?);
            let places: Vec<usize> = found.packages.iter().filter_map(of_pulled).chain([place]).collect();
            let new: Vec<Node> = places.iter().map(|place| available.candidate(*place, *weak).node).collect();
            let after = before.clone().with(&new);
            let mut needs: Vec<Need> = Vec::new();
            for (text, relation) in places.iter().flat_map(|place| available.expressions(*place, *weak)) {
                let says = ByteString::from(text).to_string();
                match Expression::parse(text).and_then(|one| one.needs(&|want| after.meets(want))) {
                    Some(all) => {
                        needs.extend(all.into_iter().map(|any_of| Need { any_of, says: says.clone(), relation }));
                    }
                    None => is_certain &= relation.is_optional(),
                }
            }
            if *weak {
                needs.extend(available.supplementing(&before, &after));
            }
            needs
        };
        let mut found = closure_until(&start, installed, &mut lookup, &rpm::compare_needed, &mut more)?;
        found.complete &= is_certain;
        Some(found)
    }

    fn ground(&self) -> Ground {
        let mut available = Available::read(&self.host.root, self.records(), &self.native_arch());
        available.notes.iter().for_each(|note| self.store.note(note.clone()));
        let installed = self.nodes_with(std::mem::take(&mut available.files));
        Ground { available, installed, weak: self.takes_recommended() }
    }

    /// The architecture of most packages.
    fn native_arch(&self) -> Vec<u8> {
        let mut counts: HashMap<ByteString, usize> = HashMap::new();
        self.each(&mut |_, header| {
            if let Some(arch) = Brief::of(header).and_then(|brief| brief.arch).filter(|arch| **arch != *b"noarch") {
                *counts.entry(arch).or_default() += 1;
            }
        });
        let most = counts.into_iter().max_by_key(|(arch, count)| (*count, arch.clone()));
        most.map_or_else(|| std::env::consts::ARCH.as_bytes().to_vec(), |(arch, _)| arch.to_vec())
    }

    /// Whether what a package recommends is installed with it: both tools do so, unless they are told not to
    /// (`dnf.conf(5)`, `install_weak_deps`; `zypp.conf`, `solver.onlyRequires`).
    fn takes_recommended(&self) -> bool {
        let root = &self.host.root;
        let (said, off) = match self.records().tool(root) {
            Some("zypper") => {
                (main_setting(root, b"/etc/zypp/zypp.conf", "solver.onlyRequires"), ["1", "yes", "true", "on"])
            }
            _ => (main_setting(root, MAIN, "install_weak_deps"), ["0", "no", "false", "off"]),
        };
        said.is_none_or(|said| !off.contains(&&*said.to_ascii_lowercase()))
    }
}

impl Available {
    /// The packages that supplement what is there now, and did not before.
    fn supplementing(&self, before: &Present<'_>, after: &Present<'_>) -> Vec<Need> {
        let holds = |want: &Want, present: &Present<'_>| match want.name.starts_with(b"(") {
            true => Expression::parse(&want.name).is_some_and(|one| one.holds(&|want| present.meets(want))),
            false => present.meets(want),
        };
        let new = self.supplements().filter(|(_, want)| holds(want, after) && !holds(want, before));
        new.map(|(name, _)| Need::of(name, Relation::Recommends)).collect()
    }
}
